"""Restrictions for a room: put on, told of, lifted, and used again; nothing elsewhere opens what they close."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest

from conftest import Wire, assignment, eventually, group
from portero.client import Invalid, NotAllowed, NotFound
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.directory import Directory
from portero.core.nouns.restriction import NewRestriction
from portero.core.nouns.ruleset import Ruleset
from serving import PASSWORD

SOON = datetime.now(UTC).replace(microsecond=0) + timedelta(hours=1)


@pytest.fixture(scope="module")
def machines(service, portero):
    """Two machines of a room and one beside it; a host is allowed to the whole fleet by itself."""
    cadets = [{"key": "cadets", "users": ["cadet-1"]}]
    portero.directory.put(Directory.model_validate({"user_groups": cadets}))
    portero.groups.create(group("room", all=[{"field": "hostname", "op": "like", "value": "room-*"}]))
    rules = [{"host": "tides.example", "action": "allow"}, {"host": "chess.example", "action": "allow"}]
    portero.rulesets.create(Ruleset.model_validate({"key": "open", "kind": "indicator", "rules": rules}))
    portero.assignments.create(assignment("open", "whole-fleet"))
    applications = [{"product": "Reef Racer", "version": "1.0"}]
    browsers = [{"name": "chromium", "version": "130", "managed": True}]
    layers = {"filter": "enforcing", "browser": "enforcing", "startup": "enforcing"}
    facts = {"applications": applications, "browsers": browsers, "layers": layers}
    signed_in = {"room-1": ["Cadet-1"], "room-2": ["cadet-3", "trainer-2"]}
    wires = [
        Wire(service, portero, hostname, **facts, signed_in=signed_in.get(hostname, []))
        for hostname in ("room-1", "room-2", "beside-1")
    ]
    for wire in wires:
        wire.sync()
    return portero


@pytest.fixture
def room(machines):
    yield machines
    for key in {one.key for one in machines.restrictions.list().in_force}:
        machines.restrictions.lift(key)


def asked(**said: object) -> NewRestriction:
    return NewRestriction.model_validate({"key": "lesson", "on": ["room"], "until": SOON, **said})


def verdict(portero, device: str, **attempt: object) -> str:
    return portero.checks.check(Attempt.model_validate({"device": device, **attempt})).intended.verdict.value


def test_no_web_at_all_closes_every_site_and_no_narrow_allow_opens_one(room):
    sites = [{"url": f"http://{host}/"} for host in ("tides.example", "never-heard-of.example", "192.0.2.7")]
    assert [verdict(room, "room-1", **site) for site in sites] == ["allow"] * 3
    done = room.restrictions.put_on(asked(key="exam", no_web=True), reason="the exam")
    assert done.push is not None
    assert done.push.devices == 2
    one = done.in_force[0]
    assert (one.key, one.on, one.no_web, one.by, one.reason) == ("exam", ("room",), True, "keeper", "the exam")
    for browser in ("chromium", "gullwing", None):
        assert [verdict(room, "room-1", browser=browser, **site) for site in sites] == ["block"] * 3
    assert [verdict(room, "beside-1", **site) for site in sites] == ["allow"] * 3
    later = (SOON + timedelta(seconds=1)).isoformat()
    assert verdict(room, "room-1", at=later, **sites[0]) == "allow"
    room.restrictions.lift("exam")
    assert [verdict(room, "room-1", **site) for site in sites] == ["allow"] * 3


def test_some_things_are_closed_on_a_machine_and_it_says_what_by_whom_and_until_when(room):
    done = room.restrictions.put_on(asked(what=["chess.example", "program:reef racer"], on=["room-1"]))
    assert done.push.devices == 1
    assert verdict(room, "room-1", url="http://chess.example/") == "block"
    assert verdict(room, "room-1", start={"product": "Reef Racer", "version": "1.0"}) == "block"
    assert verdict(room, "room-2", url="http://chess.example/") == "allow"
    told = room.restrictions.list(device="room-1").in_force
    assert [(one.key, one.by, one.until) for one in told] == [("lesson", "keeper", SOON)]
    assert "host chess.example" in told[0].what
    assert not room.restrictions.list(device="room-2").in_force
    room.restrictions.lift("lesson")


def test_what_was_kept_is_put_on_again_elsewhere_and_lifted_machine_by_machine(room):
    room.restrictions.put_on(asked(what=["chess.example"], on=["room-1", "room-2"]))
    left = room.restrictions.lift("lesson", on=["room-1"])
    assert left.in_force[0].on == ("room-2",)
    assert verdict(room, "room-1", url="http://chess.example/") == "allow"
    room.restrictions.put_on(asked(on=["beside-1"]))
    assert verdict(room, "beside-1", url="http://chess.example/") == "block"
    assert len(room.restrictions.list().in_force) == 2
    assert "lesson" in room.restrictions.list().kept
    room.restrictions.lift("lesson")
    assert not room.restrictions.list().in_force


def test_it_is_for_some_people_only_where_it_says_so_and_no_site_list_is(room):
    done = room.restrictions.put_on(asked(key="own", no_web=True, people=["cadet-1"]))
    assert done.not_for_people
    attempts = [verdict(room, "room-1", url="http://tides.example/", user=user) for user in ("cadet-1", "cadet-2")]
    assert attempts == ["block", "allow"]
    room.restrictions.lift("own")


def test_it_is_for_who_is_signed_in_there_now(room):
    done = room.restrictions.put_on(asked(what=["chess.example"], signed_in=True))
    assert done.in_force[0].people == ("cadet-1", "cadet-3", "trainer-2")
    users = ("CADET-1", "cadet-3", "cadet-2")
    assert [verdict(room, "room-2", url="http://chess.example/", user=user) for user in users] == [
        *("block", "block", "allow")
    ]
    with pytest.raises(Invalid, match="obody is signed in"):
        room.restrictions.put_on(asked(what=["chess.example"], on=["beside-1"], signed_in=True))
    with pytest.raises(ValueError, match="say one of the two"):
        asked(what=["chess.example"], signed_in=True, people=["cadet-1"])


def test_who_is_signed_in_is_told_to_those_alone_who_see_names(room, service):
    seen = room.devices.get("room-1").facts.signed_in
    assert seen == ("Cadet-1",)
    service.add("teacher", "author", sees_names=False)
    with service.client("teacher", PASSWORD) as teacher:
        shown = teacher.devices.get("room-1").facts.signed_in
        listed = {one.hostname: one.facts.signed_in for one in teacher.devices.list()}
        assert shown == listed["room-1"]
        assert len(shown) == 1
        assert shown[0].startswith("person-")
        with pytest.raises(NotAllowed, match="not shown to you"):
            teacher.restrictions.put_on(asked(what=["chess.example"], signed_in=True))


def test_browsers_that_no_web_does_not_reach_are_kept_from_starting(room, service):
    layers = {"filter": "off", "browser": "enforcing", "startup": "enforcing"}
    chromium = {"name": "chromium", "version": "130", "managed": True}
    overridden = {"file": "/etc/x.json", "state": "kept", "overridden_by": ["/etc/y.json"]}
    bare = [
        Wire(service, room, "bare-1", browsers=[chromium, {"name": "Gullwing"}], layers=layers),
        Wire(service, room, "bare-2", browsers=[{"name": "gullwing"}], layers={**layers, "startup": "off"}),
        Wire(service, room, "bare-3", browsers=[{**chromium, "policy": overridden}], layers=layers),
    ]
    for wire in bare:
        wire.sync()
    done = room.restrictions.put_on(asked(key="exam", no_web=True, on=["room-1", "device:bare-1"]))
    assert [(one.name, one.machines, one.starting) for one in done.not_reached] == [("gullwing", 1, 0)]
    assert done.in_force[0].browsers == ("gullwing",)
    assert done.in_force[0].what == ()
    assert verdict(room, "bare-1", start={"file": "gullwing"}) == "block"
    assert verdict(room, "bare-1", start={"file": "chromium"}) == "allow"
    # on others meanwhile: what is put on already goes on, and knows their browsers too
    again = room.restrictions.put_on(asked(key="exam", on=["bare-2", "bare-3"]))
    assert [(one.name, one.machines, one.starting) for one in again.not_reached] == [
        *(("chromium", 1, 0), ("gullwing", 1, 1))
    ]
    assert "starts there all the same" in again.not_reached[1].sentence
    assert len(again.in_force) == 2
    assert verdict(room, "bare-3", start={"file": "chromium"}) == "block"
    assert verdict(room, "bare-1", start={"file": "gullwing"}) == "block"
    room.restrictions.lift("exam")
    # for some people no site list holds, so that no browser is reached by one
    own = room.restrictions.put_on(asked(key="own", no_web=True, on=["bare-1"], people=["cadet-1"]))
    assert [one.name for one in own.not_reached] == ["chromium", "gullwing"]
    assert verdict(room, "bare-1", start={"file": "gullwing"}, user="cadet-2") == "allow"


def test_one_that_ends_is_no_finding_and_goes_as_the_next_is_put_on(room):
    room.restrictions.put_on(asked(what=["chess.example"]))
    put = [one.key for one in room.assignments.list() if one.ruleset.startswith("room-")]
    assert not [one for one in room.findings.list().items if one.kind == "ending" and set(one.assignments) & set(put)]
    room.restrictions.lift("lesson")
    soon = datetime.now(UTC) + timedelta(seconds=1.5)
    room.restrictions.put_on(asked(key="short", what=["chess.example"], until=soon))
    eventually(lambda: not room.restrictions.list().in_force)
    assert [one.ruleset for one in room.assignments.list() if one.ruleset.startswith("room-")] == [
        "room-short-indicator"
    ]
    room.restrictions.put_on(asked(what=["chess.example"]))
    assert [one.ruleset for one in room.assignments.list() if one.ruleset.startswith("room-")] == [
        "room-lesson-indicator"
    ]


def test_one_is_lifted_from_a_machine_that_is_gone_or_whose_name_another_took(room, service):
    for hostname in ("twin-1", "leaving-1"):
        Wire(service, room, hostname).sync()
    on = ["twin-1", "leaving-1", "device:room-1", "group:room"]
    done = room.restrictions.put_on(asked(key="both", what=["chess.example"], on=on))
    assert (done.in_force[0].on, done.push.devices) == (("twin-1", "leaving-1", "room-1", "room"), 4)
    Wire(service, room, "twin-1").sync()
    room.devices.retire("leaving-1", reason="broken")
    lifted = room.restrictions.lift("both")
    assert not lifted.in_force
    assert lifted.push.devices == 3


@pytest.mark.parametrize(
    ("said", "why"),
    [
        ({"key": "never-made"}, "no restriction “never-made” yet"),
        ({"what": ["nothing-at-all-that-is-known"]}, "nothing-at-all-that-is-known"),
        ({"what": ["chess.example"], "on": ["nowhere"]}, "nowhere"),
    ],
)
def test_what_means_nothing_is_refused_and_nothing_is_kept(room, said, why):
    before = next(room.revisions.list()).number
    with pytest.raises(Invalid, match=why):
        room.restrictions.put_on(asked(**said))
    assert not room.restrictions.list().in_force
    assert next(room.revisions.list()).number == before


def test_it_must_end_and_one_that_is_on_is_not_changed_under_its_machines(room):
    with pytest.raises(ValueError, match="a restriction ends"):
        NewRestriction.model_validate({"key": "a", "no_web": True, "on": ["room"]})
    room.restrictions.put_on(asked(key="fixed", what=["chess.example"]))
    with pytest.raises(Invalid, match="lift it first, or take another key"):
        room.restrictions.put_on(asked(key="fixed", no_web=True))
    room.restrictions.lift("fixed")
    room.restrictions.put_on(asked(key="fixed", no_web=True))
    assert room.restrictions.list().in_force[0].what == ()
    room.restrictions.lift("fixed")
    with pytest.raises(NotFound, match="put on nowhere"):
        room.restrictions.lift("fixed")


def test_until_restart_ends_half_a_day_later_at_the_latest(room):
    done = room.restrictions.put_on(asked(key="short", no_web=True, until=None, until_restart=True))
    one = done.in_force[0]
    assert one.until_restart
    assert timedelta(hours=11) < one.until - datetime.now(UTC) <= timedelta(hours=12)
    room.restrictions.lift("short")


def test_it_can_be_previewed(room):
    preview = room.preview(lambda asking: asking.restrictions.put_on(asked(key="seen", no_web=True)))
    assert preview.summary
    assert not room.restrictions.list().in_force
