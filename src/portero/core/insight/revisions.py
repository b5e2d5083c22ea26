"""Earlier states of the estate: each change undone, from the newest back."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from portero.core.insight.ruleset_differences import Places, fold, unfold
from portero.core.nouns.estate import NOUNS, Estate
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


def step_back(before: Estate, after: Estate, changes: Iterable[Change]) -> Step:
    """What it takes to undo the changes that made `after` of `before`."""
    return Step([_undo_of(before, change) for change in changes], dict(_former_orders(before, after)))


def _undo_of(before: Estate, change: Change) -> Undo:
    noun = NOUNS.get(change.noun)
    if change.verb == "removed" and noun is not None:
        stood = next(place for place, one in enumerate(noun.of(before)) if noun.key_of(one) == change.key)
        return Undo(change, stood)
    if change.noun == "ruleset" and change.before is not None and change.after is not None:
        folded = fold(change.before, change.after)
        if folded is not None:
            kept = change.model_copy(update={"before": folded.before, "after": folded.after})
            return Undo(kept, places=folded.places)
    return Undo(change)


def _former_orders(before: Estate, after: Estate) -> Iterator[tuple[str, Sequence[str]]]:
    """The order of each list that stands in another one than that of before with what is new at its end."""
    for word, noun in NOUNS.items():
        if noun.of(before) is noun.of(after):
            continue
        old, new, others_follow = noun.differing(before, after)
        had, keys = list(map(noun.key_of, old)), list(map(noun.key_of, new))
        stay, known = set(keys), set(had)
        added = [key for key in keys if key not in known]
        if keys != [key for key in had if key in stay] + added or (added and others_follow):
            yield word, list(map(noun.key_of, noun.of(before)))


def undone(estate: Estate, steps: Iterable[Step]) -> Estate:
    """The estate as it was before these revisions, given from the newest back."""
    document = estate.model_dump(mode="json", exclude_none=True)
    for step in steps:
        # what was made goes first: then what was removed finds its place among what stayed
        for undo in sorted(step.undos, key=lambda undo: (undo.change.verb == "removed", undo.stood or 0)):
            _undo(document, undo)
        for noun, keys in step.orders.items():
            place, named = {key: number for number, key in enumerate(keys)}, NOUNS[noun].key_in
            document[NOUNS[noun].list].sort(key=lambda one, named=named, place=place: place.get(named(one), len(place)))
    return Estate.model_validate(document)


def _undo(document: dict[str, Any], undo: Undo) -> None:
    change = undo.change
    noun = NOUNS.get(change.noun)
    if noun is None:
        document[change.noun] = (change.before or {})[change.noun]
        return
    objects: list[dict[str, Any]] = document.setdefault(noun.list, [])
    at = next((number for number, one in enumerate(objects) if noun.key_in(one) == change.key), None)
    if change.verb == "created" and at is not None:
        del objects[at]
    elif change.verb == "changed" and at is not None:
        was = dict(change.before or {})
        objects[at] = was if undo.places is None else unfold(was, objects[at].get("rules", ()), undo.places)
    elif change.verb == "removed":
        stood = len(objects) if undo.stood is None else undo.stood
        objects.insert(stood, dict(change.before or {}))
