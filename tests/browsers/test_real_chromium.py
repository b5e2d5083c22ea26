"""The real Chromium under managed lists of sites."""

from __future__ import annotations

from comparing import RealBrowser


class TestChromium(RealBrowser):
    family = "chromium"
