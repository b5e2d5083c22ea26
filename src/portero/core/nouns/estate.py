"""Everything an administrator authors, as one value: the estate document."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Collection, Iterable, Iterator
from functools import cached_property
from typing import Annotated, Any, Literal

from pydantic import Field

from portero.core.by_identity import ByIdentity
from portero.core.nouns.address_list import AddressList
from portero.core.nouns.application_correction import ApplicationCorrection
from portero.core.nouns.application_set import ApplicationSet, with_taken_in
from portero.core.nouns.assignment import Assignment, DeviceTarget
from portero.core.nouns.base import Fault, Key, Noun, doubled, unknown_word
from portero.core.nouns.correction import Correction
from portero.core.nouns.coverage import CoverageRow, CoverageTable
from portero.core.nouns.device import DocumentDevice
from portero.core.nouns.directory import Directory
from portero.core.nouns.feed import Feed
from portero.core.nouns.group import BUILT_IN, UNCLAIMED, WHOLE_FLEET, Group
from portero.core.nouns.layer import LayerMode
from portero.core.nouns.notice import STANDARD_NOTICE, Notice
from portero.core.nouns.patterns import Pattern
from portero.core.nouns.probe_set import ProbeSet
from portero.core.nouns.registry import nouns_of, parts_of
from portero.core.nouns.rule import OF_EVERYBODY, Rule, is_public_suffix
from portero.core.nouns.ruleset import MAX_RULES, Ruleset
from portero.core.nouns.schedule import Schedule
from portero.core.nouns.selector import OF_SERVICES, Selector
from portero.core.nouns.service import Service
from portero.core.nouns.settings import EstateLayers, GroupLayers, Settings


def _rules_that_hang(ruleset: Ruleset) -> list[tuple[int, Rule]]:
    """The rules that may not fit with something beside their ruleset, with their places."""
    return [
        (place, rule)
        for place, rule in enumerate(ruleset.rules)
        if rule.service is not None or rule.application_set is not None or rule.selector.kind in OF_SERVICES
    ]


_hanging = ByIdentity(_rules_that_hang)


class Estate(Noun):
    """Everything that administrators author, together. The order of the lists is the order of the document."""

    portero: Literal[1] = 1
    precedence: Annotated[tuple[Key, ...], Field(max_length=2000)] = ()
    groups: Annotated[tuple[Group, ...], Field(max_length=2000)] = ()
    schedules: Annotated[tuple[Schedule, ...], Field(max_length=2000)] = ()
    application_sets: Annotated[tuple[ApplicationSet, ...], Field(max_length=5000)] = ()
    address_lists: Annotated[tuple[AddressList, ...], Field(max_length=2000)] = ()
    rulesets: Annotated[tuple[Ruleset, ...], Field(max_length=5000)] = ()
    assignments: Annotated[tuple[Assignment, ...], Field(max_length=20000)] = ()
    notices: Annotated[tuple[Notice, ...], Field(max_length=500)] = ()
    corrections: Annotated[tuple[Correction, ...], Field(max_length=100000)] = ()
    application_corrections: Annotated[tuple[ApplicationCorrection, ...], Field(max_length=20000)] = ()
    services: Annotated[tuple[Service, ...], Field(max_length=50000)] = ()
    settings: Settings = Settings()
    layer_modes: Annotated[tuple[GroupLayers, ...], Field(max_length=2000)] = ()
    coverage: Annotated[tuple[CoverageRow, ...], Field(max_length=2000)] = ()
    probe_sets: Annotated[tuple[ProbeSet, ...], Field(max_length=500)] = ()
    feeds: Annotated[tuple[Feed, ...], Field(max_length=200)] = ()

    def replacing(self, **parts: Any) -> Estate:
        """The same estate with some parts replaced. (A plain copy would keep what is reckoned from the old parts.)"""
        return Estate.model_construct(**{name: getattr(self, name) for name in Estate.model_fields} | parts)

    @cached_property
    def group_order(self) -> tuple[str, ...]:
        """Keys of all groups, strongest first, the built-in ones last."""
        named = [key for key in self.precedence if key not in BUILT_IN]
        rest = [group.key for group in self.groups if group.key not in set(named)]
        return (*named, *rest, UNCLAIMED, WHOLE_FLEET)

    @cached_property
    def ruleset_by_key(self) -> dict[str, Ruleset]:
        """Rulesets by key."""
        return {ruleset.key: ruleset for ruleset in self.rulesets}

    @cached_property
    def schedule_by_key(self) -> dict[str, Schedule]:
        """Schedules by key."""
        return {schedule.key: schedule for schedule in self.schedules}

    @cached_property
    def application_set_by_key(self) -> dict[str, ApplicationSet]:
        """Application sets by key."""
        return {application_set.key: application_set for application_set in self.application_sets}

    @cached_property
    def address_list_by_key(self) -> dict[str, AddressList]:
        """Address lists by key."""
        return {address_list.key: address_list for address_list in self.address_lists}

    @cached_property
    def corrected_programs(self) -> dict[str, str]:
        """What products are for as it was corrected, by product, folded."""
        return {one.product.casefold(): one.category.value for one in self.application_corrections}

    @cached_property
    def places_by_target(self) -> dict[str | DeviceTarget, list[int]]:
        """The places of assignments in their list, by each target that they name."""
        places: defaultdict[str | DeviceTarget, list[int]] = defaultdict(list)
        for place, assignment in enumerate(self.assignments):
            for target in assignment.to:
                places[target].append(place)
        return dict(places)

    @cached_property
    def named_devices(self) -> frozenset[str]:
        """Hostnames and ids of the devices that assignments name by themselves."""
        return frozenset(target.device for target in self.places_by_target if isinstance(target, DeviceTarget))

    @cached_property
    def some_end_at_restarts(self) -> bool:
        """Whether some assignment holds until machines restart."""
        return any(assignment.until_restart for assignment in self.assignments)

    @cached_property
    def coverage_table(self) -> CoverageTable:
        """The coverage table as it counts."""
        return CoverageTable(self.coverage)

    @cached_property
    def _modes_by_group(self) -> dict[str, GroupLayers]:
        return {modes.group: modes for modes in self.layer_modes}

    def mode_given_by(self, layer: str, groups: Iterable[str]) -> str:
        """Whose word counts for a layer on devices in these groups, strongest first: a group's, or the “estate”'s."""
        for key in groups if self.layer_modes else ():
            own = self._modes_by_group.get(key)
            if own and getattr(own, layer) is not None:
                return key
        return "estate"

    def mode_of(self, layer: str, groups: Iterable[str]) -> LayerMode:
        """What a layer should do on devices in these groups, given strongest first."""
        by = self.mode_given_by(layer, groups)
        says: GroupLayers | EstateLayers = self._modes_by_group.get(by) or self.settings.layers
        mode: LayerMode = getattr(says, layer)
        return mode

    @cached_property
    def _check_ins(self) -> dict[str, int]:
        return {group.key: group.check_in_seconds for group in self.groups if group.check_in_seconds is not None}

    def check_in_of(self, groups: Iterable[str]) -> int:
        """Seconds between the check-ins of devices in these groups, given strongest first: as the strongest says that
        says something, else as the settings do.
        """
        own = self._check_ins
        named = (own[key] for key in groups if key in own) if own else iter(())
        return next(named, self.settings.check_in_seconds)

    def faults(self, sound: Estate | None = None) -> Iterator[Fault]:
        """What does not fit together: keys used twice, names of things that are not there. Beside an estate that has
        no faults, only what may have some now is looked at.
        """
        others = {
            part for part in Estate.model_fields if sound is None or getattr(self, part) is not getattr(sound, part)
        }
        for noun in NOUNS.values():
            if noun.list in others:
                yield from doubled((noun.list,), map(noun.key_of, noun.of(self)))
        for parts, check in _CHECKS:
            if not others.isdisjoint(parts):
                yield from check(self)
        if "assignments" in others or not others.isdisjoint(_NAMED_BY_ASSIGNMENTS):
            stay = sound.assignments if sound is not None and others.isdisjoint(_NAMED_BY_ASSIGNMENTS) else ()
            yield from self._assignment_faults(set(map(id, stay)))

    def _correction_faults(self) -> Iterator[Fault]:
        """Products that are corrected twice, whatever their case."""
        if len({one.product for one in self.application_corrections}) == len(self.application_corrections):
            folded = (one.product.casefold() for one in self.application_corrections)
            yield from doubled(("application_corrections",), folded)

    def _precedence_faults(self) -> Iterator[Fault]:
        yield from doubled(("precedence",), self.precedence)
        groups = {group.key for group in self.groups}
        yield from _unknown(("precedence",), "group", enumerate(self.precedence), groups)

    def _assignment_faults(self, sound: Collection[int]) -> Iterator[Fault]:
        """What does not fit with assignments, but for those that are sound, by identity."""
        known = {group.key for group in self.groups}.union(BUILT_IN)
        notices, schedules = {notice.key for notice in self.notices} | {STANDARD_NOTICE}, set(self.schedule_by_key)
        for number, assignment in enumerate(self.assignments):
            if id(assignment) in sound:
                continue
            where = ("assignments", number)
            named = [(place, key) for place, key in enumerate(assignment.to) if isinstance(key, str)]
            yield from _unknown((*where, "to"), "group", named, known)
            if assignment.schedule is not None:
                yield from _unknown((*where, "schedule"), "schedule", [(None, assignment.schedule)], schedules)
            if assignment.notice is not None:
                yield from _unknown((*where, "notice"), "notice", [(None, assignment.notice)], notices)
            ruleset = self.ruleset_by_key.get(assignment.ruleset)
            if ruleset is None:
                yield Fault((*where, "ruleset"), unknown_word("ruleset", assignment.ruleset, self.ruleset_by_key))
            else:
                yield from assignment_faults(where, assignment, ruleset)

    def _rule_faults(self) -> Iterator[Fault]:
        services, sets = {service.key for service in self.services}, set(self.application_set_by_key)
        for number, ruleset in enumerate(self.rulesets):
            if ruleset.kind not in ("indicator", "startup"):
                continue
            for place, rule in _hanging.of(ruleset):
                where = ("rulesets", number, "rules", place)
                if rule.service is not None and rule.service not in services:
                    yield Fault((*where, "service"), unknown_word("service", rule.service, sorted(services)))
                if rule.action == "allow":
                    yield from self._allowing_faults(where, rule.selector)
                if rule.application_set is not None and rule.application_set not in sets:
                    said = unknown_word("application set", rule.application_set, sorted(sets))
                    yield Fault((*where, "application_set"), said)

    def _set_faults(self) -> Iterator[Fault]:
        """Sets that take in sets which are not there, or in the end themselves."""
        known = self.application_set_by_key
        for number, one in enumerate(self.application_sets):
            for place, key in enumerate(one.sets):
                where = ("application_sets", number, "sets", place)
                if key not in known:
                    yield Fault(where, unknown_word("application set", key, sorted(known)))
                elif one.key in with_taken_in([key], known):
                    yield Fault(where, f"“{one.key}” would take itself in, by way of “{key}”; leave one of the two out")

    def _include_faults(self) -> Iterator[Fault]:
        """Address lists that are not there, or have what no rule of such a ruleset can name."""
        lists = self.address_list_by_key
        for number, ruleset in enumerate(self.rulesets):
            for place, include in enumerate(ruleset.includes):
                where, found = ("rulesets", number, "includes", place), lists.get(include.address_list)
                if found is None:
                    yield Fault((*where, "address_list"), unknown_word("address list", include.address_list, lists))
                elif misfits := found.misfits(ruleset.including, include):
                    more = f", and {len(misfits) - 1:,} more of it do not fit" if len(misfits) > 1 else ""
                    yield Fault(where, f"of the address list “{found.key}”: {misfits[0]}{more}")
            if ruleset.includes and len(ruleset.rules) > MAX_RULES:
                yield Fault(("rulesets", number), f"with its address lists it has over {MAX_RULES:,} rules")

    def _allowing_faults(self, where: tuple[str | int, ...], selector: Selector) -> Iterator[Fault]:
        """Allows by service of what is everybody's."""
        for service in self.services if selector.kind in OF_SERVICES else ():
            if service.is_meant_by(selector):
                for host in filter(is_public_suffix, service.hosts):
                    yield Fault((*where, selector.kind), f"“{host}”, of the service “{service.key}”, {OF_EVERYBODY}")

    def _service_faults(self) -> Iterator[Fault]:
        owners: dict[str, str] = {}
        for number, service in enumerate(self.services):
            for place, host in enumerate(service.hosts):
                if host in owners:
                    by = f"by “{owners[host]}”" if owners[host] != service.key else "before"
                    message = f"“{host}” is listed {by} already; a host belongs to one service, once"
                    yield Fault(("services", number, "hosts", place), message)
                owners[host] = service.key

    def _enforcement_faults(self) -> Iterator[Fault]:
        groups = {group.key for group in self.groups}
        looking = {group.key for group in self.groups if group.names_layers}
        for number, modes in enumerate(self.layer_modes):
            where = ("layer_modes", number, "group")
            if modes.group not in groups | set(BUILT_IN):
                yield Fault(where, unknown_word("group", modes.group, sorted(groups)))
            if modes.group in looking:
                yield Fault(
                    where,
                    f"the membership rule of “{modes.group}” looks at what layers do, so it cannot say what they should"
                    " do; name another group",
                )

    def _probe_faults(self) -> Iterator[Fault]:
        sets = {one.key for one in self.probe_sets}
        yield from _unknown(("settings", "gate"), "probe set", enumerate(self.settings.gate), sets)
        known = {group.key for group in self.groups}.union(BUILT_IN)
        for number, probe_set in enumerate(self.probe_sets):
            own = [(place, target) for place, target in enumerate(probe_set.to) if isinstance(target, str)]
            yield from _unknown(("probe_sets", number, "to"), "group", own, known)
            for place, probe in enumerate(probe_set.probes):
                if isinstance(probe.to, str):
                    where = ("probe_sets", number, "probes", place, "to")
                    yield from _unknown(where, "group", [(None, probe.to)], known)


