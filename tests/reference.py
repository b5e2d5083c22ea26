"""A slow and obvious resolver, straight from the page on resolution: no compiling, no indexes, no sharing of code."""

from __future__ import annotations

from dataclasses import dataclass

from portero.core.nouns.estate import Estate
from portero.core.nouns.web_taxonomy import TAXONOMY

STRICT = {"allow": 0, "warn": 1, "block": 2}
NARROW = {"category": 3, "family": 2, "everything": 1}


@dataclass(frozen=True)
class Candidate:
    """One rule in play for one category."""

    assignment: str
    rule: int
    kind: str
    action: str
    mandatory: bool
    target_rank: int
    order: tuple[int, int]


def in_play(estate: Estate, device_groups: tuple[str, ...], category: str) -> tuple[list[Candidate], set]:
    """The deciding rules that compete for a category, and the rules that log it."""
    deciding, logging = [], set()
    family = TAXONOMY.family_of[category]
    for place, assignment in enumerate(estate.assignments):
        holding = [group for group in device_groups if group in assignment.to]
        if assignment.state != "active" or not holding:
            continue
        ruleset = next(one for one in estate.rulesets if one.key == assignment.ruleset)
        for number, rule in enumerate(ruleset.rules, start=1):
            if rule.category not in (None, category) or rule.family not in (None, family):
                continue
            action = str(rule.action)
            if assignment.action == "log":
                action = "log"
            elif assignment.action and action in ("warn", "block"):
                action = str(assignment.action)
            if action == "log":
                logging.add((assignment.key, number))
                continue
            kind = "category" if rule.category else "family" if rule.family else "everything"
            rank = min(device_groups.index(group) for group in holding)
            deciding.append(
                Candidate(assignment.key, number, kind, action, assignment.mandatory, rank, (place, number))
            )
    return deciding, logging


def stronger(one: Candidate, other: Candidate) -> bool:
    """Rungs 2 to 7; among mandatory rules without the target."""
    if one.kind != other.kind:
        return NARROW[one.kind] > NARROW[other.kind]
    if not one.mandatory and one.target_rank != other.target_rank:
        return one.target_rank < other.target_rank
    if one.action != other.action:
        return STRICT[one.action] > STRICT[other.action]
    return one.order < other.order


def strongest(candidates: list[Candidate]) -> Candidate | None:
    """The one that is stronger than every other."""
    for one in candidates:
        if all(one is other or stronger(one, other) for other in candidates):
            return one
    return None


def settle(candidates: list[Candidate]) -> Candidate | None:
    """Rung 1 in full."""
    mandatory = strongest([one for one in candidates if one.mandatory])
    ordinary = strongest([one for one in candidates if not one.mandatory])
    if mandatory is None:
        return ordinary
    if mandatory.action == "allow" or ordinary is None:
        return mandatory
    return ordinary if STRICT[ordinary.action] > STRICT[mandatory.action] else mandatory


def resolve(estate: Estate, device_groups: tuple[str, ...], categories: tuple[str, ...]):
    """Verdict, winner (assignment, rule) and the logged rules of a visit to a host of these categories."""
    winners, logged = [], set()
    for category in categories:
        candidates, logging = in_play(estate, device_groups, category)
        logged |= logging
        winner = settle(candidates)
        if winner:
            winners.append(winner)
    if not winners:
        return "allow", None, logged
    strict = max(STRICT[one.action] for one in winners)
    left = [one for one in winners if STRICT[one.action] == strict]
    left = [one for one in left if one.mandatory] or left
    for one in left:
        if all(one == other or stronger(one, other) for other in left):
            return one.action, (one.assignment, one.rule), logged
    raise AssertionError("nobody is strongest")
