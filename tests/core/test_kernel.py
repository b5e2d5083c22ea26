"""The estate kernel against the slow second answer: the same rules meet, on the same machines, over the same things."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from datetime import timedelta
from random import Random

import pytest
from slow_contests import Contests as SlowContests
from slow_contests import InForce, Meeting
from slow_contests import hold_contests as hold_slowly
from worlds import Fleet, changed, made

from made_estates import BASE
from portero.core.insight.effects.kernel import Kernel
from portero.core.insight.effects.outcomes import Outcomes
from portero.core.insight.effects.subjects import Subject
from portero.core.insight.findings import find_all
from portero.core.insight.findings.contests import hold_contests
from portero.core.insight.findings.finding import Found
from portero.core.insight.findings.meetings import Contests
from portero.core.nouns.action import STOPPING, Action
from portero.core.nouns.estate import Estate
from portero.core.nouns.verdict import Rung
from thorough import times

ESTATES = times(160, 3000)
KINDS = ("met", "softened", "disagreeing")
PATTERNS = (
    *("*", "play.example", ".play.example", "www.play.example", "files.example/a", "https://files.example", "example"),
    *("drop.files.example", "files.example:80", "http://*", "find.example/?q=cheat", "a.drop.files.example/a/b"),
)


def with_site_lists(estate: Estate, seed: int) -> Estate:
    """The estate with site lists over the same hosts, some mandatory, some that stand in place of weaker ones."""
    chance = Random(seed)
    document = estate.model_dump(mode="json", exclude_none=True)
    targets = ["whole-fleet", {"device": "kiosk-1"}, *(group.key for group in estate.groups)]
    for number in range(chance.randint(1, 4)):
        patterns = chance.sample(PATTERNS, chance.randint(1, 5))
        rules = [{"pattern": one, "action": chance.choice(["allow", "block", "block"])} for one in patterns]
        mandatory = chance.random() < 0.3 and not any(
            rule["action"] == "allow" and rule["pattern"] in ("*", "http://*", "example") for rule in rules
        )
        document["rulesets"].append({"key": f"sites-{number}", "kind": "site", "rules": rules})
        for put in range(chance.randint(1, 2)):
            document["assignments"].append(
                {
                    "key": f"sites-{number}-{put}",
                    "ruleset": f"sites-{number}",
                    "to": chance.sample(targets, 2),
                    "mandatory": mandatory,
                    **({"replaces_weaker": True} if chance.random() < 0.25 else {}),
                    **({"schedule": "hours-0"} if chance.random() < 0.25 else {}),
                    **({"place": "on-site"} if chance.random() < 0.15 else {}),
                    **({"action": "log"} if chance.random() < 0.1 else {}),
                }
            )
    return Estate.model_validate(document)


Told = dict[Meeting, tuple[frozenset[str], frozenset[Subject]]]


def quickly(found: Contests, estate: Estate, kind: str) -> Told:
    told: dict[Meeting, tuple[set[str], set[Subject]]] = {}
    for meeting, (won, lost), subject, where in _one_by_one(found, kind):
        winner, loser = meeting.winner, meeting.loser
        if devices := {member.id for member in found.devices(where)}:
            sides = (
                InForce(side.assignment, side.ruleset, rule, side.target, side.action, side.mandatory)
                for side, rule in ((winner, won), (loser, lost))
            )
            held, subjects = told.setdefault(Meeting(*sides, meeting.rung), (set(), set()))
            held |= devices
            subjects.add(subject)
    return {key: (frozenset(devices), frozenset(subjects)) for key, (devices, subjects) in told.items()}


def _one_by_one(found: Contests, kind: str):
    for shape, outcome in found.held:
        for (meeting, winner, loser), where in getattr(outcome, kind).items():
            for rules, subject in zip(shape.rules, shape.subjects, strict=True):
                yield meeting, (rules[winner], rules[loser]), subject, where


def winning_in(found: Contests, estate: Estate) -> set[tuple[str, int]]:
    """The rules that win somewhere, by assignment and number."""
    active = [one for one in estate.assignments if one.state == "active"]
    own = {(one.key, number) for ruleset, number in found.alone for one in active if one.ruleset == ruleset}
    for shape, outcome in found.held:
        own |= {(key, rules[slot]) for key, slot in outcome.won for rules in shape.rules}
    return own


def in_play_in(found: Contests) -> dict[tuple[str, int], set[str]]:
    """The rules that count somewhere, by assignment and number, and on which devices."""
    own: dict[tuple[str, int], set[str]] = {}
    for shape, outcome in found.held:
        for (key, slot), where in outcome.in_play.items():
            for rules in shape.rules:
                own.setdefault((key, rules[slot]), set()).update(member.id for member in found.devices(where))
    return own


def slowly(found: SlowContests, kind: str) -> Told:
    return {
        key: (
            frozenset(tally.devices),
            frozenset(tally.subjects),
        )
        for key, tally in getattr(found, kind).items()
    }


def is_told(meeting: Meeting, estate: Estate, winning: set[tuple[str, int]]) -> bool:
    """Whether findings are made of a meeting."""
    winner, loser = meeting.winner, meeting.loser
    if (loser.assignment, loser.rule) not in winning:
        return True
    if winner.mandatory or loser.mandatory:
        return False
    if meeting.rung is Rung.TARGET:
        return winner.action is not loser.action
    closes = estate.ruleset_by_key[loser.ruleset].rules[loser.rule - 1].names_everything
    opens = winner.action is Action.ALLOW and loser.action in STOPPING and closes
    return opens and meeting.rung in (Rung.SELECTOR, Rung.BROWSER)


@pytest.mark.parametrize("part", range(4))
def test_the_same_rules_meet_on_the_same_machines(part):
    number: Counter[str] = Counter()
    for seed in range(part, ESTATES, 4):
        _, estate, fleet = made(seed)
        number += compared(with_site_lists(estate, seed) if seed % 3 else estate, fleet, seed)
    assert number["met"] > ESTATES
    assert number["disagreeing"] + number["softened"] > 5


def compared(estate: Estate, fleet: Fleet, seed: int) -> Counter[str]:
    world, other = fleet.world(estate), fleet.world(estate)
    quick, slow = hold_contests(estate, world, world.matcher(estate)), hold_slowly(estate, other, other.matcher(estate))
    assert winning_in(quick, estate) == slow.winning, seed
    assert in_play_in(quick) == {key: tally.devices for key, tally in slow.in_play.items()}, seed
    for kind in KINDS:
        found, told = quickly(quick, estate, kind), slowly(slow, kind)
        for meeting, about in told.items():
            if kind != "met" or is_told(meeting, estate, slow.winning):
                assert found.get(meeting) == about, (seed, kind, meeting)
        assert not found.keys() - told.keys(), (seed, kind)
    return Counter({kind: len(quickly(quick, estate, kind)) for kind in KINDS})


def test_nobody_is_left_out_however_many_they_are():
    users = [f"cadet-{number}" for number in range(300)]
    open_, closed = (
        {"key": key, "kind": "category", "rules": [{"category": "games", "action": action}]}
        for key, action in (("open", "allow"), ("closed", "block"))
    )
    own = [
        {"key": f"for-{user}", "ruleset": "open", "to": ["whole-fleet"], "people": {"users": [user]}} for user in users
    ]
    for_all = {"key": "for-all", "ruleset": "closed", "to": ["whole-fleet"]}
    estate = Estate.model_validate({"portero": 1, "rulesets": [open_, closed], "assignments": [*own, for_all]})
    fleet = Fleet.of({"portero_facts": 1, "devices": [{"hostname": "pc"}], "directory": {"users": users}})
    world = fleet.world(estate)
    found = hold_contests(estate, world, world.matcher(estate))
    assert winning_in(found, estate) == {(key, 1) for key in ("for-all", *(one["key"] for one in own))}


def test_what_was_worked_out_before_is_so_still_as_far_as_it_is_used():
    """One estate after the other, each with parts of another one; what is kept is used, and nothing shows it."""
    for seed in range(times(40, 400)):
        maker, estate, fleet = made(seed)
        kept = Outcomes()
        for step in range(4):
            fresh, used = fleet.world(estate), replace(fleet.world(estate), outcomes=kept)
            one, other = (hold_contests(estate, world, world.matcher(estate)) for world in (fresh, used))
            winning = winning_in(one, estate)
            assert winning == winning_in(other, estate), (seed, step)
            assert in_play_in(one) == in_play_in(other), (seed, step)
            for kind in KINDS:
                meant, told = (
                    {
                        meeting: about
                        for meeting, about in quickly(found, estate, kind).items()
                        if kind != "met" or is_told(meeting, estate, winning)
                    }
                    for found in (one, other)
                )
                assert meant == told, (seed, step, kind)
            estate = changed(maker, estate, 10 * seed + step)


def test_after_one_change_only_what_it_touches_is_worked_out_again(monkeypatch):
    groups = [{"key": f"group-{number}", "pins": {"in": ["pc"]}} for number in range(6)]
    rulesets = [
        {"key": f"rules-{number}", "kind": "category", "rules": [{"category": key, "action": action}]}
        for number, (key, action) in enumerate(
            [("games", "allow"), ("games", "block"), ("news", "block"), ("news", "warn")]
        )
    ]
    put = [{"key": f"put-{number}", "ruleset": f"rules-{number}", "to": [f"group-{number}"]} for number in range(4)]
    estate = Estate.model_validate({"portero": 1, "groups": groups, "rulesets": rulesets, "assignments": put})
    fleet = Fleet.of({"portero_facts": 1, "devices": [{"hostname": "pc"}]})
    held: list[object] = []
    contest = Kernel.contest

    def counted(self, *given):
        held.append(given)
        return contest(self, *given)

    monkeypatch.setattr(Kernel, "contest", counted)
    world = fleet.world(estate)
    hold_contests(estate, world, world.matcher(estate))
    first = len(held)
    assert first
    hold_contests(estate, world, world.matcher(estate))
    assert len(held) == first
    one = estate.assignments[0].model_copy(update={"mandatory": True})
    after = estate.replacing(assignments=(one, *estate.assignments[1:]))
    hold_contests(after, world, world.matcher(after))
    assert first < len(held) < 2 * first


def told(found: Found) -> dict[str, object]:
    """The findings by their ids, with the devices of each; what they are called after hangs on what was seen first."""
    return {
        one.id: (
            one.severity,
            one.devices,
            one.assignments,
            one.groups,
            {member.id for member in found.devices[one.id]},
        )
        for one in found.items
    }


def test_findings_that_are_kept_are_what_they_would_be_made_anew():
    """Before and after a change, and ahead of it, where some machines would have other groups."""
    moving = 0
    for seed in range(times(30, 400)):
        maker, estate, fleet = made(seed)
        kept, state = Outcomes(), object()
        for step in range(4):
            world = replace(fleet.world(estate), outcomes=kept, state=state)
            assert told(find_all(estate, world)) == told(find_all(estate, fleet.world(estate))), (seed, step)
            after = changed(maker, estate, 10 * seed + step)
            then = fleet.groups(after)
            moved = {id: groups for id, groups in then.items() if groups != world.groups(id)}
            moving += bool(moved)
            ahead = told(find_all(after, world.once(moved)))
            assert ahead == told(find_all(after, fleet.world(after))), (seed, step, moved)
            if step % 2:
                estate = after
    assert moving > 10


def test_what_is_kept_goes_with_what_begins_and_ends():
    """Minutes, days and weeks later: what has begun or ended meanwhile counts, and nothing else is another."""
    for seed in range(times(20, 300)):
        _, estate, fleet = made(seed)
        kept, state = Outcomes(), object()
        for later in (timedelta(), timedelta(minutes=1), timedelta(days=1), timedelta(days=6), timedelta(days=40)):
            world = replace(fleet.world(estate, BASE + later), outcomes=kept, state=state)
            assert told(find_all(estate, world)) == told(find_all(estate, fleet.world(estate, BASE + later))), (
                seed,
                later,
            )
