"""A class's bundle: all of an estate that its devices need, and nothing of anybody else's.

What is meant for single devices comes as a small overlay on top.
"""

from __future__ import annotations

import weakref
from bisect import bisect_right
from collections.abc import Collection, Iterator, Mapping
from datetime import datetime
from operator import itemgetter
from typing import Any, NamedTuple

import msgspec

from portero.core.matching.hold_back import Fields, fields_of
from portero.core.nouns.action import overridden
from portero.core.nouns.application_set import ApplicationSet, with_taken_in
from portero.core.nouns.assignment import Assignment, DeviceTarget, State
from portero.core.nouns.coverage import CoverageRow, CoverageTable
from portero.core.nouns.estate import Estate
from portero.core.nouns.layer import LAYERS
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.schedule import Schedule
from portero.core.nouns.selector import OF_SERVICES

BUNDLE_FORMAT = 2
READABLE_FORMATS = (1, 2)
"""In format 1 there were web categories only; what came since has defaults, so that a bundle kept from then reads."""

IN_FORCE = frozenset((State.ACTIVE,))
ANY_STATE = frozenset(State)


class BundleRule(msgspec.Struct, frozen=True, array_like=True):
    """One rule: its number in the ruleset (from 1), selector, and action after the assignment's override.

    `until` is when it is over, in seconds since 1970; `reading` is that of a site pattern.
    """

    number: int
    selector_kind: str
    selector_value: str
    action: str
    exact: bool = False
    until: float | None = None
    reading: str | None = None


class BundleAssignment(msgspec.Struct, frozen=True, omit_defaults=True):
    """One assignment as this class sees it: by way of the strongest of its targets that holds the class.

    Without a target it is the device itself. People are folded. Times are seconds since 1970.
    """

    key: str
    ruleset: str
    ruleset_name: str
    rules: tuple[BundleRule, ...]
    kind: str = "category"
    target: str | None = None
    mandatory: bool = False
    feed: bool = False
    users: tuple[str, ...] = ()
    user_groups: tuple[str, ...] = ()
    schedule: str | None = None
    place: str = "anywhere"
    starts: float | None = None
    ends: float | None = None
    until_restart: bool = False
    replaces_weaker: bool = False
    notice: str | None = None
    ground: str | None = None
    state: str = "active"
    hold_back: float | None = None
    """For so many seconds versions that came later are only logged."""
    members: tuple[Fields, ...] = ()
    """The versions that are not held back."""
    came: tuple[tuple[Fields, float], ...] = ()
    """The versions that came later, and when."""
    end_running: bool = False
    included: tuple[tuple[int, str], ...] = ()
    """Which address lists bring rules, each with the number of its first one: all behind the ruleset's own."""

    def address_list_of(self, rule: int) -> str | None:
        """The address list that brings the rule of a number; None where it is the ruleset's own."""
        place = bisect_right(self.included, rule, key=itemgetter(0))
        return self.included[place - 1][1] if place else None

    @property
    def names_people(self) -> bool:
        """Whether it is for some people only."""
        return bool(self.users or self.user_groups)


class BundleService(msgspec.Struct, frozen=True, omit_defaults=True):
    """A service as indicators look at it."""

    hosts: tuple[str, ...]
    decision: str
    suitability: int | None = None


class BundleNotice(msgspec.Struct, frozen=True, omit_defaults=True):
    """What a notice says beside the reason."""

    title: str | None = None
    text: str | None = None
    contact: str | None = None
    shows_ground: bool = False


class Parts(msgspec.Struct, frozen=True, omit_defaults=True):
    """What assignments refer to, by key. Schedules, application sets and coverage rows are as an estate document has
    them; of the latter those that administrators wrote about site lists.
    """

    schedules: dict[str, dict[str, Any]] = {}
    application_sets: dict[str, dict[str, Any]] = {}
    services: dict[str, BundleService] = {}
    notices: dict[str, BundleNotice] = {}
    coverage: dict[str, dict[str, Any]] = {}


