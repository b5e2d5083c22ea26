"""Observed runs over the wire: machines are woken, asked once, answered for; who lies or is silent shows."""

from __future__ import annotations

import base64
import threading
import time

import pytest

from conftest import Wire, assignment, group, ruleset, under
from portero.client import Invalid, NotAllowed, NotFound
from portero.core.nouns.administrator import AdministratorChange
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.probe_set import ProbeSet
from portero.core.nouns.run import NewRun
from portero.formats.cases import read_case, replay
from portero.store import observations
from serving import PASSWORD

LAYERS = {"filter": "enforcing", "browser": "enforcing", "startup": "enforcing"}
STOPPED, OPEN = "http://gambling.category.test/", "http://news.category.test/"
NOTICE = {"verdict": "block", "layer": "filter", "saw": "notice", "reference": "ABCD-2345", "browser": "chromium"}
PAGE = {"verdict": "allow", "saw": "page", "browser": "chromium"}


@pytest.fixture(scope="module")
def machines(service, portero):
    """Two machines of an office that stops gambling, and a set of two probes for them."""
    portero.groups.create(group("office", all=[under("brackwater/office")]))
    portero.rulesets.create(ruleset("no-gambling", gambling="block"))
    portero.assignments.create(assignment("no-gambling", "office"))
    probes = [{"visit": STOPPED, "expect": "block", "name": "Nobody gambles"}, {"visit": OPEN, "expect": "allow"}]
    portero.probe_sets.create(ProbeSet.model_validate({"key": "office-holds", "to": ["office"], "probes": probes}))
    browser = {"browsers": [{"name": "chromium", "version": "140.0", "managed": True}]}
    wires = [Wire(service, portero, f"desk-{n}", layers=LAYERS, **browser) for n in (1, 2)]
    for wire in wires:
        _, wire.offered = wire.sync()
    return wires


def asked(wire: Wire) -> list[dict]:
    return wire.http.get("/probes").json()


def answer(wire: Wire, once: str, *seen: dict):
    numbered = [{"number": number, **one} for number, one in enumerate(seen, start=1)]
    return wire.http.post("/probes", json={"once": once, "bundle": "x", "seen": numbered})


def begun(portero, **more):
    return portero.runs.create(NewRun(kind="observed", seconds=60, **more))


def ended(portero, run):
    told = portero.runs.get(run.id, wait=15)
    assert told.state == "done"
    return told


def test_machines_are_told_at_once_and_what_they_saw_is_the_result(portero, machines):
    told = []
    waits = threading.Thread(target=lambda: told.append(machines[0].http.get("/wait", params={"hold": 20})))
    waits.start()
    time.sleep(0.5)
    began = time.monotonic()
    run = begun(portero)
    waits.join(10)
    assert time.monotonic() - began < 5, "a held request is answered at once"
    assert told[0].json()["news"]
    first, second = machines
    for wire in machines:
        held = {"have": wire.offered["bundle"], "revision": wire.offered["revision"]}
        assert wire.check_in(**held).headers["Portero-Probes"] == "yes"
    (order,) = asked(first)
    assert [one["visit"] for one in order["probes"]] == [STOPPED, OPEN]
    assert asked(first) == [], "an order is given out once"
    assert answer(first, order["once"], NOTICE, PAGE).status_code == 204
    assert portero.runs.get(run.id).state == "running"
    (other,) = asked(second)
    assert answer(second, other["once"], NOTICE, PAGE).status_code == 204
    done = ended(portero, run)
    assert (done.kind, done.devices, done.answered, done.failed, done.disagreements) == ("observed", 2, 2, 0, 0)
    assert [one.sentence for one in done.results] == ["Stopped on all 2 machines.", "Passed on all 2 machines."]
    seen = list(portero.runs.observations(run.id, set="office-holds", number=1))
    assert {one.hostname for one in seen} == {"desk-1", "desk-2"}
    assert seen[0].sentence == "Observed block by the filter: the notice was shown (ABCD-2345), in chromium."
    assert next(portero.runs.list()).kind == "observed"