NOUNS = nouns_of(Estate)
"""The nouns of an estate's lists, by their words, in its order: the one registry that all layers derive theirs from."""
PARTS = parts_of(Estate, beside=("portero",))
"""The parts of an estate that there is one of, and who may change each."""

_CHECKS: tuple[tuple[frozenset[str], Callable[[Estate], Iterator[Fault]]], ...] = (
    (frozenset({"application_corrections"}), Estate._correction_faults),
    (frozenset({"precedence", "groups"}), Estate._precedence_faults),
    (frozenset({"rulesets", "services", "application_sets"}), Estate._rule_faults),
    (frozenset({"rulesets", "address_lists"}), Estate._include_faults),
    (frozenset({"application_sets"}), Estate._set_faults),
    (frozenset({"services"}), Estate._service_faults),
    (frozenset({"layer_modes", "groups"}), Estate._enforcement_faults),
    (frozenset({"probe_sets", "settings", "groups"}), Estate._probe_faults),
)
"""What does not fit in which parts, looked for where one of them is another."""
_NAMED_BY_ASSIGNMENTS = frozenset({"groups", "schedules", "notices", "rulesets"})


_BROAD = ("family", "everything", "decision", "suitability")


def _is_broad(selector: Selector) -> bool:
    kind, value = selector.kind, selector.value
    if kind == "pattern":
        # all hosts, or all of a suffix below which anybody may have a site
        host = Pattern.of(value).host
        return not host or is_public_suffix(host)
    return kind in _BROAD or (kind == "address" and "/" in value)


