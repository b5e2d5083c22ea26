"""Rules in few words, put where such rules of a place are kept."""

from __future__ import annotations

from portero.core import wording
from portero.core.insight.quick_rules import Written, write_quick_rules
from portero.core.insight.quick_words import Known, QuickWordProblem
from portero.core.insight.warnings import warn_of_ruleset
from portero.core.nouns.estate import Estate
from portero.core.nouns.preview import Preview
from portero.core.nouns.quick_rule import QuickRules, QuickRulesMade
from portero.core.nouns.worklist import AuthoringWarning
from portero.service.auditing import audited_router
from portero.service.keepers import Keepers
from portero.service.problems import Refusal
from portero.service.routes.common import Authoring, answered
from portero.service.state import Snapshot
from portero.store import device_lists

router = audited_router("rulesets")


@router.post(
    "/quick-rules",
    summary="Rules in few words",
    operation_id="makeQuickRules",
    response_model=QuickRulesMade | Preview,
)
def make_quick_rules(body: QuickRules, change: Authoring) -> QuickRulesMade:
    """Allow, warn of, or block some things on groups or machines, in one revision.

    The ruleset and the assignment in which such rules of a place are kept are found, or made. A rule for the same takes
    the place of the one that is there. A word that means nothing, or more than one thing, is refused, and nothing is
    kept.
    """
    keepers = change.keepers
    said: list[Written] = []

    def edit(snapshot: Snapshot) -> Estate:
        said.append(_written(body, snapshot, keepers))
        return said[-1].estate

    result = change(edit)
    changed = not isinstance(result, Preview) and result.made is not None
    return answered(result, lambda snapshot: _told(keepers, snapshot, said[-1], changed))


def known_to(snapshot: Snapshot, keepers: Keepers) -> Known:
    """What words are looked up in."""
    return Known(
        snapshot.estate,
        keepers.foresight.programs,
        lambda name: _machine(keepers, name),
        keepers.people.directory,
    )


def _written(body: QuickRules, snapshot: Snapshot, keepers: Keepers) -> Written:
    try:
        return write_quick_rules(body, known_to(snapshot, keepers))
    except QuickWordProblem as problem:
        raise Refusal("invalid", wording.as_sentence(str(problem))) from problem


def _machine(keepers: Keepers, name: str) -> str | None:
    """The hostname, or the id where that is what was given, of a machine. Refusal where several have that hostname."""
    try:
        device = keepers.fleet.device(name)
    except Refusal as refusal:
        if refusal.kind == "not-found":
            return None
        raise
    return device.id if name == device.id else device.hostname


def _told(keepers: Keepers, snapshot: Snapshot, written: Written, changed: bool) -> QuickRulesMade:
    estate, kept = snapshot.estate, written.kept
    keys = {rule.assignment for rule in kept}
    assignments = [assignment for assignment in estate.assignments if assignment.key in keys]
    with keepers.store.reading() as connection:
        groups = [group for assignment in assignments for group in assignment.groups]
        named = [name for assignment in assignments for name in assignment.named_devices]
        reached = device_lists.count_reached(connection, groups, named)
    return QuickRulesMade(
        rules=tuple(kept),
        application_sets=tuple(written.application_sets),
        warnings=tuple(_warnings(keepers, snapshot, written)),
        revision=snapshot.revision,
        changed=changed,
        devices=reached,
    )


def _warnings(keepers: Keepers, snapshot: Snapshot, written: Written) -> list[AuthoringWarning]:
    """What should be known of the rules that were just made."""
    estate, world = snapshot.estate, keepers.foresight.world()
    found = []
    for key in dict.fromkeys(rule.ruleset for rule in written.kept):
        ruleset = estate.ruleset_by_key[key]
        selectors = {rule.selector for rule in written.kept if rule.ruleset == key}
        new = {number for number, rule in enumerate(ruleset.rules, 1) if str(rule.selector) in selectors}
        warnings = warn_of_ruleset(ruleset, estate, world, keepers.holdings.index_in_force, keepers.lookups.beside)
        found += [warning for warning in warnings if warning.rule is None or warning.rule in new]
    return found
