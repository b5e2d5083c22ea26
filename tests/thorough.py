"""How often something is tried: enough to notice in every test run, many times more in `make explore`."""

from __future__ import annotations

import os

EXPLORING = os.environ.get("PORTERO_EXPLORE") == "1"


def times(usual: int, exploring: int) -> int:
    """So many times in a test run, and so many when exploring."""
    return exploring if EXPLORING else usual
