"""Earlier states of the estate: each change undone, from the newest back."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any, NamedTuple

from portero.core.insight.differences import NOUNS, named
from portero.core.insight.folding import Places, unfold
from portero.core.nouns.estate import Estate
from portero.core.nouns.revision import Change


class Undo(NamedTuple):
    """What it takes to undo a change: the change; and where a removed object stood in its list, from 0."""

    change: Change
    stood: int | None = None
    places: Places | None = None
    """Where the change is of a long ruleset, and only what differs of it was kept."""


class Step(NamedTuple):
    """What it takes to undo a revision: its changes, and the lists' order before where it put them in another one."""

    undos: Sequence[Undo]
    orders: Mapping[str, Sequence[str]] = {}


def undone(estate: Estate, steps: Iterable[Step]) -> Estate:
    """The estate as it was before these revisions, given from the newest back."""
    document = estate.model_dump(mode="json", exclude_none=True)
    for step in steps:
        # what was made goes first: then what was removed finds its place among what stayed
        for undo in sorted(step.undos, key=lambda one: (one.change.verb == "removed", one.stood or 0)):
            _undo(document, undo)
        for noun, keys in step.orders.items():
            place = {key: number for number, key in enumerate(keys)}
            objects = document[NOUNS[noun][0]]
            objects.sort(key=lambda one, noun=noun, place=place: place.get(named(noun, one), len(place)))
    return Estate.model_validate(document)


def _undo(document: dict[str, Any], undo: Undo) -> None:
    change = undo.change
    if change.noun not in NOUNS:
        document[change.noun] = (change.before or {})[change.noun]
        return
    objects: list[dict[str, Any]] = document.setdefault(NOUNS[change.noun][0], [])
    at = next((number for number, one in enumerate(objects) if named(change.noun, one) == change.key), None)
    if change.verb == "created" and at is not None:
        del objects[at]
    elif change.verb == "changed" and at is not None:
        was = dict(change.before or {})
        objects[at] = was if undo.places is None else unfold(was, objects[at].get("rules", ()), undo.places)
    elif change.verb == "removed":
        stood = len(objects) if undo.stood is None else undo.stood
        objects.insert(stood, dict(change.before or {}))
