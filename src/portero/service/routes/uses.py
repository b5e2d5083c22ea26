"""What uses an object that rules or assignments name, in words: such a one is not removed."""

from __future__ import annotations

from collections.abc import Callable

from portero.core.nouns.estate import Estate

Users = Callable[[Estate, str], list[str]]


def assignments_with(attribute: str) -> Users:
    """The assignments that name it."""
    return lambda estate, key: [
        assignment.key for assignment in estate.assignments if getattr(assignment, attribute) == key
    ]


def rulesets_including(estate: Estate, key: str) -> list[str]:
    """The rulesets that include the address list of a key."""
    return [
        ruleset.key for ruleset in estate.rulesets if any(include.address_list == key for include in ruleset.includes)
    ]


def rulesets_naming(attribute: str) -> Users:
    """The rulesets with a rule that names it."""
    return lambda estate, key: [
        ruleset.key for ruleset in estate.rulesets if any(getattr(rule, attribute) == key for rule in ruleset.rules)
    ]
