"""Everything that governs a machine: its groups, their order, layers, settings, assignments and what those name."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from portero.core import sentences
from portero.core.nouns.assignment import Assignment
from portero.core.nouns.device import Device
from portero.core.nouns.estate import Estate
from portero.core.nouns.group import BUILT_IN
from portero.core.nouns.revision import NounWord
from portero.core.nouns.ruleset import Ruleset


class Governing(NamedTuple):
    """One object that governs a machine: what it does, and why it governs."""

    noun: NounWord
    key: str
    sentence: str
    because: str


def governing(estate: Estate, device: Device) -> Iterator[Governing]:
    """Everything that governs a device, each once."""
    groups = device.groups
    by_key = {group.key: group for group in estate.groups}
    for key in groups:
        if key not in BUILT_IN:
            yield Governing("group", key, sentences.group_sentence(by_key[key]), "it holds the machine")
    if len(groups) > 1:
        yield Governing(
            "precedence", "precedence", "the order of groups", "it says which of its groups is the stronger"
        )
    modes = {layer_mode.group for layer_mode in estate.layer_modes}
    for key in groups:
        if key in modes:
            yield Governing("layer modes", key, f"what layers should do on {key}", f"by group {key}")
    yield Governing("settings", "settings", "the settings of the estate", "they hold for every machine")
    seen: set[tuple[str, str]] = set()
    for assignment in estate.assignments:
        names = [key for key in groups if key in assignment.groups]
        alone = not {device.id, device.hostname}.isdisjoint(assignment.named_devices)
        if not names and not alone:
            continue
        because = "by its name" if alone else f"by group {names[0]}"
        ruleset = estate.ruleset_by_key[assignment.ruleset]
        yield Governing("assignment", assignment.key, sentences.assignment_sentence(assignment, ruleset), because)
        for part in _parts(assignment, ruleset):
            if (part.noun, part.key) not in seen:
                seen.add((part.noun, part.key))
                yield part


def _parts(assignment: Assignment, ruleset: Ruleset) -> Iterator[Governing]:
    """What an assignment refers to."""
    because = f"by assignment {assignment.key}"
    yield Governing("ruleset", ruleset.key, sentences.ruleset_sentence(ruleset), because)
    if assignment.schedule:
        yield Governing("schedule", assignment.schedule, f"when {assignment.key} holds", because)
    if assignment.notice:
        yield Governing("notice", assignment.notice, f"what {assignment.key} shows", because)
    for key in dict.fromkeys(rule.application_set for rule in ruleset.rules):
        if key:
            yield Governing("application set", key, f"programs of {ruleset.key}", because)
    for include in ruleset.includes:
        yield Governing("address list", include.address_list, f"addresses of {ruleset.key}", because)
