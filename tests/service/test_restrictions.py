"""Restrictions for a room: put on, told of, lifted, and used again; nothing elsewhere opens what they close."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest

from conftest import Wire, assignment, group
from portero.client import Invalid, NotFound
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.directory import Directory
from portero.core.nouns.restriction import NewRestriction
from portero.core.nouns.ruleset import Ruleset

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
    wires = [Wire(service, portero, hostname, **facts) for hostname in ("room-1", "room-2", "beside-1")]
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
