"""The list for Chromium: it takes Portero's patterns as they are."""

from __future__ import annotations

from collections.abc import Sequence

from portero.core.browsers.lists import Translation
from portero.core.browsers.needless import Listed


def translate(listed: Sequence[Listed], kept: Sequence[int]) -> Translation:
    """What Chromium is handed for those of a merged list that are kept, in its order."""
    entries = [(listed[place].allow, str(listed[place].pattern), place) for place in kept]
    return Translation(
        blocks=[(text, place) for allow, text, place in entries if not allow],
        allows=[(text, place) for allow, text, place in entries if allow],
    )
