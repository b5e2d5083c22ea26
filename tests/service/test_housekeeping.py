"""What is too old is dropped a little at a time, and what nobody holds any more is collected."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest

from conftest import Wire, assignment, ruleset, run_portero, signed
from portero.core.nouns.activity import ActivityBatch
from portero.service import housekeeping
from portero.store import activity, pruning

DAY = 86_400.0


@pytest.fixture(scope="module")
def device(service, portero):
    return Wire(service, portero, "old-hand")


def report(service, device, batch: int, days_ago: list[float]) -> None:
    """Attempts and counts of so many days ago, as if they had come then."""
    now = service.keepers.now()
    for number, days in enumerate(days_ago):
        at = f"{_iso(now - days * DAY)}"
        attempt = {"seq": batch * 1000 + number, "at": at, "url": "http://a.example/", "verdict": "block"}
        counts = [{"hour": at, "host": f"b-{batch}-{number}.example", "visits": 1}]
        host = f"a-{batch}-{number}.example"
        document = {"batch": batch * 1000 + number, "attempts": [{**attempt, "host": host}], "counts": counts}
        with service.keepers.store.writing() as connection:
            activity.keep_batch(connection, device.id, ActivityBatch.model_validate(document), now - days * DAY)


def _iso(seconds: float) -> str:
    return datetime.fromtimestamp(seconds, UTC).isoformat()


def numbers(service) -> tuple[int, int, int]:
    with service.keepers.store.reading() as connection:
        return tuple(
            connection.execute(f"SELECT count(*) FROM {table}").fetchone()[0]
            for table in ("activity", "visit_count", "host_seen")
        )


def test_what_is_older_than_the_settings_say_is_dropped_in_steps(service, portero, device, monkeypatch):
    report(service, device, 1, [1, 50, 91, 179, 181, 400])
    assert numbers(service) == (6, 6, 12)
    monkeypatch.setattr(pruning, "STEP", 2)
    for _ in range(10):
        service.keepers.housekeeper.let_time_pass()
    # attempts for 180 days; where hosts were seen for 90
    assert numbers(service) == (4, 2, 4)
    portero.settings.change(activity_days=60, visit_days=10)
    for _ in range(10):
        service.keepers.housekeeper.let_time_pass()
    assert numbers(service) == (2, 1, 2)
    report(service, device, 2, [0.5, 20])
    for _ in range(10):
        service.keepers.housekeeper.let_time_pass()
    assert numbers(service) == (4, 2, 4), "a walk that has come to its end begins anew"


def test_bundles_that_nobody_holds_are_collected(service, portero, device, monkeypatch):
    monkeypatch.setattr(housekeeping, "GRACE", -1.0)

    def kept() -> set[str]:
        with service.keepers.store.reading() as connection:
            return {row[0] for row in connection.execute("SELECT digest FROM bundle")}

    held = device.sync()[1]["bundle"]
    for number in range(3):
        portero.rulesets.create(ruleset(f"rules-{number}", games="block"))
        portero.assignments.create(assignment(f"rules-{number}", "whole-fleet"))
    assert len(kept()) >= 4
    service.keepers.housekeeper.collect()
    wanted = device.check_in().json()["bundle"]
    assert kept() == {held, wanted}, "what the device has, from which it comes by a difference, and what it should have"
    device.sync()
    service.keepers.housekeeper.collect()
    assert kept() == {wanted}


def test_what_was_made_lately_is_left_alone(service, portero, device):
    with service.keepers.store.reading() as connection:
        before = connection.execute("SELECT count(*) FROM bundle").fetchone()[0]
    portero.rulesets.create(ruleset("late", news="block"))
    portero.assignments.create(assignment("late", "whole-fleet"))
    service.keepers.housekeeper.collect()
    with service.keepers.store.reading() as connection:
        assert connection.execute("SELECT count(*) FROM bundle").fetchone()[0] == before + 1


def test_the_command(service, portero):
    environment = {
        "PORTERO_URL": service.url,
        "PORTERO_TOKEN": signed(portero)["Authorization"].removeprefix("Bearer "),
    }
    told = run_portero("activity", "retention", "--activity-days", 365, env=environment).stdout
    assert "kept for 365 days" in told
    assert portero.settings.get().activity_days == 365
    told = run_portero("activity", "retention", "--visit-days", 0, env=environment, expect=2).stderr
    assert "Visit days 0 is too little" in told
