"""Moments as people write them: read on a clock, and said back in full."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from portero.core.nouns.moments import moment_in_full, read_moment

BERLIN = ZoneInfo("Europe/Berlin")
NOW = datetime(2026, 11, 28, 23, 30, tzinfo=UTC)
"""In Berlin it is the next day already, at half past midnight."""


@pytest.mark.parametrize(
    ("text", "ends", "expected"),
    [
        ("2026-12-01", False, "2026-11-30T23:00:00Z"),
        ("2026-12-01", True, "2026-12-01T23:00:00Z"),
        ("2026-12-01 18:00", True, "2026-12-01T17:00:00Z"),
        ("2026-07-01 18:00", False, "2026-07-01T16:00:00Z"),
        ("2026-12-01T18:00:00Z", False, "2026-12-01T18:00:00Z"),
        ("2026-12-01T18:00:00-05:00", False, "2026-12-01T23:00:00Z"),
        ("today", False, "2026-11-28T23:00:00Z"),
        ("tomorrow", True, "2026-11-30T23:00:00Z"),
        ("Yesterday", False, "2026-11-27T23:00:00Z"),
        ("in 3 days", True, "2026-12-01T23:30:00Z"),
        ("in 90 minutes", False, "2026-11-29T01:00:00Z"),
        ("2 hours ago", False, "2026-11-28T21:30:00Z"),
        ("  in 1 week ", False, "2026-12-05T23:30:00Z"),
    ],
)
def test_a_moment_is_read_on_the_clock_of_the_zone(text: str, ends: bool, expected: str) -> None:
    assert f"{read_moment(text, BERLIN, NOW, ends=ends):%Y-%m-%dT%H:%M:%SZ}" == expected


def test_days_ahead_keep_the_time_of_day_where_clocks_are_changed() -> None:
    before = datetime(2026, 10, 24, 10, tzinfo=UTC)  # noon in Berlin, the day before
    assert read_moment("in 2 days", BERLIN, before) == datetime(2026, 10, 26, 11, tzinfo=UTC)
    assert read_moment("in 48 hours", BERLIN, before) == datetime(2026, 10, 26, 10, tzinfo=UTC)


@pytest.mark.parametrize(
    "text", ["", "soon", "2026-13-01", "2026-02-30", "in 3", "in -3 days", "3 days", "in 2 days ago"]
)
def test_what_is_no_moment_is_told_with_the_ways_to_write_one(text: str) -> None:
    with pytest.raises(ValueError, match="is not a moment; write a day"):
        read_moment(text, BERLIN, NOW)


@pytest.mark.parametrize("text", ["9999-12-31", "0001-01-01 00:00"])
def test_no_moment_goes_beyond_the_calendar(text: str) -> None:
    with pytest.raises(ValueError, match="is not a moment"):
        read_moment(text, BERLIN, NOW, ends=True)


@given(
    st.datetimes(datetime(1980, 1, 1), datetime(2090, 1, 1)), st.sampled_from(["UTC", "Europe/Berlin", "Asia/Kolkata"])
)
def test_what_is_said_back_is_read_as_the_same_moment(wall: datetime, name: str) -> None:
    zone = ZoneInfo(name)
    moment = wall.replace(tzinfo=UTC, second=0, microsecond=0)
    full = moment_in_full(moment, zone, name)
    assert read_moment(full.rsplit(", ", 1)[-1], zone, NOW) == moment
    if name != "UTC":
        there = read_moment(full.split(" ", 1)[1].partition(" in ")[0], zone, NOW)
        # the hour that comes twice is the only one that a wall clock cannot tell apart
        assert there == moment or moment - there == timedelta(hours=1)