def test_a_machine_that_sees_something_else_is_a_disagreement(portero, machines):
    run = begun(portero, on=("desk-1",))
    (order,) = asked(machines[0])
    answer(machines[0], order["once"], PAGE, PAGE)
    done = ended(portero, run)
    assert (done.failed, done.disagreements) == (1, 1)
    (cause,) = done.results[0].causes
    assert cause.code == "disagreement"
    assert "Predicted block: no-gambling on office blocks it" in cause.detail
    assert "Observed allow: the page opened, in chromium." in cause.detail
    (odd,) = portero.runs.observations(run.id, agrees=False)
    assert (odd.predicted, odd.seen.verdict, odd.agrees) == ("block", "allow", False)
    case = read_case(portero.runs.case(run.id, "desk-1", "office-holds", 1))
    again = replay(case)
    assert (again.decided, again.reproduced, again.agrees) == ("block", True, False)
    assert "no-gambling on office blocks it" in again.why
    with pytest.raises(NotFound, match="There is no case of probe 2"):
        portero.runs.case(run.id, "desk-1", "office-holds", 2)
    finding = portero.findings.list().items[0]
    assert (finding.kind, finding.severity, finding.examples) == ("disagreement", "high", ("desk-1",))
    assert finding.sentence.startswith(f"{STOPPED} comes to allow on desk-1, where block was predicted")
    assert [one.hostname for one in portero.findings.devices(finding.id)] == ["desk-1"]
    machines_behind = portero.runs.devices(run.id, set="office-holds", number=1, cause="disagreement")
    assert [one.hostname for one in machines_behind] == ["desk-1"]


def test_a_number_is_good_for_one_machine_and_once(portero, machines):
    first, second = machines
    run = begun(portero)
    (order,), (other,) = asked(first), asked(second)
    assert answer(second, order["once"], NOTICE, PAGE).status_code == 404, "another machine's"
    assert answer(first, "made-up-number", NOTICE, PAGE).status_code == 404
    assert answer(first, order["once"], NOTICE, PAGE).status_code == 204
    assert answer(first, order["once"], PAGE, PAGE).status_code == 404, "used"
    assert answer(second, other["once"], {"problem": "There is no browser here."}, PAGE).status_code == 204
    done = ended(portero, run)
    assert all(one.kind != "disagreement" for one in portero.findings.list().items), "settled by what was seen since"
    assert [one.code for one in done.results[0].causes] == ["not-tried"]
    assert done.results[0].causes[0].detail == "There is no browser here."


@pytest.mark.parametrize("body", [{}, {"once": "12345678"}, {"once": "12345678", "seen": [{"number": 0}]}, {"x": 1}])
def test_an_answer_that_does_not_read_is_refused(machines, body):
    assert machines[0].http.post("/probes", json=body).status_code == 422


def test_who_does_not_answer_in_time_is_told(portero, machines):
    run = portero.runs.create(NewRun(kind="observed", seconds=5, on=("desk-1", "desk-2")))
    (order,) = asked(machines[0])
    answer(machines[0], order["once"], NOTICE, PAGE)
    done = ended(portero, run)
    assert (done.devices, done.answered) == (2, 1)
    assert done.results[0].sentence == "Stopped on 1 of 2 machines; 1 did not answer."
    assert "; 1 did not answer." in done.sentence
    assert [(one.code, one.examples) for one in done.results[0].causes] == [("no-answer", ("desk-2",))]
    late = asked(machines[1])
    assert late == [], "what is over is asked of nobody"


def test_what_was_predicted_rightly_and_not_expected_has_its_cause(portero, machines):
    wrong = {"key": "wrongly", "to": ["office"], "probes": [{"visit": OPEN, "expect": "block"}]}
    portero.probe_sets.create(ProbeSet.model_validate(wrong))
    run = begun(portero, sets=("wrongly",), on=("desk-2",))
    (order,) = asked(machines[1])
    answer(machines[1], order["once"], PAGE)
    (result,) = ended(portero, run).results
    assert [one.code for one in result.causes] == ["other-category"]
    assert result.disagreeing == 0