class Bundle(msgspec.Struct, frozen=True):
    """What devices with the same groups get. Groups stand strongest first, assignments in the estate's order."""

    portero_bundle: int
    groups: tuple[str, ...]
    assignments: tuple[BundleAssignment, ...]
    corrections: dict[str, tuple[str, ...]]
    layers: dict[str, str]
    gateway_networks: tuple[str, ...]
    search_pages: tuple[tuple[str, str], ...] = ()
    application_corrections: dict[str, str] = {}
    """What products are for as it was corrected, by product, folded."""
    undecided_starts: str = "pass"
    """What a start gets that the guard has not decided in time: pass or refuse."""
    parts: Parts = Parts()


class Overlay(msgspec.Struct, frozen=True):
    """What a device gets on top of its class's bundle: assignments with their places in the whole, and their parts."""

    portero_overlay: int
    bundle_groups: tuple[str, ...]
    assignments: tuple[tuple[int, BundleAssignment], ...]
    parts: Parts = Parts()


def compile_bundle(
    estate: Estate,
    groups: tuple[str, ...],
    names: Collection[str] = (),
    states: Collection[State] = IN_FORCE,
) -> Bundle:
    """The bundle of the class of devices that are in exactly these groups, given strongest first.

    With the names of a device (hostname, id) also what is meant for it alone.
    """
    compiled = list(_assignments(estate, groups, names, states))
    assignments = tuple(assignment.made for assignment in compiled)
    settings = estate.settings
    return Bundle(
        portero_bundle=BUNDLE_FORMAT,
        groups=groups,
        assignments=assignments,
        corrections={correction.host: correction.categories for correction in estate.corrections},
        layers={layer: estate.mode_of(layer, groups).value for layer in LAYERS},
        gateway_networks=settings.gateway_networks,
        search_pages=tuple((page.host, page.parameter) for page in settings.search_pages),
        application_corrections=estate.corrected_programs,
        undecided_starts=settings.undecided_starts.value,
        parts=_parts(estate, compiled),
    )


class _Compiled(NamedTuple):
    """An assignment compiled for one of its targets, and which parts its rules refer to."""

    assignment: Assignment
    made: BundleAssignment
    sets: frozenset[str]
    of_services: bool


def _assignments(
    estate: Estate, groups: tuple[str, ...], names: Collection[str], states: Collection[State]
) -> Iterator[_Compiled]:
    """Those that hold the class or the device, each by way of the strongest of its targets: None is the device."""
    places = estate.places_by_target
    strongest: dict[int, str | None] = {}
    for name in names:
        strongest.update(dict.fromkeys(places.get(DeviceTarget(device=name), ())))
    for group in groups:
        for place in places.get(group, ()):
            strongest.setdefault(place, group)
    for place in sorted(strongest):
        assignment = estate.assignments[place]
        if assignment.state in states:
            ruleset = estate.ruleset_by_key[assignment.ruleset]
            yield _compiled(assignment, ruleset, strongest[place])


_compiled_of: dict[int, dict[tuple[str, str | None], _Compiled]] = {}
"""What was compiled of each ruleset that is about, by its identity: kept over estates, gone with the ruleset."""


def _compiled(assignment: Assignment, ruleset: Ruleset, target: str | None) -> _Compiled:
    """An assignment compiled once for each target that occurs, as long as neither it nor its ruleset is another."""
    known = _compiled_of.get(id(ruleset))
    if known is None:
        known = _compiled_of[id(ruleset)] = {}
        weakref.finalize(ruleset, _compiled_of.pop, id(ruleset), None)
    found = known.get((assignment.key, target))
    if found is None or found.assignment is not assignment:
        made = _assignment(assignment, ruleset, target)
        sets = frozenset(rule.selector_value for rule in made.rules if rule.selector_kind == "application_set")
        of_services = any(rule.selector_kind in OF_SERVICES for rule in made.rules)
        found = known[assignment.key, target] = _Compiled(assignment, made, sets, of_services)
    return found


def seconds_of(moment: datetime | None) -> float | None:
    """A moment as bundles have it: in seconds since 1970."""
    return None if moment is None else moment.timestamp()


