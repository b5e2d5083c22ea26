"""A fleet sorted into classes: what is told of it is what is told device by device, before and after some move."""

from __future__ import annotations

import random

import pytest
from worlds import BASE, made

from portero.core.matching.classes import FleetClasses
from portero.core.matching.fleet import Fleet
from portero.core.matching.members import Member
from portero.core.matching.membership import Membership
from portero.core.nouns.estate import Estate
from thorough import times


def sorted_ids(classes: dict) -> dict:
    return {groups: sorted(member.id for member in members) for groups, members in classes.items() if members}


def kind_of(member: Member) -> str:
    return member.facts.kind


@pytest.mark.parametrize("seed", range(times(20, 200)))
def test_devices_that_move_are_where_they_should_be(seed):
    _, estate, fleet = made(seed)
    rng, groups = random.Random(seed), fleet.groups(estate)
    classes = FleetClasses.of(fleet.members, groups.__getitem__)
    some = rng.sample(fleet.members, rng.randint(0, len(fleet.members)))
    known = [*groups.values(), ("nowhere", "whole-fleet")]
    moved = {member.id: rng.choice(known) for member in some} | {"no-such-device": ("nowhere",)}
    meant = FleetClasses.of(fleet.members, lambda id: moved.get(id, groups[id]))
    assert sorted_ids(classes.once(moved)) == sorted_ids(meant)
    pairs = {(groups[member.id], moved.get(member.id, groups[member.id])) for member in fleet.members}
    found = classes.moving(moved)
    assert {pair for pair, members in found.items() if members} == pairs
    assert sum(map(len, found.values())) == len(fleet.members)
    # what was sorted once is as it was
    assert sorted_ids(classes) == sorted_ids(FleetClasses.of(fleet.members, groups.__getitem__))


@pytest.mark.parametrize("seed", range(5))
def test_devices_are_told_apart_and_found_by_their_names(seed):
    _, estate, fleet = made(seed)
    groups = fleet.groups(estate)
    classes = FleetClasses.of(fleet.members, groups.__getitem__)
    for own, members in classes.items():
        for _ in range(2):
            told = classes.apart(own, members, kind_of)
            assert {kind: [one.id for one in some] for kind, some in told.items()} == {
                kind: [one.id for one in members if one.facts.kind == kind] for kind in {*map(kind_of, members)}
            }
        # of others than all of a class nothing is remembered
        assert sum(map(len, classes.apart(own, members[:1], kind_of).values())) == 1
        assert sum(map(len, classes.apart(own, members, kind_of).values())) == len(members)
    for member in fleet.members:
        assert classes.by_name[member.id] == (groups[member.id], member)
        assert classes.by_name[member.facts.hostname][1] is member


def test_a_fleet_is_sorted_again_once_it_has_changed():
    _, estate, generated = made(3)

    def membership(of: Estate) -> Membership:
        return Membership(of.groups, of.group_order)

    fleet = Fleet(membership(estate))
    fleet.put_all(generated.members, BASE)
    first = fleet.classes()
    assert fleet.classes() is first
    assert sorted_ids(first) == sorted_ids(FleetClasses.of(fleet.members(), fleet.groups_of))
    gone = generated.members[0]
    fleet.drop(gone.id)
    assert gone.id not in fleet.classes().by_name
    fleet.put(gone, BASE)
    assert sorted_ids(fleet.classes()) == sorted_ids(first)
    without = estate.replacing(groups=estate.groups[1:], precedence=())
    fleet.take(fleet.plan(membership(without), BASE))
    assert sorted_ids(fleet.classes()) == sorted_ids(FleetClasses.of(fleet.members(), fleet.groups_of))
    assert sorted_ids(fleet.classes()) != sorted_ids(first)
