"""The estate as a document through the service; what rules and assignments refer to; overlays for single devices."""

from __future__ import annotations

import httpx
import pytest

from conftest import Wire, group
from made_estates import Maker
from portero.client import AlreadyExists, ChangedMeanwhile, Invalid, StillInUse
from portero.core.nouns.application_set import ApplicationSet
from portero.core.nouns.assignment import Assignment, NewAssignment
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.directory import Directory
from portero.core.nouns.estate import Estate
from portero.core.nouns.revision import Change
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.schedule import Schedule
from portero.core.nouns.service import Service
from portero.formats.estate_document import write_estate
from portero.formats.manifests import open_manifest

pytestmark = pytest.mark.process


def estate(seed: int) -> Estate:
    return Estate.model_validate(Maker(seed).estate())


def hosts(key: str, **actions: str) -> Ruleset:
    rules = [{"host": f"{host}.example", "action": action} for host, action in actions.items()]
    return Ruleset.model_validate({"key": key, "kind": "indicator", "rules": rules})


@pytest.fixture
def empty(portero):
    """The service with nothing authored in it."""
    portero.estate.put(Estate(), revision=None)
    return portero


# --- documents ---


@pytest.mark.parametrize("seed", [3, 17, 58, 99])
def test_what_is_put_is_exported_and_putting_an_export_changes_nothing(empty, seed):
    document = estate(seed)
    put = empty.estate.put(document, revision=None)
    assert put.changes
    exported = empty.estate.get()
    assert write_estate(exported) == write_estate(document), "the order of the document is kept"
    again = empty.estate.put(exported, revision=put.revision)
    assert (again.changes, again.revision) == ((), put.revision), "no revision is made of nothing"


def test_putting_another_document_is_one_revision_and_says_what_goes(empty):
    first, second = estate(3), estate(4)
    at = empty.estate.put(first, revision=None).revision
    compared = empty.preview(lambda asked: asked.estate.put(second, revision=None))
    assert compared.revision == at
    put = empty.estate.put(second, revision=at, reason="season")
    assert put.revision == at + 1
    assert put.changes == compared.changes
    revision = empty.revisions.get(put.revision)
    kept = [Change.model_validate(change.model_dump(include=set(Change.model_fields))) for change in revision.changes]
    assert (revision.reason, kept) == ("season", list(put.changes))
    assert {change.verb for change in put.changes} == {"created", "changed", "removed"}
    assert write_estate(empty.estate.get()) == write_estate(second)


def test_with_others_kept_what_the_document_does_not_name_stays(empty):
    first = estate(3)
    empty.estate.put(first, revision=None)
    more = Estate.model_validate({"rulesets": [{"key": "more", "kind": "category", "rules": []}]})
    put = empty.estate.put(more, revision=None, keep_others=True)
    assert [(change.noun, change.key, change.verb) for change in put.changes] == [("ruleset", "more", "created")]
    assert empty.estate.get() == first.replacing(rulesets=(*first.rulesets, more.rulesets[0]))


def test_a_document_compared_with_an_older_state_is_not_put(empty):
    at = empty.estate.put(estate(3), revision=None).revision
    empty.rulesets.create(hosts("meanwhile", a="block"))
    with pytest.raises(ChangedMeanwhile):
        empty.estate.put(estate(4), revision=at)
    assert empty.rulesets.get("meanwhile")


def test_a_document_that_does_not_fit_changes_nothing(empty):
    before = empty.estate.get()
    broken = Estate.model_validate({"assignments": [{"key": "a", "ruleset": "none", "to": "nowhere"}]})
    with pytest.raises(Invalid) as found:
        empty.estate.put(broken, revision=None)
    assert {error["pointer"] for error in found.value.errors} == {"/assignments/0/to/0", "/assignments/0/ruleset"}
    assert empty.estate.get() == before


def test_a_document_needs_to_say_which_state_it_saw(service, portero):
    token = portero.access.sign_in("keeper", service.password, label="raw").secret
    answer = httpx.put(f"{service.url}/api/v1/estate", json={}, headers={"Authorization": f"Bearer {token}"})
    assert answer.status_code == 428


def test_comparing_says_how_many_machines_and_which_verdicts(empty, service):
    wire = Wire(service, empty, "compared-1")
    wire.sync()
    document = Estate.model_validate(
        {
            "rulesets": [{"key": "r", "kind": "category", "rules": [{"category": "games", "action": "block"}]}],
            "assignments": [{"key": "a", "ruleset": "r", "to": "whole-fleet"}],
        }
    )
    found = empty.preview(lambda asked: asked.estate.put(document, revision=None))
    assert found.devices == empty.devices.rollout().current + empty.devices.rollout().waiting
    assert [(verdict.subject, verdict.before, verdict.after) for verdict in found.verdicts] == [
        ("category games", "allow", "block")
    ]
    assert not list(empty.rulesets.list()), "nothing was kept"


# --- what rules and assignments refer to ---

