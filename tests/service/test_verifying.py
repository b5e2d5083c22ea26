"""Predicted runs: against deciding every machine by itself; kept, listed, followed and refused."""

from __future__ import annotations

import random
import threading

import pytest

from conftest import Wire, assignment, group, ruleset, under
from made_estates import BASE, Maker
from portero.client import GateFailed, Invalid, NotAllowed, NotFound, Portero
from portero.core.nouns.compared import AttemptAnywhere
from portero.core.nouns.device import Facts
from portero.core.nouns.enrolment import NewEnrolmentCode
from portero.core.nouns.estate import Estate
from portero.core.nouns.probe_set import ProbeSet
from portero.core.nouns.run import NewRun
from portero.service.keepers import open_keepers
from portero.store import devices
from portero.store.devices import Applied
from serving import PASSWORD
from thorough import times

MACHINES = 40
LAYERS = ("enforcing", "enforcing", "enforcing", "observing", "off", None)


def machine(number: int, rng: random.Random, maker: Maker) -> Facts:
    """A machine like one of the maker's, otherwise in what may count and in what never does."""
    own = dict(rng.choice(maker.facts()["devices"]))
    name = rng.choice(("chromium", "gullwing"))
    program = {"product": rng.choice(("Deckhand Viewer", "Gullwing")), "path": f"/opt/{name}-{number % 3}"}
    own |= {
        "hostname": f"{own['hostname']}-{number}" if rng.random() < 0.8 else f"lone-{number}",
        "serial": f"S-{number}",
        "addresses": [f"198.51.100.{number}" if rng.random() < 0.3 else f"192.0.2.{number}"],
        "browsers": [{"name": name, "version": "140.0", "managed": rng.random() < 0.7, "application": program}],
        "layers": {name: mode for name in ("filter", "browser", "startup") if (mode := rng.choice(LAYERS))},
    }
    return Facts.model_validate(own)


def probe_of(attempt: dict, rng: random.Random, targets: list[object]) -> dict:
    tried = {"start": attempt["start"]} if "start" in attempt else {"visit": attempt["url"]}
    browser = {"browser": rng.choice(("chromium", "gullwing"))} if "visit" in tried and rng.random() < 0.5 else {}
    more = {name: attempt[name] for name in ("user", "at", "place") if name in attempt}
    return {"to": rng.choice(targets), **tried, **more, **browser, "expect": rng.choice(("allow", "warn", "block"))}


@pytest.mark.parametrize("seed", range(times(6, 60)))
def test_a_run_says_what_deciding_on_every_machine_by_itself_says(seed, tmp_path):
    maker, rng = Maker(seed, BASE), random.Random(seed)
    keepers = open_keepers(tmp_path)
    try:
        estate = Estate.model_validate(maker.estate())
        keepers.estate.change(lambda _snapshot: estate, by="test")
        hostnames = _fill(keepers, rng, maker)
        targets: list[object] = ["whole-fleet", *estate.group_order, {"device": rng.choice(hostnames)}]
        probes = [probe_of(maker.attempt(), rng, targets) for _ in range(12)]
        asked = ProbeSet.model_validate({"key": "asked", "probes": probes})
        keepers.estate.change(lambda snapshot: snapshot.estate.replacing(probe_sets=(asked,)), by="test")
        run = keepers.verifying.start(NewRun(), "test")
        run = keepers.runs.wait(run.id, 60)
        assert run.state == "done", run.problem
        for result, probe in zip(run.results, asked.probes, strict=True):
            _compare(keepers, run.id, result, probe)
    finally:
        keepers.close()


def _fill(keepers, rng: random.Random, maker: Maker) -> list[str]:
    """Machines that hold the newest bundle, an older one, or none."""
    code = keepers.enrolment.make_code(NewEnrolmentCode(uses=MACHINES), "test").code
    made = [machine(number, rng, maker) for number in range(MACHINES)]
    ids = [keepers.enrolment.join(code, facts)[0] for facts in made]
    for share in (0.8, 0.6):
        with keepers.store.writing() as connection:
            held = [keepers.fleet.device(id) for id in ids if rng.random() < share]
            applied = [Applied(one.id, one.bundle, 1, 1, None, 600) for one in held if one.bundle]
            devices.note_all_applied(connection, applied, keepers.now())
        keepers.estate.change(without_the_last_assignment, by="test")
    return [facts.hostname for facts in made]


def without_the_last_assignment(snapshot) -> Estate:
    return snapshot.estate.replacing(assignments=snapshot.estate.assignments[:-1])