def test_who_may_not_and_what_cannot_be_asked_is_refused(service, portero, machines):
    with pytest.raises(Invalid, match="no machine to ask"):
        begun(portero, on=("unclaimed",))
    service.add("reads", "reader")
    with service.client("reads", PASSWORD) as reader, pytest.raises(NotAllowed):
        begun(reader)
    service.add("responds", "responder")
    with service.client("responds", PASSWORD) as responder:
        run = begun(responder, on=("desk-1",))
        assert run.by == "responds"
    (order,) = asked(machines[0])
    answer(machines[0], order["once"], NOTICE, PAGE)
    ended(portero, run)


def test_what_was_observed_stands_beside_what_is_predicted_everywhere(portero, machines):
    told = {one.number: one for one in portero.runs.observed("office-holds")}
    assert (told[1].machines, told[1].passed, told[1].disagreeing) == (2, 2, 0)
    assert told[1].sentence == "As expected on 2 of 2 machines."
    assert {one.tried for one in portero.runs.of_device("desk-1")} == {STOPPED, OPEN}
    checked = portero.checks.check(Attempt(device="desk-1", url="gambling.category.test"))
    assert (checked.observed.verdict, checked.observed.layer, checked.observed.agrees) == ("block", "filter", True)
    assert portero.checks.check(Attempt(device="desk-1", url="http://music.category.test/")).observed is None
    kept = portero.probe_sets.get("office-holds")
    fewer = ProbeSet(key=kept.key, to=kept.to, probes=tuple(reversed(kept.probes)))
    portero.probe_sets.put(fewer, version=kept.version)
    assert portero.runs.observed("office-holds") == [], "what is written otherwise now was not tried"


def test_the_board_says_on_how_many_machines_an_assignment_was_seen_to_hold(portero, machines):
    def told():
        (cell,) = [one for one in portero.board.get().cells if one.target == "office"]
        return cell.observed

    run = begun(portero, sets=("office-holds",))
    for wire, seen in zip(machines, (NOTICE, NOTICE), strict=True):
        answer(wire, asked(wire)[0]["once"], PAGE, seen)
    ended(portero, run)
    assert (told().machines, told().held, told().run) == (2, 2, run.id)
    assert told().sentence == "Held on 2 of 2 machines."
    run = begun(portero, sets=("office-holds",))
    answer(machines[0], asked(machines[0])[0]["once"], PAGE, PAGE)
    answer(machines[1], asked(machines[1])[0]["once"], PAGE)
    ended(portero, run)
    # the other one tried nothing that the assignment settles: what it saw before still is the newest
    assert (told().machines, told().held, told().run) == (2, 1, run.id)
    assert told().sentence == "Held on 1 of 2 machines; on 1 it did not."


def test_a_probe_that_is_tried_in_another_way_now_was_not_tried(portero, machines):
    kept = portero.probe_sets.get("office-holds")
    assert portero.runs.observed("office-holds")
    by_link = [one.model_copy(update={"reached_by": "link"}) for one in kept.probes]
    portero.probe_sets.put(ProbeSet(key=kept.key, to=kept.to, probes=tuple(by_link)), version=kept.version)
    assert portero.runs.observed("office-holds") == []
    run = begun(portero, sets=("office-holds",), on=("desk-1",))
    (order,) = asked(machines[0])
    assert [one["reached_by"] for one in order["probes"]] == ["link", "link"]
    answer(machines[0], order["once"], PAGE, NOTICE)
    assert [one.how for one in ended(portero, run).results] == ["by a link", "by a link"]
    portero.probe_sets.put(
        ProbeSet(key=kept.key, to=kept.to, probes=kept.probes), version=portero.probe_sets.get(kept.key).version
    )


