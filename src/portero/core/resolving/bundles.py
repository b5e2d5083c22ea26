"""A class's bundle: all of an estate that its devices need, and nothing of anybody else's."""

from __future__ import annotations

import msgspec

from portero.core.nouns.action import overridden
from portero.core.nouns.assignment import State
from portero.core.nouns.device import LAYERS
from portero.core.nouns.estate import Estate

BUNDLE_FORMAT = 1


class BundleRule(msgspec.Struct, frozen=True, array_like=True):
    """One rule: its number in the ruleset (from 1), selector, and action after the assignment's override."""

    number: int
    selector_kind: str
    selector_value: str
    action: str


class BundleAssignment(msgspec.Struct, frozen=True):
    """One assignment as this class sees it: by way of the strongest of its targets that holds the class."""

    key: str
    ruleset: str
    ruleset_name: str
    target: str
    mandatory: bool
    rules: tuple[BundleRule, ...]


class Bundle(msgspec.Struct, frozen=True):
    """What devices with the same groups get. Assignments stand in the estate's order."""

    portero_bundle: int
    groups: tuple[str, ...]
    assignments: tuple[BundleAssignment, ...]
    corrections: dict[str, tuple[str, ...]]
    layers: dict[str, str]
    gateway_networks: tuple[str, ...]


def compile_bundle(estate: Estate, groups: tuple[str, ...]) -> Bundle:
    """The bundle of the class of devices that are in exactly these groups, given strongest first."""
    rank = {key: number for number, key in enumerate(groups)}
    assignments = []
    for assignment in estate.assignments:
        if assignment.state is not State.ACTIVE:
            continue
        target = min((key for key in assignment.to if key in rank), key=rank.__getitem__, default=None)
        if target is None:
            continue
        ruleset = estate.ruleset_by_key[assignment.ruleset]
        rules = tuple(
            BundleRule(number, *rule.selector, overridden(rule.action, assignment.action).value)
            for number, rule in enumerate(ruleset.rules, start=1)
        )
        assignments.append(
            BundleAssignment(
                assignment.key, ruleset.key, ruleset.name or ruleset.key, target, assignment.mandatory, rules
            )
        )
    corrections = {correction.host: correction.categories for correction in estate.corrections}
    layers: dict[str, str] = {layer: estate.mode_of(layer, groups).value for layer in LAYERS}
    networks = estate.settings.gateway_networks
    return Bundle(BUNDLE_FORMAT, groups, tuple(assignments), corrections, layers, networks)
