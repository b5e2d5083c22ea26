"""Proofs of changes: what their probes come to before and since; and who may weaken the gate."""

from __future__ import annotations

import time
from datetime import timedelta

import pytest

from conftest import Wire, assignment, group, ruleset, under
from portero.client import Invalid, NotAllowed, Previewed, Unproved
from portero.core.nouns.device import Facts
from portero.core.nouns.enrolment import NewEnrolmentCode
from portero.core.nouns.probe_set import ProbeSet
from portero.service.keepers import open_keepers
from serving import PASSWORD

LAYERS = {"filter": "enforcing", "browser": "enforcing", "startup": "enforcing"}


def probe_set(key: str, *probes: dict, to: str = "office") -> ProbeSet:
    return ProbeSet.model_validate({"key": key, "to": [to], "probes": probes})


STOPPED = {"visit": "http://gambling.category.test/", "expect": "block"}
OPEN = {"visit": "http://news.category.test/", "expect": "allow"}


@pytest.fixture(scope="module")
def fleet(service, portero):
    portero.groups.create(group("office", all=[under("brackwater/office")]))
    portero.rulesets.create(ruleset("no-gambling", gambling="block"))
    portero.rulesets.create(ruleset("no-games", games="block"))
    portero.probe_sets.create(probe_set("stays-open", OPEN))
    wires = [Wire(service, portero, f"desk-{n}", unit="brackwater/office", layers=LAYERS) for n in (1, 2)]
    for wire in wires:
        wire.sync()
    return wires


def proof_of(portero, number: int, wanted: str):
    for _ in range(60):
        proof = portero.revisions.get(number).proof
        if proof.state == wanted:
            return proof
        time.sleep(0.25)
    pytest.fail(f"the proof never was {wanted}: {proof}")


def test_a_change_is_proved_by_what_its_probes_come_to_before_and_since(portero, fleet):
    proving = portero.proving("block http://gambling.category.test/ on office", "stays-open")
    proving.assignments.create(assignment("no-gambling", "office", reason="Audit"))
    newest = next(iter(portero.revisions.list()))
    assert newest.proof == "waiting"
    waiting = portero.revisions.get(newest.number).proof
    assert [one.before.passed for one in waiting.probes] == [2, 0], "open before, and what is to stay open is so"
    for wire in fleet:
        wire.sync()
    holds = proof_of(portero, newest.number, "holds")
    assert holds.sentence == "It is proved: all 2 probes come out everywhere."
    stopped = next(one for one in holds.probes if one.before.expected == "block")
    assert stopped.sentence == "Stopped on none of 2 before, on all 2 since."
    assert holds.at <= stopped.since <= holds.tried_at
    assert next(iter(portero.revisions.list())).proof == "holds"


def test_a_change_that_does_not_lead_there_is_refused_and_nothing_is_kept(portero, fleet):
    newest = next(iter(portero.revisions.list())).number
    proving = portero.proving("block http://music.category.test/ on office")
    with pytest.raises(Unproved, match=r"music\.category\.test/, would not come out: Meant to be stopped on none of 2"):
        proving.assignments.create(assignment("no-games", "office"))
    assert next(iter(portero.revisions.list())).number == newest
    guarded = portero.proving("stays-open")
    portero.rulesets.create(ruleset("no-news", news="block"))
    with pytest.raises(Unproved) as refused:
        guarded.assignments.create(assignment("no-news", "office"))
    assert refused.value.extra["proof"][0]["then"] == 0


def test_a_preview_tells_what_becomes_of_the_probes(portero, fleet):
    words = ("block http://games.category.test/ on desk-1", "allow http://games.category.test/ on office")
    with portero.proving(*words).previewing() as asked, pytest.raises(Previewed) as seen:
        asked.assignments.create(assignment("no-games", "office"))
    preview = seen.value.preview
    told = {one.expected: (one.devices, one.now, one.then, one.refused) for one in preview.proof}
    assert told == {"block": (1, 0, 1, False), "allow": (2, 2, 0, True)}


@pytest.mark.parametrize(
    ("word", "said"),
    [
        ("blok reeltide.example", "is no probe and no probe set"),
        ("block", "is no probe and no probe set"),
        ("block reeltide.example on nowhere", "nowhere"),
        ("block http://[bad on desks", "is not a URL"),
        ("stays-opn", "is no probe and no probe set"),
    ],
)
def test_words_that_mean_nothing_are_refused(portero, fleet, word, said):
    with pytest.raises(Invalid, match=said):
        portero.proving(word).rulesets.create(ruleset("never-made", music="block"))


def test_who_is_no_keeper_takes_nothing_out_of_the_gate(service, portero, fleet):
    portero.probe_sets.create(probe_set("gated", STOPPED, OPEN))
    portero.settings.change(gate=("gated",))
    service.add("author", "author")
    with service.client("author", PASSWORD) as author:
        kept = author.probe_sets.get("gated")
        more = {"visit": "http://games.category.test/", "expect": "allow"}
        author.probe_sets.put(probe_set("gated", more, STOPPED, OPEN), version=kept.version)
        for less in ([STOPPED], [STOPPED | {"expect": "allow"}, OPEN, more]):
            version = author.probe_sets.get("gated").version
            with pytest.raises(NotAllowed, match=r"takes probe \d of gated out of the gate"):
                author.probe_sets.put(probe_set("gated", *less), version=version)
        with pytest.raises(NotAllowed):
            author.probe_sets.put(probe_set("gated", STOPPED, OPEN, more, to="unclaimed"), version=version)
    portero.probe_sets.put(probe_set("gated", STOPPED), version=None)
    portero.settings.change(gate=())


def test_after_a_day_a_proof_ends_with_what_does_not_come_out(tmp_path):
    now = [1_790_000_000.0]
    keepers = open_keepers(tmp_path, clock=lambda: now[0])
    try:
        code = keepers.enrolment.make_code(NewEnrolmentCode(uses=5), "test").code
        keepers.enrolment.join(code, Facts.model_validate({"hostname": "desk-1", "layers": {"filter": "observing"}}))
        made = ruleset("no-gambling", gambling="block")
        assigned = assignment("no-gambling", "whole-fleet").model_copy(update={"key": "everywhere"})
        done = keepers.estate.change(
            lambda snapshot: snapshot.estate.replacing(rulesets=(made,), assignments=(assigned,)),
            by="test",
            carried=keepers.proving.carrying(["block http://gambling.category.test/"]),
        )
        told = []
        for hours in (1, 25):
            now[0] += timedelta(hours=hours).total_seconds()
            keepers.proving._again_at = 0.0
            keepers.proving.let_time_pass()
            with keepers.store.reading() as connection:
                told.append(connection.execute("SELECT state FROM proof").fetchone()[0])
        assert told == ["waiting", "ended"]
        assert done.made is not None
    finally:
        keepers.close()
