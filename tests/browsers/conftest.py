"""The deliberate mistakes of a family, one test each."""

from __future__ import annotations

import pytest
from comparing import RealBrowser
from mistakes import MISTAKES


def pytest_generate_tests(metafunc: pytest.Metafunc) -> None:
    if "mistake" in metafunc.fixturenames and metafunc.cls and issubclass(metafunc.cls, RealBrowser):
        metafunc.parametrize("mistake", MISTAKES[metafunc.cls.family])
