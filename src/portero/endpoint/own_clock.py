"""How far this machine's clock is from the service's, by the `Date` of its answers (RFC 9110, section 6.6.1)."""

from __future__ import annotations

from datetime import UTC, datetime
from email.utils import parsedate_to_datetime

from portero.core.nouns.device import MOST_CLOCK_AHEAD

LEAST_AHEAD = 60
"""So many seconds it may be off without a word: an answer takes its time, too."""
STEADY = 30
"""A difference that changes by less than so many seconds is still the one that was found."""


def clock_ahead(now: datetime, date: str | None, known: int | None) -> int | None:
    """Seconds that a clock which says `now` is ahead, as an answer with this `Date` comes; None where it is right, or
    nothing can be told. `known` is what was found before.
    """
    try:
        theirs = parsedate_to_datetime(date or "")
    except ValueError:
        return known
    found = round((now - (theirs if theirs.tzinfo else theirs.replace(tzinfo=UTC))).total_seconds())
    if abs(found) < LEAST_AHEAD:
        return None
    if known is not None and abs(found - known) < STEADY:
        return known
    return max(-MOST_CLOCK_AHEAD, min(found, MOST_CLOCK_AHEAD))
