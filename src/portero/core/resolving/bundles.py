"""A class's bundle: all of an estate that its devices need, and nothing of anybody else's.

What is meant for single devices comes as a small overlay on top.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Sequence
from operator import itemgetter
from typing import Any, Generic, Self, TypeAlias, TypeVar

import msgspec

from portero.core.by_identity import MadeOnce
from portero.core.matching.hold_back import Fields
from portero.core.nouns.coverage import CoverageRow, CoverageTable

WHOLE_FORMAT = 2
READABLE_WHOLE = (1, 2)
"""In format 1 there were web categories only; what came since has defaults, so that a bundle kept from then reads.
Since format 3 a bundle travels in parts: core.resolving.documents.
"""


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


Ruling = TypeVar("Ruling")


class Rules(MadeOnce, tuple[BundleRule, ...]):
    """The rules of a ruleset, shared by all bundles that have them."""

    override: str | None
    """The action of an assignment that stands above theirs."""
    begins: tuple[int, ...]
    """Where the pieces of them begin: the ruleset's own, then what each address list brings."""
    _authored: Self | None

    @classmethod
    def of(
        cls,
        rules: Iterable[BundleRule],
        begins: tuple[int, ...] = (0,),
        authored: Self | None = None,
        override: str | None = None,
    ) -> Self:
        """These rules; `authored` are those that an action stands above."""
        found = cls(rules)
        found._authored, found.override, found.begins = authored, override, begins
        return found

    @property
    def authored(self) -> Self:
        """As they are written in the ruleset."""
        return self if self._authored is None else self._authored

    @property
    def pieces(self) -> list[Sequence[BundleRule]]:
        """What is the ruleset's own, and what each address list brings."""
        return [self[begin:end] for begin, end in zip(self.begins, (*self.begins[1:], len(self)), strict=True)]


class SharedContent(MadeOnce, dict[str, Any]):
    """What a bundle refers to, as it is written in it."""


class AssignmentOf(msgspec.Struct, Generic[Ruling], frozen=True, omit_defaults=True, weakref=True):
    """One assignment as this class sees it: by way of the strongest of its targets that holds the class.

    Without a target it is the device itself. People are folded. Times are seconds since 1970.
    """

    key: str
    ruleset: str
    ruleset_name: str
    rules: tuple[Ruling, ...]
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
    override: str | None = None
    """Where rules are named: the action that stands above theirs."""

    def address_list_of(self, rule: int) -> str | None:
        """The address list that brings the rule of a number; None where it is the ruleset's own."""
        place = bisect_right(self.included, rule, key=itemgetter(0))
        return self.included[place - 1][1] if place else None

    @property
    def names_people(self) -> bool:
        """Whether it is for some people only."""
        return bool(self.users or self.user_groups)


BundleAssignment: TypeAlias = AssignmentOf[BundleRule]
NamedAssignment: TypeAlias = AssignmentOf[str]
"""One whose rules are parts, named by digest."""


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


class References(msgspec.Struct, frozen=True, omit_defaults=True):
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
    references: References = msgspec.field(default=References(), name="parts")


class Overlay(msgspec.Struct, frozen=True):
    """What a device gets on top of its class's bundle: assignments with their places in the whole, and their parts."""

    portero_overlay: int
    bundle_groups: tuple[str, ...]
    assignments: tuple[tuple[int, BundleAssignment], ...]
    references: References = msgspec.field(default=References(), name="parts")


def coverage_of(bundle: Bundle) -> CoverageTable:
    """The coverage table as far as site lists go by it."""
    return CoverageTable(tuple(map(CoverageRow.model_validate, bundle.references.coverage.values())))


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
    base, more = bundle.references, overlay.references
    both = {name: getattr(base, name) | getattr(more, name) for name in References.__struct_fields__}
    return msgspec.structs.replace(bundle, assignments=tuple(assignments), references=References(**both))