@pytest.mark.parametrize("more", [{"window": "private"}, {"reached_by": "link"}])
def test_a_start_has_no_window_and_no_link(more):
    probe = {"to": "office", "start": {"product": "Deckhand Viewer"}, "expect": "block", **more}
    with pytest.raises(ValueError, match="go with a visit"):
        ProbeSet.model_validate({"key": "starts", "probes": [probe]})


def test_of_older_runs_no_more_is_kept_than_what_came_of_them(portero, machines, monkeypatch):
    monkeypatch.setattr(observations, "MOST_RUNS", 1)
    first = begun(portero, sets=("wrongly",), on=("desk-1",))
    (order,) = asked(machines[0])
    answer(machines[0], order["once"], PAGE)
    ended(portero, first)
    begun(portero, sets=("wrongly",), on=("desk-1",))
    (order,) = asked(machines[0])
    answer(machines[0], order["once"], PAGE)
    assert list(portero.runs.observations(first.id)) == []
    assert portero.runs.get(first.id).results


PNG = b"\x89PNG\r\n\x1a\n" + b"x" * 100


def picture(data: bytes = PNG) -> dict:
    return {**NOTICE, "picture": base64.b64encode(data).decode()}


def test_who_may_probe_freely_has_any_address_tried_with_a_picture(service, portero, machines):
    service.add("helps", "responder")
    with service.client("helps", PASSWORD) as helper:
        for more in ({"visit": STOPPED}, {"pictures": True}):
            with pytest.raises(NotAllowed, match="the right to have machines try any address"):
                helper.runs.create(NewRun(kind="observed", on=("desk-1",), **more))
        said = AdministratorChange(role="responder", probes_freely=True)
        with service.client() as keeper, keeper.access.session("keeper", service.password):
            keeper.administrators.change(keeper.administrators.get("helps"), said)
        new = NewRun(kind="observed", on=("desk-1",), visit=STOPPED, pictures=True, seconds=60)
        run = helper.runs.create(new)
        (order,) = asked(machines[0])
        assert order["pictures"]
        answer(machines[0], order["once"], picture())
        (result,) = ended(helper, run).results
        assert (result.set, result.tried, result.passed) == ("typed-in", STOPPED, 1)
        (seen,) = helper.runs.observations(run.id)
        assert seen.has_picture
        assert "picture" not in seen.seen.model_dump(exclude_none=True)
        assert helper.runs.picture(run.id, "desk-1", "typed-in", 1) == PNG
    trail = [one.act for one in portero.audit.list()]
    assert "getObservationPicture" in trail


def test_a_picture_that_nobody_asked_for_or_that_is_none_is_not_kept(portero, machines):
    for pictures, data in ((False, PNG), (True, b"<svg onload=alert(1)>")):
        run = portero.runs.create(NewRun(kind="observed", on=("desk-1",), visit=STOPPED, pictures=pictures, seconds=60))
        (order,) = asked(machines[0])
        answer(machines[0], order["once"], picture(data))
        ended(portero, run)
        (seen,) = portero.runs.observations(run.id)
        assert not seen.has_picture
        with pytest.raises(NotFound, match="no picture"):
            portero.runs.picture(run.id, "desk-1", "typed-in", 1)


def test_a_visit_that_is_typed_in_says_where(portero, machines):
    for more, said in (({}, "named in on"), ({"on": ("desk-1",), "sets": ("office-holds",)}, "goes with no sets")):
        with pytest.raises(ValueError, match=said):
            NewRun(kind="observed", visit=STOPPED, **more)
    for how in ({"browser": "chromium"}, {"window": "private"}, {"reached_by": "link"}):
        with pytest.raises(ValueError, match="name a visit, or leave them out"):
            NewRun(kind="observed", on=("desk-1",), **how)
    with pytest.raises(ValueError, match="say kind observed"):
        NewRun(visit=STOPPED, on=("desk-1",))
    with pytest.raises(ValueError, match="is not a URL"):
        NewRun(kind="observed", visit="http://[bad", on=("desk-1",))
