"""How far a clock is off, by the dates of the service's answers."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from email.utils import format_datetime

import pytest

from portero.endpoint.own_clock import clock_ahead

NOW = datetime(2026, 11, 20, 12, tzinfo=UTC)


@pytest.mark.parametrize(
    ("apart", "known", "found"),
    [
        (0, None, None),
        (59, None, None),
        (-59, 3_600, None),
        (3_600, None, 3_600),
        (-90, None, -90),
        # an answer takes now longer, now shorter: what was found stays, until it is another
        (3_612, 3_600, 3_600),
        (3_640, 3_600, 3_640),
        # a clock that begins in 1970, and one that is out of all bounds
        (-1_795_176_000, None, -1_795_176_000),
        (-4_100_000_000, None, -4_000_000_000),
    ],
)
def test_a_clock_is_off_by_what_the_answer_says(apart, known, found):
    service = NOW
    assert clock_ahead(service + timedelta(seconds=apart), format_datetime(service, usegmt=True), known) == found


@pytest.mark.parametrize("date", [None, "", "yesterday", "Fri, 99 Nov 2026 12:00:00 GMT"])
def test_an_answer_without_a_date_tells_nothing(date):
    assert clock_ahead(NOW, date, 3_600) == 3_600
    assert clock_ahead(NOW, date, None) is None