def _compare(keepers, run: int, result, probe) -> None:
    passed, meant, failed = set(), set(), set()
    for member in keepers.fleet.members:
        device = keepers.fleet.device(member.id)
        named = None if isinstance(probe.to, str) else probe.to.device
        if (probe.to not in device.groups) if named is None else (named not in (device.id, device.hostname)):
            continue
        told = keepers.checks.explain(probe.attempt(device.id))
        (passed if told.effective.verdict is probe.expect else failed).add(device.id)
        if told.intended.verdict is probe.expect:
            meant.add(device.id)
    assert (result.devices, result.passed, result.meant) == (len(passed | failed), len(passed), len(meant))
    told_of = [
        device.id
        for code in {cause.code for cause in result.causes}
        for device in keepers.runs.devices(run, result.set, result.number, code)
    ]
    assert sorted(told_of) == sorted(failed)
    assert sum(cause.devices for cause in result.causes) == len(failed)


def test_machines_that_fare_alike_are_decided_once(tmp_path, monkeypatch):
    keepers = open_keepers(tmp_path)
    try:
        code = keepers.enrolment.make_code(NewEnrolmentCode(uses=50), "test").code
        for number in range(50):
            facts = {"hostname": f"desk-{number}", "layers": {"filter": "enforcing"}, "serial": f"S-{number}"}
            keepers.enrolment.join(code, Facts.model_validate(facts))
        standings = keepers.standings.alike(keepers.estate.snapshot.estate, ())
        assert [len(one.devices) for one in standings] == [50]
    finally:
        keepers.close()


# --- the service ---


@pytest.fixture(scope="module")
def fleet(service, portero):
    """Two machines of an office, one of which only records; and a set with a probe and a counter-probe."""
    portero.groups.create(group("office", all=[under("brackwater/office")]))
    portero.rulesets.create(ruleset("no-gambling", gambling="block"))
    portero.assignments.create(assignment("no-gambling", "office"))
    probes = [
        {"visit": "http://gambling.category.test/", "expect": "block", "ruleset": "no-gambling"},
        {"visit": "http://news.category.test/", "expect": "allow"},
        {"visit": "http://gambling.category.test/", "expect": "block", "layer": "browser"},
        {"visit": "http://gambling.category.test/", "expect": "block", "ruleset": "other"},
    ]
    portero.probe_sets.create(ProbeSet.model_validate({"key": "office-holds", "to": ["office"], "probes": probes}))
    layers = {"filter": "enforcing", "browser": "enforcing"}
    wires = [
        Wire(service, portero, "desk-1", unit="brackwater/office", layers=layers),
        Wire(service, portero, "desk-2", unit="brackwater/office", layers={**layers, "filter": "observing"}),
    ]
    for wire in wires:
        wire.sync()
    return wires


def test_a_run_tells_causes_examples_and_what_is_otherwise_than_expected(portero, fleet):
    run = portero.runs.create(NewRun(), wait=20)
    assert (run.state, run.devices, run.probes, run.failed) == ("done", 2, 4, 3)
    held, passing, layer, rule = run.results
    assert held.sentence == "Blocks on 1 of 2 machines; 1 does not."
    assert [(one.code, one.devices, one.examples) for one in held.causes] == [("layer-off-machine", 1, ("desk-2",))]
    assert (passing.failed, passing.sentence) == (0, "Passes on all 2 machines.")
    assert {one.code for one in layer.causes} == {"other-layer", "layer-off-machine"}
    assert {one.code for one in rule.causes} == {"other-rule", "layer-off-machine"}
    assert [(one.ruleset, one.selector) for one in held.decided_by] == [("no-gambling", "category gambling")]
    machines = portero.runs.devices(run.id, set="office-holds", number=1, cause="layer-off-machine")
    assert [one.hostname for one in machines] == ["desk-2"]
    assert next(portero.runs.list()).id == run.id


def test_a_run_may_be_of_a_part_of_the_fleet_and_is_followed(portero, fleet):
    *_, run = portero.runs.follow(NewRun(sets=("office-holds",), on=("desk-1",)))
    assert (run.devices, run.failed) == (1, 2)
    nowhere = portero.runs.create(NewRun(on=("unclaimed",)), wait=20)
    assert (nowhere.nowhere, nowhere.failed, nowhere.sentence) == (4, 0, "No probe counts on any machine there.")


def test_what_there_is_not_is_refused_by_name(portero, fleet):
    with pytest.raises(Invalid, match="office-hold"):
        portero.runs.create(NewRun(sets=("office-hold",)))
    with pytest.raises(Invalid, match="nobody-here"):
        portero.runs.create(NewRun(on=("nobody-here",)))
    with pytest.raises(NotFound):
        portero.runs.get(4_711)


