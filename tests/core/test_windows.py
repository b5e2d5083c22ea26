"""Windows on wall clocks: over midnight, days off, zones, and the nights on which clocks change."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from portero.core.matching.windows import Windows
from portero.core.nouns.schedule import Schedule

DAYS = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"]


def windows(*listed: tuple[list[str], str, str], zone: str = "Europe/Berlin", off: tuple[str, ...] = ()) -> Windows:
    spans = [{"days": days, "from": begin, "to": end} for days, begin, end in listed]
    return Windows.of(Schedule.model_validate({"key": "x", "zone": zone, "windows": spans, "days_off": off}))


def at(text: str) -> datetime:
    return datetime.fromisoformat(text)


@pytest.mark.parametrize(
    ("moment", "is_open"),
    [
        ("2026-11-27T22:59:59+01:00", False),
        ("2026-11-27T23:00:00+01:00", True),
        ("2026-11-28T05:59:59+01:00", True),
        ("2026-11-28T06:00:00+01:00", False),
        ("2026-11-28T23:30:00+01:00", False),
    ],
)
def test_a_window_over_midnight_runs_out_on_the_next_day(moment, is_open):
    assert windows((["fri"], "23:00", "06:00")).is_open(at(moment)) is is_open


def test_from_equal_to_to_is_a_day_and_night():
    whole = windows((["mon"], "08:00", "08:00"))
    hours = [at("2026-11-23T07:00:00+01:00") + timedelta(hours=n) for n in range(26)]
    assert [whole.is_open(hour) for hour in hours] == [False] + [True] * 24 + [False]


def test_on_a_day_off_no_window_opens_and_that_of_the_day_before_runs_out():
    shut = windows((["thu", "fri"], "22:00", "02:00"), off=("2026-11-27",))
    assert shut.is_open(at("2026-11-27T01:00:00+01:00"))
    assert not shut.is_open(at("2026-11-27T23:00:00+01:00"))
    assert not shut.is_open(at("2026-11-28T01:00:00+01:00"))


def test_the_wall_clock_of_the_device_or_of_the_named_zone_counts():
    noon = (["wed"], "12:00", "13:00")
    assert windows(noon, zone="device").is_open(at("2026-11-25T12:30:00+01:00"), "Europe/Berlin")
    assert not windows(noon, zone="device").is_open(at("2026-11-25T12:30:00+01:00"), "Atlantic/Faroe")
    assert windows(noon, zone="device").is_open(at("2026-11-25T12:30:00Z")), "no zone known: UTC"
    assert windows(noon).is_open(at("2026-11-25T11:30:00Z"), "Atlantic/Faroe")


@pytest.mark.parametrize(
    ("moment", "is_open"),
    [
        # clocks go from 02:00 to 03:00 on 2027-03-28
        ("2027-03-28T00:59:59Z", False),
        ("2027-03-28T01:00:00Z", True),
        ("2027-03-28T01:30:00Z", False),
        # and from 03:00 back to 02:00 on 2026-10-25: the hour from two to three is lived through twice
        ("2026-10-25T00:30:00Z", True),
        ("2026-10-25T01:29:59Z", True),
        ("2026-10-25T02:30:00Z", False),
    ],
)
def test_on_the_nights_on_which_clocks_change(moment, is_open):
    spring, autumn = windows((["sun"], "02:30", "03:30")), windows((["sun"], "02:00", "03:00"))
    assert (spring if moment.startswith("2027") else autumn).is_open(at(moment)) is is_open


CLOCK = st.tuples(st.integers(0, 23), st.sampled_from([0, 15, 30, 45])).map(lambda one: f"{one[0]:02}:{one[1]:02}")
SPAN = st.tuples(st.lists(st.sampled_from(DAYS), min_size=1, unique=True), CLOCK, CLOCK)
MOMENTS = st.integers(0, 400 * 24 * 4).map(lambda n: datetime(2026, 9, 1, tzinfo=UTC) + timedelta(minutes=15 * n))


@settings(max_examples=120)
@given(
    st.lists(SPAN, min_size=1, max_size=3),
    st.sampled_from(["Europe/Berlin", "Pacific/Auckland", "Australia/Lord_Howe", "UTC"]),
    MOMENTS,
)
def test_the_next_change_is_the_first_moment_at_which_it_differs(spans, zone, moment):
    made = windows(*spans, zone=zone)
    change = made.next_change(moment)
    now, step = made.is_open(moment), timedelta(minutes=15)
    # every edge lies on a quarter of an hour, clock changes too
    later = next((n for n in range(1, 9 * 24 * 4) if made.is_open(moment + n * step) is not now), None)
    expected = None if later is None else moment + later * step
    assert (change if change and change - moment < timedelta(days=9) else None) == expected


def test_what_never_changes_has_no_next_change():
    always = windows((DAYS, "00:00", "00:00"))
    assert always.next_change(at("2026-11-25T12:00:00Z")) is None


@pytest.mark.parametrize("bad", ["24:00", "7:00", "12:60", "noon", ""])
def test_what_is_no_time_of_day_is_refused(bad):
    with pytest.raises(ValueError, match="from"):
        windows((["mon"], bad, "18:00"))
