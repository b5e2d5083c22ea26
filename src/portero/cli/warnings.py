"""What should be known of what is being written."""

from __future__ import annotations

from collections.abc import Collection

from portero.cli import output
from portero.client import Portero
from portero.core.nouns.assignment import NewAssignment
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.worklist import AuthoringWarning

MOST_RULES = 5_000
"""Rulesets with more rules are not sent once more to be looked at."""


def tell_warnings(found: list[AuthoringWarning]) -> None:
    """Say what should be known of what is being written, on standard error."""
    for warning in found[:20]:
        output.note(f"! {warning.sentence}")
    if len(found) > 20:
        output.note(f"! and {len(found) - 20} more")


def warned_of_assignment(portero: Portero, assignment: NewAssignment) -> list[AuthoringWarning]:
    """Say what should be known of an assignment that is about to be made; what that is."""
    found = portero.worklist.warnings(assignment=assignment)
    tell_warnings(found)
    return found


def warned_of_rules(portero: Portero, ruleset: Ruleset, new: Collection[int]) -> None:
    """Say what should be known of the new rules of a ruleset, given by their numbers."""
    if new and len(ruleset.rules) <= MOST_RULES:
        found = portero.worklist.warnings(ruleset=ruleset)
        tell_warnings([warning for warning in found if warning.rule in new])
