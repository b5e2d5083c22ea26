"""Probe sets that are run by themselves: when, how often at the most, and as what."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from pydantic import ValidationError

from portero.core.nouns.device import Facts
from portero.core.nouns.enrolment import NewEnrolmentCode
from portero.core.nouns.probe_set import ProbeSet
from portero.service.keepers import open_keepers

NOON = datetime(2026, 11, 20, 12, tzinfo=UTC)


def probe_set(every: str | None, **more) -> ProbeSet:
    probes = [{"visit": "http://gambling.category.test/", "expect": "allow"}]
    return ProbeSet.model_validate({"key": "nightly", "to": ["whole-fleet"], "probes": probes, "every": every, **more})


@pytest.mark.parametrize(
    ("every", "zone", "after", "expected"),
    [
        ("FREQ=DAILY;BYHOUR=6;BYMINUTE=30", "UTC", NOON, "2026-11-21T06:30:00+00:00"),
        ("FREQ=DAILY;BYHOUR=6", "Europe/Berlin", NOON, "2026-11-21T05:00:00+00:00"),
        ("rrule:freq=weekly;byday=MO;byhour=7", "UTC", NOON, "2026-11-23T07:00:00+00:00"),
        ("FREQ=HOURLY", "UTC", NOON, "2026-11-20T13:00:00+00:00"),
        ("FREQ=YEARLY;BYMONTH=1;BYMONTHDAY=1;BYHOUR=0", "UTC", NOON, "2027-01-01T00:00:00+00:00"),
        ("FREQ=DAILY;BYHOUR=6", "Europe/Berlin", datetime(2026, 3, 28, 12, tzinfo=UTC), "2026-03-29T04:00:00+00:00"),
    ],
)
def test_when_it_is_due_next(every, zone, after, expected):
    found = probe_set(every).next_run(after, ZoneInfo(zone))
    assert found.astimezone(UTC).isoformat() == expected


@pytest.mark.parametrize(
    ("every", "said"),
    [
        ("every morning", "is no rule of RFC 5545"),
        ("FREQ=MINUTELY", "hourly at the most"),
        ("FREQ=HOURLY;BYMINUTE=0,30", "name one minute"),
        ("FREQ=DAILY;COUNT=3", "without an end"),
        ("", "at least 1"),
    ],
)
def test_what_is_no_rule_or_too_often_is_refused(every, said):
    with pytest.raises(ValidationError, match=said):
        probe_set(every)


def test_it_is_run_when_it_is_due_and_what_was_missed_is_left_out(tmp_path):
    now = [NOON]
    keepers = open_keepers(tmp_path, clock=lambda: now[0].timestamp())
    try:
        code = keepers.enrolment.make_code(NewEnrolmentCode(uses=1), "test").code
        keepers.enrolment.join(code, Facts(hostname="desk-1"))
        made = probe_set("FREQ=DAILY;BYHOUR=6", every_kind="predicted")
        keepers.estate.change(lambda snapshot: snapshot.estate.replacing(probe_sets=(made,)), by="test")

        def after(hours: float) -> list[str]:
            now[0] += timedelta(hours=hours)
            keepers.repeating.let_time_pass()
            found = keepers.runs.page(None, 50).items
            for one in found:
                keepers.runs.wait(one.id, 10)
            return [one.by for one in found]

        assert after(0) == []
        assert after(17.9) == []
        assert after(0.2) == ["the service"]
        assert after(1) == ["the service"]
        assert len(after(24 * 5)) == 2, "one, however many were missed"
        keepers.estate.change(lambda snapshot: snapshot.estate.replacing(probe_sets=()), by="test")
        assert len(after(24 * 5)) == 2
    finally:
        keepers.close()