def _assignment(assignment: Assignment, ruleset: Ruleset, target: str | None) -> BundleAssignment:
    rules = (
        BundleRule(
            number,
            rule.selector.kind,
            rule.selector.value,
            overridden(rule.action, assignment.action).value,
            rule.selector.exact,
            seconds_of(rule.valid_until),
            rule.reading,
        )
        for number, rule in enumerate(ruleset.rules, start=1)
    )
    return msgspec.structs.replace(without_rules(assignment, ruleset), rules=tuple(rules), target=target)


def without_rules(assignment: Assignment, ruleset: Ruleset) -> BundleAssignment:
    """An assignment with the conditions on which it counts, whatever it puts in force where."""
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


def _parts(estate: Estate, compiled: Collection[_Compiled]) -> Parts:
    schedules = {put.made.schedule for put in compiled if put.made.schedule}
    notices = {put.made.notice for put in compiled if put.made.notice}
    sets = {key for put in compiled for key in put.sets}
    return Parts(
        schedules={key: _written(estate.schedule_by_key[key]) for key in sorted(schedules)},
        application_sets={
            key: _written(estate.application_set_by_key[key])
            for key in sorted(with_taken_in(sets, estate.application_set_by_key))
        },
        services={
            service.key: BundleService(service.hosts, service.decision.value, service.suitability)
            for service in (estate.services if any(put.of_services for put in compiled) else ())
        },
        notices={
            notice.key: BundleNotice(notice.title, notice.text, notice.contact, notice.shows_ground)
            for notice in estate.notices
            if notice.key in notices
        },
        coverage={
            row.key: _written(row)
            for row in (estate.coverage if any(put.made.kind == "site" for put in compiled) else ())
            if row.control == "site-list"
        },
    )


def _written(noun: Schedule | ApplicationSet | CoverageRow) -> dict[str, Any]:
    # what a set watches is taken into it by the service
    return noun.model_dump(mode="json", exclude_none=True, exclude={"watches"})


def compile_overlay(estate: Estate, groups: tuple[str, ...], names: Collection[str]) -> Overlay | None:
    """What a device of these names gets on top of its class's bundle; None where nothing is meant for it alone."""
    if not any(names_device(assignment, names) for assignment in estate.assignments):
        return None
    base, whole = compile_bundle(estate, groups), compile_bundle(estate, groups, names)
    known = set(base.assignments)
    own = tuple((place, one) for place, one in enumerate(whole.assignments) if one not in known)
    parts = Parts(**{name: _beyond(getattr(base.parts, name), getattr(whole.parts, name)) for name in _PARTS})
    return Overlay(BUNDLE_FORMAT, groups, own, parts) if own else None


_PARTS = Parts.__struct_fields__


def _beyond(base: Mapping[str, Any], whole: Mapping[str, Any]) -> dict[str, Any]:
    return {key: value for key, value in whole.items() if key not in base}


def coverage_of(bundle: Bundle) -> CoverageTable:
    """The coverage table as far as site lists go by it."""
    return CoverageTable(tuple(map(CoverageRow.model_validate, bundle.parts.coverage.values())))


def names_device(assignment: Assignment, names: Collection[str]) -> bool:
    """Whether an assignment in force has a device of these names among its targets."""
    return assignment.state is State.ACTIVE and not set(names).isdisjoint(assignment.named_devices)


def with_overlay(bundle: Bundle, overlay: Overlay | None) -> Bundle:
    """The bundle as the device sees it. ValueError where the overlay was made for another class."""
    if overlay is None:
        return bundle
    if overlay.bundle_groups != bundle.groups:
        raise ValueError("the overlay was made for a device in other groups")
    own = {one.key for _, one in overlay.assignments}
    assignments = [assignment for assignment in bundle.assignments if assignment.key not in own]
    for place, one in overlay.assignments:
        assignments.insert(place, one)
    parts = Parts(**{name: getattr(bundle.parts, name) | getattr(overlay.parts, name) for name in _PARTS})
    return msgspec.structs.replace(bundle, assignments=tuple(assignments), parts=parts)
