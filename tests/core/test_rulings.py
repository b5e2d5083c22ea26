"""Rulings of the estate kernel against the slow second answer: on every device, on every occasion."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from random import Random
from typing import NamedTuple

import pytest
from slow_looks import every_device
from slow_rulings import rule_on
from test_kernel import with_site_lists
from worlds import Fleet, changed, made

from portero.core.insight.effects.comparing import Comparison
from portero.core.insight.effects.kernel import Kernel
from portero.core.insight.effects.occasions import together
from portero.core.insight.effects.rulings import Rulings
from portero.core.insight.effects.subjects import KnownSubjects, Subject, subjects_of
from portero.core.matching.classes import names_of
from portero.core.nouns.action import Action
from portero.core.nouns.device import Kind
from portero.core.nouns.estate import Estate
from portero.core.resolving.compiling import compile_bundle
from portero.core.resolving.policy import Policy
from thorough import times

ESTATES = times(48, 1500)


class Both(NamedTuple):
    """Two states of the estate over one fleet."""

    fleet: Fleet
    estates: tuple[Estate, Estate]
    compared: Comparison

    @classmethod
    def of(cls, fleet: Fleet, before: Estate, after: Estate) -> Both:
        world, estates = fleet.world(before), (before, after)
        then = fleet.groups(after)
        pairs = world.classes.moving({id: groups for id, groups in then.items() if groups != world.groups(id)})
        return cls(fleet, estates, Comparison(estates, [*map(world.matcher, estates)], pairs, world))

    @property
    def rulings(self) -> list[Rulings]:
        return self.compared.rulings

    @property
    def kernels(self) -> list[Kernel]:
        return [one.kernel for one in self.rulings]


def subjects(both: Both, chance: Random) -> list[tuple[int, Subject]]:
    world = both.fleet.world(both.estates[0])
    known = KnownSubjects.of(both.estates, world.programs, world.catalogue)
    found = dict.fromkeys(
        subject
        for estate in both.estates
        for ruleset in estate.rulesets
        for rule in ruleset.rules
        for subject in subjects_of(ruleset.kind, rule.selector, known)
    )
    return list(enumerate(chance.sample(list(found), min(len(found), 25))))


def generated(seed: int) -> tuple[Both, Random]:
    maker, estate, fleet = made(seed)
    estate = with_site_lists(estate, seed) if seed % 3 else estate
    return Both.of(fleet, estate, changed(maker, estate, seed + 10_000)), maker.rng


@pytest.mark.parametrize("part", range(4))
def test_each_ruling_is_what_its_machine_decides(part):
    seen: Counter[str] = Counter()
    for seed in range(part, ESTATES, 4):
        both, chance = generated(seed)
        for _, subject in subjects(both, chance):
            seen += compared(both, subject, chance, seed)
    assert min(seen[word] for word in Action) > 100, seen


def compared(both: Both, subject: Subject, chance: Random, seed: int) -> Counter[str]:
    bouts = [ruling.bout(subject) for ruling in both.rulings]
    shown = [bout.shown for bout in bouts]
    contests = [contest for bout in bouts for contest in bout.contests]
    seen: Counter[str] = Counter()
    # all at once, in whatever zone, servers among them
    sides = both.kernels[0].sorts.within(-1)
    devices = sum(side.where.bit_count() for side in sides)
    occasions = both.kernels[0].occasions(contests, sides)
    for state, (estate, ruling) in enumerate(zip(both.estates, both.rulings, strict=True)):
        pieces = ruling.rule(bouts[state], occasions, sides)
        covered = 0
        for _, when, where in pieces:
            covered += when.bit_count() * where.bit_count()
        # each occasion on each sort is told once
        assert covered == occasions.ever.bit_count() * devices
        for said, when, where in pieces:
            bits = [bit for bit in range(when.bit_length()) if when >> bit & 1]
            for bit in chance.sample(bits, min(len(bits), 4)):
                circumstance = occasions.plainest(1 << bit)
                member = chance.choice(both.kernels[state].sorts.members(where))[0]
                policy = policy_of(both.fleet, estate, member)
                lasting = {one.key for one in policy.bundle.assignments if one.until_restart}
                own = circumstance._replace(is_server=member.facts.kind == Kind.SERVER)
                frame = policy.frame(own.situation(member.facts.zone, lasting))
                behind = both.kernels[state].sorts.behind_gateway
                is_behind = any(member in some for some in both.kernels[state].sorts.members(behind))
                meant = rule_on(policy, frame, shown[state], is_behind and circumstance.place == "on-site")
                assert said.word is meant.word, (seed, subject, member.id, circumstance)
                if meant.by is not None:
                    own_by = policy.bundle.assignments[meant.by.assignment]
                    assert said.by is not None
                    told = (said.by.assigned.header.key, said.by.contender.rule, said.by.target.name, said.layer)
                    assert told == (own_by.key, meant.by.rule, own_by.target, meant.layer), (seed, subject)
                seen[said.word] += 1
    return seen


_policies: dict[tuple[int, str], tuple[Estate, Policy]] = {}


def policy_of(fleet: Fleet, estate: Estate, member) -> Policy:
    known = _policies.get((id(estate), member.id))
    if known is None:
        made_of = Policy(compile_bundle(estate, fleet.groups(estate)[member.id], names_of(member)))
        known = _policies[id(estate), member.id] = (estate, made_of)
    return known[1]


@pytest.mark.parametrize("part", range(2))
def test_no_occasion_that_counts_is_left_out(part):
    """The words that a machine ever says of a subject, beside those on every moment of everything in the estate."""
    for seed in range(part, max(ESTATES // 4, 12), 2):
        both, chance = generated(seed)
        every = list(
            every_device(
                both.estates, [both.fleet.world(one) for one in both.estates], both.fleet.world(both.estates[0]).now
            )
        )
        for _, subject in subjects(both, chance)[:8]:
            shown = [ruling.bout(subject).shown for ruling in both.rulings]
            for looked in every:
                meant = {
                    tuple(
                        rule_on(policy, frame, one, gateway).word
                        for policy, frame, one, gateway in zip(
                            looked.policies, look.frames, shown, look.to_gateway, strict=True
                        )
                    )
                    for look in looked.looks
                }
                assert words(both, subject, looked.member) == meant, (seed, subject, looked.member.id)


def words(both: Both, subject: Subject, member) -> set[tuple[Action, ...]]:
    """What the kernel ever rules of a subject on a device, under both states at once."""
    return {
        (was.word, then.word)
        for (was, then), _, where in ruled(both, subject)
        if any(member in some for some in both.kernels[0].sorts.members(where))
    }


def ruled(both: Both, subject: Subject) -> Iterator:
    bouts = [ruling.bout(subject) for ruling in both.rulings]
    contests = [contest for bout in bouts for contest in bout.contests]
    for sides in both.kernels[0].alike(contests, -1):
        occasions = both.kernels[0].occasions(contests, sides)
        old, new = (ruling.rule(bout, occasions, sides) for ruling, bout in zip(both.rulings, bouts, strict=True))
        for was, when, where in old:
            for then, other, there in new:
                if (both_when := when & other) and (at := where & there):
                    yield (was, then), both_when, at


@pytest.mark.parametrize("part", range(2))
def test_nothing_that_gets_another_word_is_left_out(part):
    """What is looked at where something that counts is another, beside everything everywhere."""
    for seed in range(part, ESTATES, 2):
        both, chance = generated(seed)
        for _, subject in subjects(both, chance):
            shifts = list(both.compared.shifts(subject))
            for member in both.fleet.members:
                found = {
                    (one.was.word, one.then.word)
                    for one in shifts
                    if any(member in some for some in both.compared.members(one.where))
                }
                meant = {pair for pair in words(both, subject, member) if pair[0] is not pair[1]}
                assert found == meant, (seed, subject, member.id)


def test_pieces_are_put_together_by_when():
    chance = Random(7)
    for _ in range(200):
        pieces = [(chance.getrandbits(5), chance.getrandbits(6)) for _ in range(chance.randrange(6))]
        found = together(pieces)
        for place in range(6):
            meant = 0
            for when, where in pieces:
                meant |= when if where >> place & 1 else 0
            assert [when for when, where in found.items() if where >> place & 1 and when] == ([meant] if meant else [])
