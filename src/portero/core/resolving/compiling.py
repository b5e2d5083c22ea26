"""From an estate to a class's bundle, and to what a single device gets on top of it. What stays is compiled once."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass
from datetime import datetime
from functools import cached_property
from typing import Any

import msgspec

from portero.core.by_identity import ByIdentity
from portero.core.matching.hold_back import fields_of
from portero.core.nouns.action import Action, Override, overridden
from portero.core.nouns.application_set import ApplicationSet, with_taken_in
from portero.core.nouns.assignment import Assignment, DeviceTarget, State
from portero.core.nouns.coverage import CoverageRow
from portero.core.nouns.estate import Estate
from portero.core.nouns.layer import LAYERS
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.schedule import Schedule
from portero.core.nouns.selector import OF_SERVICES
from portero.core.resolving.bundles import (
    WHOLE_FORMAT,
    Bundle,
    BundleAssignment,
    BundleNotice,
    BundleRule,
    BundleService,
    Overlay,
    References,
    Rules,
    SharedContent,
)

IN_FORCE = frozenset((State.ACTIVE,))
ANY_STATE = frozenset(State)


def compile_bundle(
    estate: Estate,
    groups: tuple[str, ...],
    names: Collection[str] = (),
    states: frozenset[State] = IN_FORCE,
) -> Bundle:
    """The bundle of the class of devices that are in exactly these groups, given strongest first.

    With the names of a device (hostname, id) also what is meant for it alone.
    """
    compiled = _assignments(estate, groups, names, states)
    settings, everywhere = estate.settings, _everywhere.of(estate)
    return Bundle(
        portero_bundle=WHOLE_FORMAT,
        groups=groups,
        assignments=tuple([put.made for put in compiled]),
        corrections=everywhere.corrections,
        layers={layer: estate.mode_of(layer, groups).value for layer in LAYERS},
        gateway_networks=settings.gateway_networks,
        search_pages=tuple((page.host, page.parameter) for page in settings.search_pages),
        application_corrections=everywhere.application_corrections,
        undecided_starts=settings.undecided_starts.value,
        references=_references(estate, everywhere, compiled),
    )


@dataclass(frozen=True)
class _Compiled:
    """An assignment compiled for one of its targets, and what its rules refer to."""

    assignment: Assignment
    made: BundleAssignment
    sets: frozenset[str]
    of_services: bool

    @cached_property
    def refers(self) -> bool:
        """Whether it refers to anything besides its rules."""
        of_sites = self.made.kind == "site"
        return bool(self.made.schedule or self.made.notice or self.sets or self.of_services or of_sites)


def _assignments(
    estate: Estate, groups: tuple[str, ...], names: Collection[str], states: frozenset[State]
) -> list[_Compiled]:
    """Those that hold the class or the device, each by way of the strongest of its targets, in the estate's order."""
    everywhere = _everywhere.of(estate)
    found: dict[int, _Compiled] = {}
    # the stronger ones come later, and stay
    for group in reversed(groups):
        found.update(everywhere.held_by(group, group, states))
    for name in reversed(list(names)):
        found.update(everywhere.held_by(DeviceTarget(device=name), None, states))
    return [found[place] for place in sorted(found)]


class _OfRuleset:
    """What was compiled of a ruleset: its rules by the action that stands above theirs, and its assignments."""

    def __init__(self, ruleset: Ruleset) -> None:
        # it must not keep the ruleset itself, with which it goes
        self.rules: dict[Override | None, Rules] = {None: _authored(ruleset)}
        self.assignments: dict[tuple[str, str | None], _Compiled] = {}

    def under(self, override: Override | None) -> Rules:
        """Its rules under the action of an assignment."""
        found = self.rules.get(override)
        if found is None:
            found = self.rules[override] = under_override(self.rules[None], override)
        return found


_of_ruleset = ByIdentity(_OfRuleset)


