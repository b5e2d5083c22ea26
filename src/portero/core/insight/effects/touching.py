"""What a change touches: the groups whose classes it can alter, and the subjects whose verdicts it can."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence

from portero.core.insight.effects.subjects import KnownSubjects, Subject, host_subject, product_subjects, subjects_of
from portero.core.nouns.application_set import with_taken_in
from portero.core.nouns.assignment import Assignment, State
from portero.core.nouns.estate import Estate
from portero.core.nouns.layer import LAYERS
from portero.core.nouns.revision import Change
from portero.core.nouns.rule import Rule, RulesetKind
from portero.core.nouns.ruleset import KINDS_OF_LAYER, Ruleset
from portero.core.nouns.selector import OF_SERVICES, Selector

Changed = dict[str, set[str]]
"""The keys of what is changed, by noun."""


def changed_keys(changes: Iterable[Change], *estates: Estate) -> Changed:
    """The keys of what the changes are about, by noun; a ruleset changes with the address lists that it includes,
    and an application set with those that it takes in.
    """
    found: Changed = {}
    for change in changes:
        found.setdefault(change.noun, set()).add(change.key)
    if lists := found.get("address list"):
        including = {
            ruleset.key
            for estate in estates
            for ruleset in estate.rulesets
            if any(include.address_list in lists for include in ruleset.includes)
        }
        found.setdefault("ruleset", set()).update(including)
    if sets := found.get("application set"):
        for estate in estates:
            known = estate.application_set_by_key
            found["application set"] = {key for key in known if not sets.isdisjoint(with_taken_in([key], known))} | sets
            sets = found["application set"]
    return found


def touched_groups(before: Estate, after: Estate, changes: Sequence[Change]) -> set[str] | None:
    """The groups whose classes the changes can alter; None for all of them. Moves between groups are left out."""
    changed = changed_keys(changes, before, after)
    if changed.keys() & {"correction", "application correction", "settings"}:
        return None
    touched = set(changed.get("layer modes", ()))
    for estate in (before, after):
        for assignment in touched_assignments(estate, changed):
            touched.update(assignment.groups)
    return touched


def touched_assignments(estate: Estate, changed: Changed) -> Iterator[Assignment]:
    """The assignments that are changed, or on which something hangs that is."""
    rulesets, none = set(_touched_rulesets(estate, changed)), frozenset[str]()
    own, schedules, notices = (changed.get(noun, none) for noun in ("assignment", "schedule", "notice"))
    for assignment in estate.assignments:
        if (
            assignment.key in own
            or assignment.ruleset in rulesets
            or assignment.schedule in schedules
            or assignment.notice in notices
        ):
            yield assignment


def _touched_rulesets(estate: Estate, changed: Changed) -> Iterator[str]:
    """The rulesets that are changed, or in which something stands that is."""
    own, sets = changed.get("ruleset", set()), changed.get("application set", set())
    services, browsers = bool(changed.get("service")), bool(changed.get("coverage row"))
    for ruleset in estate.rulesets:
        names_set = ruleset.kind == "startup" and not sets.isdisjoint(_sets_of(ruleset))
        names_service = services and ruleset.kind == "indicator" and _looks_at_services(ruleset)
        takes_list = browsers and ruleset.kind == "site"
        if ruleset.key in own or names_set or names_service or takes_list:
            yield ruleset.key


def _sets_of(ruleset: Ruleset) -> Iterator[str]:
    return (rule.application_set for rule in ruleset.rules if rule.application_set)


def _looks_at_services(ruleset: Ruleset) -> bool:
    return any(rule.selector.kind in OF_SERVICES for rule in ruleset.rules)


# --- subjects ---


class Touched:
    """Finds the subjects whose verdicts a change can alter."""

    def __init__(
        self, before: Estate, after: Estate, changes: Sequence[Change], moved: Iterable[str], known: KnownSubjects
    ) -> None:
        """`moved` are the groups that devices enter or leave, or whose place among a device's groups is another."""
        self._estates, self._known = (before, after), known
        self._changes, self._moved = changes, set(moved)
        self._changed = changed_keys(changes, before, after)

    def subjects(self) -> Iterator[Subject]:
        """Each subject, some of them several times; those that the change names first."""
        yield from self._of_changed_rules()
        yield from self._of_services()
        yield from (host_subject(host) for host in self._changed.get("correction", ()))
        for product in self._changed.get("application correction", ()):
            yield from product_subjects(product, self._known)
        for kind, selector in self._selectors():
            yield from subjects_of(kind, selector, self._known)

    def _of_changed_rules(self) -> Iterator[Subject]:
        before, after = (estate.ruleset_by_key for estate in self._estates)
        for key in self._changed.get("ruleset", ()):
            old, new = before.get(key), after.get(key)
            if not any(self._is_in_force(key, estate) for estate in self._estates):
                continue
            for kind, selector in _differing(old, new):
                yield from subjects_of(kind, selector, self._known)

    @staticmethod
    def _is_in_force(ruleset: str, estate: Estate) -> bool:
        return any(
            assignment.ruleset == ruleset and assignment.state is State.ACTIVE for assignment in estate.assignments
        )

    def _of_services(self) -> Iterator[Subject]:
        keys = self._changed.get("service", set())
        if keys and any(map(_looks_at_services, (ruleset for estate in self._estates for ruleset in estate.rulesets))):
            for service in self._known.services:
                if service.key in keys:
                    yield from map(host_subject, service.hosts)

    def _selectors(self) -> Iterator[tuple[RulesetKind, Selector]]:
        """The selectors of all rulesets that are put into force otherwise than before."""
        wanted, replaced = self._of_layers(), self._replaced_kinds()
        for estate in self._estates:
            keys = {
                assignment.ruleset
                for assignment in estate.assignments
                if assignment.state is State.ACTIVE and self._concerns(assignment)
            }
            used = {assignment.ruleset for assignment in estate.assignments if assignment.state is State.ACTIVE}
            for ruleset in estate.rulesets:
                for rule in ruleset.rules if ruleset.key in used else ():
                    if ruleset.key in keys or ruleset.kind in replaced or wanted(ruleset.kind, rule):
                        yield ruleset.kind, rule.selector

    def _replaced_kinds(self) -> set[RulesetKind]:
        """The kinds of which an assignment that replaces weaker ones is touched: with it all of its kind may count
        or not.
        """
        rulesets = self._changed.get("ruleset", set())
        return {
            estate.ruleset_by_key[assignment.ruleset].kind
            for estate in self._estates
            for assignment in estate.assignments
            if assignment.replaces_weaker and (assignment.ruleset in rulesets or self._concerns(assignment))
        }

    def _concerns(self, assignment: Assignment) -> bool:
        changed = self._changed
        return (
            assignment.key in changed.get("assignment", ())
            or assignment.schedule in changed.get("schedule", ())
            or not self._moved.isdisjoint(assignment.groups)
        )

    def _of_layers(self) -> Callable[[RulesetKind, Rule], bool]:
        """Whether a rule is of a layer whose mode, or of content whose meaning, the settings change."""
        before, after = (estate.settings for estate in self._estates)
        layers = {layer for layer in LAYERS if getattr(before.layers, layer) != getattr(after.layers, layer)}
        for change in self._changes:
            if change.noun == "layer modes":
                old, new = change.before or {}, change.after or {}
                layers |= {layer for layer in LAYERS if old.get(layer) != new.get(layer)}
        kinds = {kind for layer in layers for kind in KINDS_OF_LAYER[layer]}
        if before.gateway_networks != after.gateway_networks:
            kinds.update(KINDS_OF_LAYER["filter"])
        searches = before.search_pages != after.search_pages
        sets = self._changed.get("application set", set())
        return lambda kind, rule: (
            kind in kinds or (searches and rule.search_term is not None) or rule.application_set in sets
        )


def _differing(before: Ruleset | None, after: Ruleset | None) -> Iterator[tuple[RulesetKind, Selector]]:
    """The selectors of which a ruleset says something else than before."""
    old, new = ({rule.selector: rule for rule in ruleset.rules} if ruleset else {} for ruleset in (before, after))
    whole = before is None or after is None or (before.feed, before.kind) != (after.feed, after.kind)
    for ruleset, own, other in ((after, new, old), (before, old, new)):
        if ruleset is None:
            continue
        for selector, rule in own.items():
            same = other.get(selector)
            if whole or same is None or (same.action, same.valid_until) != (rule.action, rule.valid_until):
                yield ruleset.kind, selector
