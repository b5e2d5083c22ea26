"""A slow second answer: what a policy rules of a subject in one frame."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from portero.core.insight.effects.subjects import Shown
from portero.core.nouns.action import STRICTNESS, Action
from portero.core.nouns.layer import Layer, LayerMode
from portero.core.resolving.deciding import decide, weigh, weigh_sites, weigh_start
from portero.core.resolving.ladder import Contender
from portero.core.resolving.policy import Frame, Policy


class Ruling(NamedTuple):
    """One word, and by which rule."""

    word: Action
    layer: Layer | None = None
    by: Contender | None = None


ALLOWED = Ruling(Action.ALLOW)
_RANK = {action: STRICTNESS[action] for action in (Action.ALLOW, Action.WARN, Action.BLOCK)} | {Action.LOG: 0.5}


def rule_on(policy: Policy, frame: Frame, shown: Shown, to_gateway: bool) -> Ruling:
    """What the estate means to become of a subject."""
    if shown.started is not None:
        return _start(policy, frame, shown)
    found = ALLOWED
    for layer, winner in _layers(policy, frame, shown, to_gateway):
        found = _stricter(found, _in_mode(policy, layer, winner))
    if found.word is Action.ALLOW and not to_gateway and policy.bundle.layers[Layer.FILTER] != LayerMode.OFF:
        assert shown.visited is not None
        outcome = weigh(frame, shown.visited)
        for contender in (*outcome.met, *(one for contest in outcome.contests for one in contest.contenders)):
            if contender.action == Action.LOG and frame.counts(contender):
                return Ruling(Action.LOG, Layer.FILTER, None)
    return found


def _layers(policy: Policy, frame: Frame, shown: Shown, to_gateway: bool) -> Iterator[tuple[Layer, Contender | None]]:
    assert shown.visited is not None
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


def _stricter(ruling: Ruling, other: Ruling) -> Ruling:
    if _RANK[other.word] > _RANK[ruling.word] or ruling.by is None:
        return other if _RANK[other.word] >= _RANK[ruling.word] else ruling
    return ruling


def _start(policy: Policy, frame: Frame, shown: Shown) -> Ruling:
    assert shown.started is not None
    if shown.essential:
        return ALLOWED
    outcome = weigh_start(frame, shown.started)
    found = _in_mode(policy, Layer.STARTUP, outcome.settled.winner)
    if found.word is Action.ALLOW and outcome.logged and policy.bundle.layers[Layer.STARTUP] != LayerMode.OFF:
        return Ruling(Action.LOG, Layer.STARTUP, None)
    return found