def _compiled(assignment: Assignment, ruleset: Ruleset, target: str | None) -> _Compiled:
    """An assignment compiled once for each target that occurs, as long as neither it nor its ruleset is another."""
    known = _of_ruleset.of(ruleset)
    found = known.assignments.get((assignment.key, target))
    if found is None or found.assignment is not assignment:
        rules = known.under(assignment.action)
        made = msgspec.structs.replace(header_of(assignment, ruleset), rules=rules, target=target)
        found = known.assignments[assignment.key, target] = _Compiled(assignment, made, *rules.once(_referred_by))
    return found


def _referred_by(rules: Rules) -> tuple[frozenset[str], bool]:
    """Which application sets rules name, and whether they name services."""
    sets = frozenset(rule.selector_value for rule in rules if rule.selector_kind == "application_set")
    return sets, any(rule.selector_kind in OF_SERVICES for rule in rules)


def seconds_of(moment: datetime | None) -> float | None:
    """A moment as bundles have it: in seconds since 1970."""
    return None if moment is None else moment.timestamp()


_WORDS = {action: action.value for action in Action}


def _authored(ruleset: Ruleset) -> Rules:
    rules = []
    for number, rule in enumerate(ruleset.rules, start=1):
        kind, value, exact = rule.selector
        until = seconds_of(rule.valid_until)
        rules.append(BundleRule(number, kind, value, _WORDS[rule.action], exact, until, rule.reading))
    return Rules.of(rules, (0, *(first - 1 for first, _ in _included(ruleset))))


def under_override(rules: Rules, override: str | None) -> Rules:
    """Rules under the action of an assignment."""
    if override is None:
        return rules
    then = {action.value: overridden(action, Override(override)).value for action in Action}
    replaced = (msgspec.structs.replace(rule, action=then[rule.action]) for rule in rules)
    return Rules.of(replaced, rules.begins, rules, Override(override).value)


_headers: ByIdentity[Ruleset, dict[str, tuple[Assignment, BundleAssignment]]] = ByIdentity(lambda _ruleset: {})


def header_of(assignment: Assignment, ruleset: Ruleset) -> BundleAssignment:
    """An assignment with the conditions on which it counts, whatever it puts in force where; made once, as long as
    neither it nor its ruleset is another.
    """
    known = _headers.of(ruleset)
    found = known.get(assignment.key)
    if found is None or found[0] is not assignment:
        found = known[assignment.key] = (assignment, _header(assignment, ruleset))
    return found[1]


def _header(assignment: Assignment, ruleset: Ruleset) -> BundleAssignment:
    people = assignment.people
    return BundleAssignment(
        key=assignment.key,
        ruleset=ruleset.key,
        ruleset_name=ruleset.name or ruleset.key,
        kind=ruleset.kind,
        rules=(),
        mandatory=assignment.mandatory,
        feed=ruleset.feed is not None,
        users=tuple(sorted({user.casefold() for user in people.users})) if people else (),
        user_groups=tuple(sorted({key.casefold() for key in people.user_groups})) if people else (),
        schedule=assignment.schedule,
        place=assignment.place,
        starts=seconds_of(assignment.starts),
        ends=seconds_of(assignment.ends),
        until_restart=assignment.until_restart,
        replaces_weaker=assignment.replaces_weaker,
        end_running=assignment.end_running,
        notice=assignment.notice,
        ground=ruleset.ground,
        state=assignment.state.value,
        hold_back=assignment.hold_back.total_seconds() if assignment.hold_back else None,
        members=tuple(map(fields_of, assignment.members or ())),
        came=tuple((fields_of(one.program), one.at.timestamp()) for one in assignment.came),
        included=tuple(_included(ruleset)),
    )


def _included(ruleset: Ruleset) -> Iterator[tuple[int, str]]:
    first = len(ruleset.rules) - ruleset.included.total() + 1
    for key, number in ruleset.included.items():
        yield first, key
        first += number


