"""Who may ask, and what each should have, is in memory: whatever changes it counts at once."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor

import pytest

from conftest import Wire, assignment, eventually, group, ruleset, under
from portero.core.nouns.assignment import NewAssignment

pytestmark = pytest.mark.process


def holding(wire: Wire) -> dict[str, object]:
    """What the device says once it has taken what it should."""
    _, offered = wire.sync()
    return {"have": offered["bundle"], "revision": offered["revision"]}


@pytest.mark.parametrize("let_go", ["revoke", "retire"])
def test_a_device_that_was_let_go_is_refused_at_once(service, portero, let_go):
    wire = Wire(service, portero, f"let-go-{let_go}")
    holds = holding(wire)
    assert wire.check_in(**holds).status_code == 204
    getattr(portero.devices, let_go)(wire.id)
    assert wire.check_in(**holds).status_code == 401
    assert wire.http.get("/wait", params={"have": holds["have"]}).status_code == 401


def test_whatever_changes_what_a_device_should_have_is_told_at_its_next_check_in(service, portero):
    wire = Wire(service, portero, "moved", unit="brackwater/quay")
    portero.rulesets.create(ruleset("quiet", music="block"))
    portero.groups.create(group("quay", all=[under("brackwater/quay")]))
    portero.groups.create(group("marked", all=[{"field": "labels.berth", "op": "is", "value": "7"}]))
    named = NewAssignment.model_validate({"key": "alone", "ruleset": "quiet", "to": {"device": "moved"}})

    def changes():
        yield "an assignment", lambda: portero.assignments.create(assignment("quiet", "quay"))
        yield "a ruleset", lambda: portero.rulesets.put(ruleset("quiet", music="warn"), version=None)
        yield "one for it alone", lambda: portero.assignments.create(named)
        yield "and away", lambda: portero.assignments.remove("alone")
        yield "a label", lambda: portero.devices.set_labels(wire.id, {"berth": "7"})

    for what, change in changes():
        holds = holding(wire)
        assert wire.check_in(**holds).status_code == 204
        change()
        assert wire.check_in(**holds).status_code == 200, what


def test_when_a_device_was_heard_of_is_written_within_a_second_or_so(service, portero):
    wire = Wire(service, portero, "heard")
    holds = holding(wire)
    before = portero.devices.get(wire.id).last_heard
    assert wire.check_in(**holds).status_code == 204
    eventually(lambda: portero.devices.get(wire.id).last_heard > before, timeout=5)


def test_many_that_say_something_at_once_are_noted_each_by_itself(service, portero):
    wires = [Wire(service, portero, f"crowd-{number}") for number in range(24)]

    def tell(pair: tuple[int, Wire]) -> int:
        number, wire = pair
        kind = "laptop" if number % 6 else "no such kind"
        return wire.check_in(
            facts={"hostname": f"crowd-{number}", "kind": kind, "unit": "brackwater/crowd"}
        ).status_code

    with ThreadPoolExecutor(24) as pool:
        told = list(pool.map(tell, enumerate(wires)))
    assert told == [200 if number % 6 else 422 for number in range(24)]
    kinds = {device.hostname: device.facts.kind.value for device in portero.devices.list(unit="brackwater/crowd")}
    assert kinds == {f"crowd-{number}": "laptop" for number in range(24) if number % 6}


@pytest.mark.parametrize("hold", ["nan", "-1", "inf", "1e3", "soon", "9" * 40])
def test_a_wait_for_no_time_that_there_is_is_refused(service, portero, hold):
    wire = Wire(service, portero, f"waits-{hold[:6]}")
    holds = holding(wire)
    answer = wire.http.get("/wait", params={"have": holds["have"], "hold": hold})
    assert answer.status_code == 400
    assert "for how many seconds" in answer.json()["detail"]
