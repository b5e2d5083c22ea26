"""Everything an administrator authors, as one value: the estate document."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from functools import cached_property
from typing import Annotated, Any, Literal, NamedTuple

from pydantic import Field, field_validator

from portero.core.nouns.assignment import Assignment
from portero.core.nouns.base import Hostname, Key, Note, Noun, unknown_word
from portero.core.nouns.coverage import CoverageRow, CoverageTable
from portero.core.nouns.device import DocumentDevice, LayerMode
from portero.core.nouns.group import BUILT_IN, UNCLAIMED, WHOLE_FLEET, Group
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.settings import EstateLayers, GroupLayers, Settings
from portero.core.nouns.web_taxonomy import TAXONOMY


class Correction(Noun):
    """The categories of a host as the organisation sees them, in place of what feeds say."""

    host: Hostname
    categories: Annotated[tuple[Key, ...], Field(min_length=1, max_length=45)]
    reason: Note | None = None

    @field_validator("categories")
    @classmethod
    def _known(cls, value: tuple[str, ...]) -> tuple[str, ...]:
        for key in value:
            if key not in TAXONOMY.categories:
                raise ValueError(unknown_word("category", key, TAXONOMY.categories))
        return tuple(sorted(set(value)))

    @field_validator("host")
    @classmethod
    def _no_test_host(cls, value: str) -> str:
        if TAXONOMY.category_of_test_host(value):
            raise ValueError(f"“{value}” is a test host and always keeps its category")
        return value


class Fault(NamedTuple):
    """Something wrong in an estate: where (a path of keys and positions) and what."""

    path: tuple[str | int, ...]
    message: str


class Estate(Noun):
    """Groups, precedence, rulesets, assignments and corrections together."""

    portero: Literal[1] = 1
    precedence: Annotated[tuple[Key, ...], Field(max_length=2000)] = ()
    groups: Annotated[tuple[Group, ...], Field(max_length=2000)] = ()
    rulesets: Annotated[tuple[Ruleset, ...], Field(max_length=5000)] = ()
    assignments: Annotated[tuple[Assignment, ...], Field(max_length=20000)] = ()
    corrections: Annotated[tuple[Correction, ...], Field(max_length=100000)] = ()
    settings: Settings = Settings()
    layer_modes: Annotated[tuple[GroupLayers, ...], Field(max_length=2000)] = ()
    coverage: Annotated[tuple[CoverageRow, ...], Field(max_length=2000)] = ()

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

    def faults(self) -> Iterator[Fault]:
        """What does not fit together: keys used twice, names of things that are not there."""
        for kind in ("groups", "rulesets", "assignments"):
            yield from _doubled(kind, [noun.key for noun in getattr(self, kind)])
        yield from _doubled("corrections", [correction.host for correction in self.corrections])
        yield from _doubled("precedence", self.precedence)
        groups = {group.key for group in self.groups}
        yield from _unknown(("precedence",), "group", self.precedence, groups)
        for number, assignment in enumerate(self.assignments):
            where = ("assignments", number)
            yield from _unknown((*where, "to"), "group", assignment.to, groups | set(BUILT_IN))
            if assignment.ruleset not in self.ruleset_by_key:
                yield Fault((*where, "ruleset"), unknown_word("ruleset", assignment.ruleset, self.ruleset_by_key))
            yield from mandatory_faults(where, assignment, self.ruleset_by_key.get(assignment.ruleset))
        yield from self._enforcement_faults(groups)

    def _enforcement_faults(self, groups: set[str]) -> Iterator[Fault]:
        yield from _doubled("layer_modes", [modes.group for modes in self.layer_modes])
        yield from _doubled("coverage", [row.key for row in self.coverage])
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


def mandatory_faults(where: tuple[str | int, ...], assignment: Assignment, ruleset: Ruleset | None) -> Iterator[Fault]:
    """A mandatory assignment may not allow broadly: with a family or with everything."""
    if not assignment.mandatory or ruleset is None or assignment.action == "log":
        return
    for number, rule in enumerate(ruleset.rules, start=1):
        if rule.action == "allow" and rule.selector.kind in ("family", "everything"):
            yield Fault(
                (*where, "mandatory"),
                f"a mandatory assignment may not allow broadly, and rule {number} of “{ruleset.key}” allows"
                f" {rule.selector}; name single categories, or assign it without mandatory",
            )


def _doubled(kind: str, keys: Iterable[str]) -> Iterator[Fault]:
    seen: dict[str, int] = {}
    for number, key in enumerate(keys):
        first = seen.setdefault(key, number)
        if first != number:
            yield Fault((kind, number), f"“{key}” stands twice, first as number {first + 1}; keep one of them")


def _unknown(where: tuple[str | int, ...], what: str, keys: Iterable[str], known: set[str]) -> Iterator[Fault]:
    for number, key in enumerate(keys):
        if key not in known:
            yield Fault((*where, number), unknown_word(what, key, sorted(known)))


class FactsDocument(Noun):
    """The facts of some devices, written down, to judge attempts without a service."""

    portero_facts: Literal[1] = 1
    devices: Annotated[tuple[DocumentDevice, ...], Field(max_length=200_000)] = ()

    def faults(self) -> Iterator[Fault]:
        """Hostnames that stand twice."""
        yield from _doubled("devices", [device.hostname for device in self.devices])