class _Everywhere:
    """What of an estate is the same in every bundle that has it."""

    def __init__(self, estate: Estate) -> None:
        # it must not keep the estate itself, with which it goes
        self._assignments, self._rulesets = estate.assignments, estate.ruleset_by_key
        self._places = estate.places_by_target
        self._held: dict[tuple[str | DeviceTarget, frozenset[State]], dict[int, _Compiled]] = {}
        self.corrections = SharedContent({one.host: one.categories for one in estate.corrections})
        self.application_corrections = SharedContent(estate.corrected_programs)
        self.services = SharedContent(
            {one.key: BundleService(one.hosts, one.decision.value, one.suitability) for one in estate.services}
        )
        self.coverage: dict[str, dict[str, Any]] = {
            row.key: _written.of(row) for row in estate.coverage if row.control == "site-list"
        }

    def held_by(self, target: str | DeviceTarget, named: str | None, states: frozenset[State]) -> dict[int, _Compiled]:
        """What is assigned to a target in these states, compiled for it, by its place; the target is named so in a
        bundle.
        """
        found = self._held.get((target, states))
        if found is None:
            assigned = ((place, self._assignments[place]) for place in self._places.get(target, ()))
            found = self._held[target, states] = {
                place: _compiled(one, self._rulesets[one.ruleset], named)
                for place, one in assigned
                if one.state in states
            }
        return found


_NO_SERVICES = SharedContent()


def _references(estate: Estate, everywhere: _Everywhere, compiled: Collection[_Compiled]) -> References:
    compiled = [put for put in compiled if put.refers]
    schedules = {put.made.schedule for put in compiled if put.made.schedule}
    notices = {put.made.notice for put in compiled if put.made.notice}
    sets = {key for put in compiled for key in put.sets}
    return References(
        schedules={key: _written.of(estate.schedule_by_key[key]) for key in sorted(schedules)},
        application_sets={
            key: _written.of(estate.application_set_by_key[key])
            for key in sorted(with_taken_in(sets, estate.application_set_by_key))
        },
        services=everywhere.services if any(put.of_services for put in compiled) else _NO_SERVICES,
        notices={
            notice.key: BundleNotice(notice.title, notice.text, notice.contact, notice.shows_ground)
            for notice in estate.notices
            if notice.key in notices
        },
        coverage=everywhere.coverage if any(put.made.kind == "site" for put in compiled) else {},
    )


def _as_written(noun: Schedule | ApplicationSet | CoverageRow) -> SharedContent:
    # what a set watches is taken into it by the service
    return SharedContent(noun.model_dump(mode="json", exclude_none=True, exclude={"watches"}))


_everywhere, _written = ByIdentity(_Everywhere), ByIdentity(_as_written)


def compile_overlay(estate: Estate, groups: tuple[str, ...], names: Collection[str]) -> Overlay | None:
    """What a device of these names gets on top of its class's bundle; None where nothing is meant for it alone."""
    if not any(names_device(assignment, names) for assignment in estate.assignments):
        return None
    base, whole = compile_bundle(estate, groups), compile_bundle(estate, groups, names)
    # the same assignment, compiled for the same target, is the same
    known = set(map(id, base.assignments))
    own = tuple((place, one) for place, one in enumerate(whole.assignments) if id(one) not in known)
    more = {name: _beyond(getattr(base.references, name), value) for name, value in _by_name(whole.references)}
    return Overlay(WHOLE_FORMAT, groups, own, References(**more)) if own else None


def _by_name(references: References) -> Iterator[tuple[str, dict[str, Any]]]:
    return ((name, getattr(references, name)) for name in References.__struct_fields__)


def _beyond(base: Mapping[str, Any], whole: dict[str, Any]) -> dict[str, Any]:
    # all services come together
    if isinstance(whole, SharedContent):
        return {} if base else whole
    return {key: value for key, value in whole.items() if key not in base}


def names_device(assignment: Assignment, names: Collection[str]) -> bool:
    """Whether an assignment in force has a device of these names among its targets."""
    return assignment.state is State.ACTIVE and not set(names).isdisjoint(assignment.named_devices)