KEPT = [
    (
        "schedules",
        Schedule.model_validate({"key": "k", "windows": [{"days": ["mon"], "from": "06:00", "to": "18:00"}]}),
        {"zone": "Europe/Berlin"},
    ),
    ("application_sets", ApplicationSet.model_validate({"key": "k", "include": [{"file": "viewer"}]}), {"name": "K"}),
    ("services", Service.model_validate({"key": "k", "hosts": ["k.example"]}), {"suitability": 20}),
]


@pytest.mark.parametrize(("part", "noun", "change"), KEPT, ids=[one[0] for one in KEPT])
def test_they_are_made_changed_as_seen_and_removed(empty, part, noun, change):
    kept = getattr(empty, part)
    made = kept.create(noun)
    with pytest.raises(AlreadyExists):
        kept.create(noun)
    changed = noun.model_copy(update=change)
    put = kept.put(changed, version=made.version)
    name, value = next(iter(change.items()))
    assert getattr(put, name) == value
    with pytest.raises(ChangedMeanwhile) as found:
        kept.put(noun, version=made.version)
    assert found.value.extra["version"] == put.version
    assert [one.key for one in kept.list("k")] == ["k"]
    assert not list(kept.list("nothing of the kind"))
    kept.remove("k", version=put.version)
    assert not list(kept.list())


def test_what_is_used_is_not_removed(empty):
    for part, noun, _ in KEPT:
        getattr(empty, part).create(noun)
    programs = {"key": "p", "kind": "startup", "rules": [{"application_set": "k", "action": "block"}]}
    web = {"key": "w", "kind": "indicator", "rules": [{"service": "k", "action": "block"}]}
    for ruleset in (programs, web):
        empty.rulesets.create(Ruleset.model_validate(ruleset))
    empty.assignments.create(NewAssignment.model_validate({"ruleset": "p", "to": "whole-fleet", "schedule": "k"}))
    for part, user in (("schedules", "p--whole-fleet"), ("application_sets", "p"), ("services", "w")):
        with pytest.raises(StillInUse, match=user):
            getattr(empty, part).remove("k")


def test_a_set_frozen_without_members_keeps_what_machines_have_now(empty, service):
    program = {"product": "Deckhand Viewer", "sha256": "a" * 64, "vendor": "Deckhand"}
    Wire(service, empty, "frozen-1", applications=[program])
    frozen = ApplicationSet.model_validate({"key": "f", "following": False, "include": [{"vendor": "deckhand"}]})
    assert empty.application_sets.create(frozen).frozen_members == ("a" * 64,)
    assert "1 program" in empty.application_sets.get("f").sentence


def test_a_schedule_says_what_it_does_now_and_until_when(empty):
    days = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"]
    window = {"days": days, "from": "00:00", "to": "00:00"}
    empty.schedules.create(Schedule.model_validate({"key": "always", "zone": "UTC", "windows": [window]}))
    found = empty.schedules.get("always")
    assert (found.open, found.changes_at) == (True, None)
    assert found.now == "Open; it does not change within a year."


# --- single devices ---


def overlay_of(wire: Wire):
    """What the device is offered: its manifest, and the overlay in it."""
    offered = wire.check_in().json()
    manifest = open_manifest(offered["manifest"], wire.key)
    assert manifest.name == offered["bundle"]
    if manifest.overlay is None:
        return offered, manifest, None
    packed = wire.http.get("/overlay/" + manifest.overlay).content
    return offered, manifest, wire.reader.overlay(packed, manifest.overlay, manifest.bundle)


def test_what_is_meant_for_one_device_comes_as_an_overlay_and_no_other_hears_of_it(empty, service):
    wire, other = Wire(service, empty, "single-1"), Wire(service, empty, "single-2")
    empty.rulesets.create(hosts("all", a="block"))
    empty.rulesets.create(hosts("own", a="allow"))
    empty.assignments.create(NewAssignment.model_validate({"ruleset": "all", "to": "whole-fleet"}))
    _, base, _ = overlay_of(other)
    made = empty.assignments.create(NewAssignment.model_validate({"ruleset": "own", "to": {"device": "single-1"}}))
    assert made.devices == 1
    offered, manifest, overlay = overlay_of(wire)
    assert manifest.bundle == base.bundle, "the class's bundle is the same for both"
    assert [(place, one.ruleset, one.target) for place, one in overlay.assignments] == [(1, "own", None)]
    assert overlay_of(other)[2] is None
    assert other.http.get("/overlay/" + manifest.overlay).status_code == 404
    assert empty.devices.get(wire.id).rollout.state == "waiting"
    assert wire.check_in(have=offered["bundle"], revision=offered["revision"]).status_code == 204
    assert empty.devices.get(wire.id).rollout.state == "current"
    url = "http://a.example/"
    verdicts = [empty.checks.check(Attempt(device=name, url=url)).intended for name in ("single-1", "single-2")]
    assert [found.verdict.value for found in verdicts] == ["allow", "block"]
    assert verdicts[0].layers[1].winner.target.device == "single-1"
    empty.assignments.remove(made.key)
    assert overlay_of(wire)[2] is None


