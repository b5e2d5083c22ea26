"""What a policy rules of a subject in a frame, without the words: one word, and by which rule."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime
from typing import NamedTuple

from portero.core.insight.effects.subjects import Shown
from portero.core.nouns.action import STRICTNESS, Action
from portero.core.nouns.layer import Layer, LayerMode
from portero.core.resolving.deciding import decide, weigh, weigh_sites, weigh_start
from portero.core.resolving.ladder import Contender
from portero.core.resolving.policy import Frame, Policy
from portero.core.resolving.situations import Situation


class Ruling(NamedTuple):
    """Allow, warn or block; or log, where it is let through and recorded. And the layer and the rule that say so."""

    word: Action
    layer: Layer | None = None
    by: Contender | None = None


ALLOWED = Ruling(Action.ALLOW)
ANY_TIME = Situation(datetime(1970, 1, 1, tzinfo=UTC))
"""For looking up which rules match, in play or not: the situation does not count there."""


def rules_met(policy: Policy, frame: Frame, shown: Shown) -> Iterator[Contender]:
    """Every rule that matches a subject, in play or not."""
    if shown.visited is not None:
        outcome = weigh(frame, shown.visited)
        yield from outcome.met
        for contest in outcome.contests:
            yield from contest.contenders
        yield from (one for _, one in policy.sites_met(shown.visited.visit))
    elif shown.started is not None:
        yield from weigh_start(frame, shown.started).contenders


def rule_on(policy: Policy, frame: Frame, shown: Shown, to_gateway: bool = False) -> Ruling:
    """What the estate means to become of a subject. `to_gateway`: the machine leaves filtering to a gateway."""
    if shown.started is not None:
        return _start(policy, frame, shown)
    found = ALLOWED
    for layer, winner in _layers(policy, frame, shown, to_gateway):
        found = _stricter(found, _in_mode(policy, layer, winner))
    if found.word is Action.ALLOW and not to_gateway:
        logged = _logged(policy, frame, shown)
        return logged if logged is not None else found
    return found


def _layers(policy: Policy, frame: Frame, shown: Shown, to_gateway: bool) -> Iterator[tuple[Layer, Contender | None]]:
    assert shown.visited is not None
    if policy.sites:
        listed = weigh_sites(frame, shown.visited.visit).winner
        yield Layer.BROWSER, listed[1] if listed else None
    if not to_gateway:
        yield Layer.FILTER, decide(frame, shown.visited)


def _in_mode(policy: Policy, layer: Layer, winner: Contender | None) -> Ruling:
    mode = policy.bundle.layers[layer]
    if winner is None or mode == LayerMode.OFF:
        return ALLOWED
    if mode == LayerMode.OBSERVING:
        return ALLOWED if winner.action == Action.ALLOW else Ruling(Action.LOG, layer, winner)
    return Ruling(Action(winner.action), layer, winner)


_RANK = {action: STRICTNESS[action] for action in (Action.ALLOW, Action.WARN, Action.BLOCK)} | {Action.LOG: 0.5}


def _stricter(ruling: Ruling, other: Ruling) -> Ruling:
    """The stricter; of two equal ones the first that some rule says."""
    if _RANK[other.word] > _RANK[ruling.word] or ruling.by is None:
        return other if _RANK[other.word] >= _RANK[ruling.word] else ruling
    return ruling


def _logged(policy: Policy, frame: Frame, shown: Shown) -> Ruling | None:
    if policy.bundle.layers[Layer.FILTER] == LayerMode.OFF:
        return None
    for contender in rules_met(policy, frame, shown):
        kind = policy.bundle.assignments[contender.assignment].kind
        # a site list that is only to log is not handed over at all, and nothing records it
        if contender.action == Action.LOG and kind != "site" and frame.counts(contender):
            return Ruling(Action.LOG, Layer.FILTER, contender)
    return None


def _start(policy: Policy, frame: Frame, shown: Shown) -> Ruling:
    assert shown.started is not None
    if shown.essential:
        return ALLOWED
    outcome = weigh_start(frame, shown.started)
    found = _in_mode(policy, Layer.STARTUP, outcome.settled.winner)
    if found.word is Action.ALLOW and outcome.logged and policy.bundle.layers[Layer.STARTUP] != LayerMode.OFF:
        return Ruling(Action.LOG, Layer.STARTUP, outcome.logged[0])
    return found


class Judge:
    """Rules on one subject under one policy, frame after frame; what differs in no rule that matches is known."""

    def __init__(self, policy: Policy, shown: Shown) -> None:
        self._policy, self._shown = policy, shown
        met = list(rules_met(policy, policy.frame(ANY_TIME), shown))
        self._assignments = sorted({contender.assignment for contender in met})
        held_back = policy.holds_back and shown.started is not None
        self._ends = held_back or any(contender.until is not None for contender in met)
        self._known: dict[tuple[object, ...], Ruling] = {}

    def rule(self, frame: Frame, to_gateway: bool) -> Ruling:
        """What the estate means to become of the subject."""
        people = frame.people
        at = frame.at if self._ends else None
        key = (to_gateway, at, frame.is_server, *(people[place] for place in self._assignments))
        known = self._known.get(key)
        if known is None:
            known = self._known[key] = rule_on(self._policy, frame, self._shown, to_gateway)
        return known
