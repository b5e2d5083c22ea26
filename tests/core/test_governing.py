"""Everything that governs a machine: what its bundle is made of, and what says so."""

from __future__ import annotations

import pytest
from judging import assigned, rules
from worlds import made

from portero.core.insight.governing import Governing, governing
from portero.core.nouns.device import Device, Facts, Lifecycle
from portero.core.nouns.estate import Estate
from portero.core.nouns.group import BUILT_IN
from portero.core.resolving.compiling import compile_bundle

HOURS = {"key": "rest", "zone": "UTC", "windows": [{"days": ["mon"], "from": "18:00", "to": "22:00"}]}


def device(name: str, groups: tuple[str, ...]) -> Device:
    facts = Facts(hostname=name)
    return Device(id=name, hostname=name, lifecycle=Lifecycle.ENROLLED, groups=groups, facts=facts)


def named(estate: Estate, one: Device) -> dict[tuple[str, str], Governing]:
    found = list(governing(estate, one))
    by_name = {(each.noun, each.key): each for each in found}
    assert len(by_name) == len(found), "each is told once"
    return by_name


@pytest.mark.parametrize("seed", range(25))
def test_every_assignment_in_a_machines_bundle_governs_it_and_what_those_name_too(seed):
    _, estate, fleet = made(seed)
    groups = fleet.groups(estate)
    for member in fleet.members:
        found = named(estate, device(member.id, groups[member.id]))
        bundle = compile_bundle(estate, groups[member.id], (member.id,))
        held = {assignment.key for assignment in bundle.assignments}
        told = {key for noun, key in found if noun == "assignment"}
        assert held <= told
        # what is paused or a draft is told too, as somebody may wonder; nothing else is
        idle = {assignment.key for assignment in estate.assignments if assignment.state != "active"}
        reached = {
            assignment.key
            for assignment in estate.assignments
            if {*assignment.groups} & {*groups[member.id]} or member.id in assignment.named_devices
        }
        assert told == reached
        assert held <= reached - idle
        rulesets = {assignment.ruleset for assignment in estate.assignments if assignment.key in told}
        assert {key for noun, key in found if noun == "ruleset"} == rulesets
        schedules = {
            assignment.schedule for assignment in estate.assignments if assignment.key in told and assignment.schedule
        }
        assert {key for noun, key in found if noun == "schedule"} == schedules
        assert {key for noun, key in found if noun == "group"} == {*groups[member.id]} - {*BUILT_IN}


def test_why_each_governs_is_told():
    block = rules("startup", {"application_set": "games", "action": "block"}, key="no-games")
    own = {"key": "games", "include": [{"product": "Solitaire"}]}
    estate = assigned(
        (block, "weak", {"schedule": "rest"}),
        (rules("category", {"category": "games", "action": "block"}), "device:pc"),
        schedules=[HOURS],
        application_sets=[own],
        layer_modes=[{"group": "weak", "startup": "observing"}],
    )
    found = named(estate, device("pc", ("strong", "weak", "whole-fleet")))
    because = {key: one.because for (_, key), one in found.items()}
    assert because["no-games-0--weak"] == "by group weak"
    assert because[estate.assignments[1].key] == "by its name"
    assert because["no-games-0"] == because["games"] == because["rest"] == "by assignment no-games-0--weak"
    assert because["precedence"] == "it says which of its groups is the stronger"
    assert ("layer modes", "weak") in found
    assert found["ruleset", "no-games-0"].sentence


def test_without_two_groups_their_order_does_not_count():
    estate = assigned((rules("category", {"category": "games", "action": "block"}), "weak"))
    found = named(estate, device("other", ("whole-fleet",)))
    assert set(found) == {("settings", "settings")}