def test_an_overlay_follows_its_device_into_another_class(empty, service):
    wire = Wire(service, empty, "moving-1", unit="brackwater/office")
    empty.rulesets.create(hosts("own", a="block"))
    empty.assignments.create(NewAssignment.model_validate({"ruleset": "own", "to": {"device": "moving-1"}}))
    _, before, _ = overlay_of(wire)
    empty.groups.create(group("office", all=[{"field": "unit", "op": "under", "value": "brackwater/office"}]))
    _, after, overlay = overlay_of(wire)
    assert after.bundle != before.bundle
    assert overlay.bundle_groups == ("office", "whole-fleet")


def test_what_holds_until_restart_counts_from_when_the_device_applied_it(empty, service):
    wire = Wire(service, empty, "restarting-1", last_start="2026-01-01T06:00:00Z")
    empty.rulesets.create(hosts("course", a="block"))
    empty.assignments.create(
        NewAssignment.model_validate({"ruleset": "course", "to": "whole-fleet", "until_restart": True})
    )
    offered = wire.check_in().json()
    wire.check_in(have=offered["bundle"], revision=offered["revision"])
    attempt = Attempt(device="restarting-1", url="http://a.example/")
    assert empty.checks.check(attempt).intended.verdict == "block"
    wire.check_in(facts={**wire.facts, "last_start": empty.checks.check(attempt).attempt.at.isoformat()})
    assert empty.checks.check(attempt).intended.verdict == "allow"


def test_user_groups_come_from_the_directory_and_devices_learn_those_that_rules_name(empty, service):
    wire = Wire(service, empty, "people-1")
    empty.rulesets.create(hosts("crew-only", a="block"))
    people = {"user_groups": ["Crew"]}
    empty.assignments.create(
        NewAssignment.model_validate({"ruleset": "crew-only", "to": "whole-fleet", "people": people})
    )
    directory = {"user_groups": [{"key": "crew", "user_groups": ["p"]}, {"key": "p", "users": ["Purser-1"]}]}
    assert empty.directory.put(Directory.model_validate(directory)).generation >= 1
    verdicts = [
        empty.checks.check(Attempt(device="people-1", url="http://a.example/", user=user)).intended.verdict.value
        for user in ("purser-1", "watch-1")
    ]
    assert verdicts == ["block", "allow"]
    told = wire.http.get("/people", params={"user": "PURSER-1"}).json()
    assert told["user_groups"] == ["crew"], "no more than rules name"
    cycle = {"user_groups": [{"key": "a", "user_groups": ["b"]}, {"key": "b", "user_groups": ["a"]}]}
    with pytest.raises(Invalid, match="take each other in"):
        empty.directory.put(Directory.model_validate(cycle))
    assert [user_group.key for user_group in empty.directory.get().user_groups] == ["crew", "p"]


def test_everything_about_an_assignment_can_be_changed_its_scope_included(empty):
    empty.rulesets.create(hosts("r", a="block"))
    empty.groups.create(group("g", all=[{"field": "unit", "op": "under", "value": "x"}]))
    empty.schedules.create(KEPT[0][1])
    made = empty.assignments.create(NewAssignment.model_validate({"ruleset": "r", "to": "whole-fleet"}))
    changed = {
        "key": made.key,
        "ruleset": "r",
        "to": ["g", {"device": "pc"}],
        "people": {"users": ["a"]},
        "schedule": "k",
        "place": "on-site",
        "starts": "2026-12-01T00:00:00Z",
        "ends": "2027-01-01T00:00:00Z",
        "until_restart": True,
        "mandatory": True,
        "replaces_weaker": True,
        "action": "warn",
        "state": "paused",
    }
    put = empty.assignments.put(Assignment.model_validate(changed), version=made.version)
    assert put.sentence == (
        "On g and pc, for a, while on-site, during k, from 2026-12-01 00:00 UTC, until 2027-01-01 00:00 UTC, until the"
        " machine restarts, mandatory, in place of what weaker groups have, paused and so not in force: warns on"
        " a.example."
    )


def test_a_batch_answers_each_attempt_in_its_place(empty, service):
    Wire(service, empty, "batch-1")
    attempts = [
        {"id": 1, "device": "batch-1", "url": "http://a.example/"},
        {"id": "x", "device": "nobody", "url": "http://a.example/"},
        {"device": "batch-1", "url": "http://"},
        {"id": 3, "device": "batch-1", "start": {"file": "viewer"}},
        {"id": 4, "device": "batch-1"},
    ]
    found = [one.model_dump(mode="json") for one in empty.checks.check_batch(attempts)]
    assert [one["id"] for one in found] == [1, "x", None, 3, 4]
    assert ["problem" in one for one in found] == [False, True, True, False, True]
    assert found[3]["intended"]["layers"][0]["layer"] == "startup"
    briefly = [one.model_dump(mode="json") for one in empty.checks.check_briefly(attempts)]
    assert [one["id"] for one in briefly] == [one["id"] for one in found]
    assert [one.get("problem") for one in briefly] == [one.get("problem") for one in found]
    assert briefly[3]["intended"] == found[3]["intended"]["verdict"]
    assert briefly[3]["why"] == found[3]["intended"]["layers"][0]["why"]