def assignment_faults(where: tuple[str | int, ...], assignment: Assignment, ruleset: Ruleset) -> Iterator[Fault]:
    """What does not fit between an assignment and its ruleset."""
    if assignment.mandatory and assignment.action != "log":
        for number, rule in enumerate(ruleset.rules, start=1):
            if rule.action == "allow" and _is_broad(rule.selector):
                yield Fault(
                    (*where, "mandatory"),
                    f"a mandatory assignment may not allow broadly, and rule {number} of “{ruleset.key}” allows"
                    f" {rule.selector}; name what is allowed one by one, or assign it without mandatory",
                )
    if ruleset.kind == "site" and assignment.names_people:
        yield Fault(
            (*where, "people"),
            "a site list is handed to the browser as the machine's own policy, so it cannot be for some people only;"
            " leave the people out, or use indicators",
        )
    if assignment.report_presence and ruleset.kind != "startup":
        yield Fault(
            (*where, "report_presence"),
            f"programs are reported by rulesets of kind startup, and “{ruleset.key}” is of kind {ruleset.kind}",
        )
    if assignment.end_running and ruleset.kind != "startup":
        yield Fault(
            (*where, "end_running"),
            f"programs are ended by rulesets of kind startup, and “{ruleset.key}” is of kind {ruleset.kind}",
        )
    if assignment.hold_back is not None and ruleset.kind != "startup":
        yield Fault(
            (*where, "hold_back"),
            f"programs are held back by rulesets of kind startup, and “{ruleset.key}” is of kind {ruleset.kind}",
        )
    if ruleset.kind == "site" and assignment.action == "warn":
        yield Fault((*where, "action"), "a site list allows or blocks; browsers cannot warn")


def _unknown(
    where: tuple[str | int, ...], what: str, named: Iterable[tuple[int | None, str]], known: set[str]
) -> Iterator[Fault]:
    for place, key in named:
        if key not in known:
            yield Fault(where if place is None else (*where, place), unknown_word(what, key, sorted(known)))


class FactsDocument(Noun):
    """The facts of some devices, written down, to judge attempts without a service."""

    portero_facts: Literal[1] = 1
    directory: Directory = Directory()
    devices: Annotated[tuple[DocumentDevice, ...], Field(max_length=200_000)] = ()

    def faults(self) -> Iterator[Fault]:
        """Hostnames that stand twice, user groups that take each other in."""
        yield from doubled(("devices",), [device.hostname for device in self.devices])
        yield from self.directory.faults()