def test_a_reader_looks_at_runs_and_starts_none(service, portero, fleet):
    service.add("auditor", "reader")
    with service.client("auditor", PASSWORD) as reader:
        assert list(reader.runs.list())
        with pytest.raises(NotAllowed):
            reader.runs.create(NewRun())


def test_what_a_run_found_stands_in_the_worklist_until_a_better_one(portero, fleet):
    portero.runs.create(NewRun(), wait=20)
    (item,) = (one for one in portero.worklist.get().items if one.kind == "run")
    assert "3 of 4 probes do not come out as expected in run" in item.sentence
    portero.runs.create(NewRun(on=("unclaimed",)), wait=20)
    assert not [one for one in portero.worklist.get().items if one.kind == "run"]


def test_who_may_not_see_names_learns_from_none_where_somebody_is(service, portero, fleet):
    Wire(
        service, portero, "desk-3", unit="brackwater/yard", signed_in=["clerk-2"], layers={"filter": "enforcing"}
    ).sync()
    asked = AttemptAnywhere(url="http://gambling.category.test/", user="clerk-2")
    assert [one.device for one in portero.compared.person(asked).items] == ["desk-3"]
    service.add("nameless", "reader", sees_names=False)
    with service.client("nameless", PASSWORD) as reader:
        assert reader.compared.person(asked).items == ()


def test_a_run_that_the_service_did_not_end_has_failed(tmp_path):
    keepers = open_keepers(tmp_path)
    asked = ProbeSet.model_validate(
        {"key": "one", "to": ["whole-fleet"], "probes": [{"visit": "a.test", "expect": "block"}]}
    )
    keepers.estate.change(lambda snapshot: snapshot.estate.replacing(probe_sets=(asked,)), by="test")
    hold = threading.Event()
    keepers.verifying._worker.submit(hold.wait)
    run = keepers.verifying.start(NewRun(), "test")
    with keepers.store.writing() as connection:
        assert connection.execute("SELECT summary ->> '$.state' FROM run").fetchone()[0] == "running"
    hold.set()
    assert keepers.runs.wait(run.id, 10).state == "done"
    keepers.runs.note(run)
    assert keepers.runs.get(run.id).state == "done", "who tells late how far it was does not open it again"
    with keepers.store.writing() as connection:
        connection.execute("UPDATE run SET summary = json_set(summary, '$.state', 'running')")
    keepers.close()
    again = open_keepers(tmp_path)
    assert again.runs.get(run.id).state == "failed"
    assert "start it again" in (again.runs.get(run.id).problem or "")
    again.close()


# --- the gate ---


def test_a_change_that_fails_the_gate_is_refused_with_the_probe_and_the_rule(service, portero, fleet):
    portero.settings.change(gate=("office-holds",))
    kept = portero.assignments.get("no-gambling--office")
    with pytest.raises(GateFailed, match="Probe 1 of office-holds") as refused:
        portero.assignments.remove("no-gambling--office", version=kept.version)
    first = refused.value.extra["gate"][0]
    assert (first["before"], first["after"], first["devices"]) == ("block", "allow", 2)
    assert portero.assignments.get("no-gambling--office") == kept, "nothing was changed"
    preview = portero.preview(lambda asked: asked.assignments.remove("no-gambling--office", version=kept.version))
    failing = [one.number for one in preview.gate]
    assert failing == [1], "probes that failed already are no matter"
    portero.rulesets.create(ruleset("no-news", news="block"))
    with pytest.raises(GateFailed, match=r"no-news on office blocks it.*keeper may overrule") as refused:
        portero.assignments.create(assignment("no-news", "office"))
    assert refused.value.extra["gate"][0]["rule"]["ruleset"] == "no-news"


def test_a_keeper_overrules_the_gate_with_a_reason_that_is_in_history(service, portero, fleet):
    service.add("writer", "author")
    with service.client("writer", PASSWORD) as writer, overruling(writer) as bold, pytest.raises(NotAllowed):
        bold.assignments.create(assignment("no-news", "office", reason="Quiet week"))
    with overruling(portero) as bold:
        with pytest.raises(Invalid, match="says why"):
            bold.rulesets.remove("no-gambling", version=1)
        bold.assignments.remove("no-gambling--office", version=None, reason="Replaced tomorrow")
    newest = next(iter(portero.revisions.list()))
    assert newest.reason == "The gate was overruled: Replaced tomorrow"
    portero.settings.change(gate=())


def overruling(portero):
    transport = portero._connection.transport
    return Portero(transport.url, token=transport.token, overrules=True)
