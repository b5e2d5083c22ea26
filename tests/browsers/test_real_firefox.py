"""The real Firefox under managed lists of sites."""

from __future__ import annotations

from comparing import RealBrowser


class TestFirefox(RealBrowser):
    family = "firefox"
