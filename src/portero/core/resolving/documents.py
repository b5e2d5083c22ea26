"""A bundle as it travels since format 3: a small document, which names all that is big by its digest.

What it names are parts: the rules of a ruleset as they are authored, what an address list brings, an application set,
the services, the corrections. All classes that use a part share it. It is JSON, named by its SHA-256.
"""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sized
from functools import partial
from typing import Any, TypeAlias, TypeVar, cast

import msgspec

from portero.core.by_identity import ByIdentity
from portero.core.digests import digest_of
from portero.core.resolving.bundles import (
    WHOLE_FORMAT,
    Bundle,
    BundleAssignment,
    BundleNotice,
    BundleRule,
    BundleService,
    NamedAssignment,
    Overlay,
    References,
    Rules,
    SharedContent,
)
from portero.core.resolving.compiling import under_override

DOCUMENT_FORMAT = 3

Part = Callable[[], bytes]
"""Gives a part as it travels, before it is packed."""


class NamedReferences(msgspec.Struct, frozen=True, omit_defaults=True):
    """What assignments refer to, by key; application sets and the services by the digest of their part."""

    schedules: dict[str, dict[str, Any]] = {}
    application_sets: dict[str, str] = {}
    services: str | None = None
    notices: dict[str, BundleNotice] = {}
    coverage: dict[str, dict[str, Any]] = {}


class Document(msgspec.Struct, frozen=True, omit_defaults=True):
    """What devices with the same groups get: as a bundle, with digests in the place of its parts."""

    portero_bundle: int
    groups: tuple[str, ...]
    assignments: tuple[NamedAssignment, ...]
    layers: dict[str, str]
    gateway_networks: tuple[str, ...] = ()
    corrections: str | None = None
    search_pages: tuple[tuple[str, str], ...] = ()
    application_corrections: str | None = None
    undecided_starts: str = "pass"
    references: NamedReferences = NamedReferences()

    @property
    def parts(self) -> Iterator[str]:
        """The digests of all parts that it names, some more than once."""
        yield from filter(None, (self.corrections, self.application_corrections))
        yield from _parts_named(self.assignments, self.references)


class NamedOverlay(msgspec.Struct, frozen=True, omit_defaults=True):
    """What a device gets on top of its class's document: assignments with their places in the whole."""

    portero_overlay: int
    bundle_groups: tuple[str, ...]
    assignments: tuple[tuple[int, NamedAssignment], ...]
    references: NamedReferences = NamedReferences()

    @property
    def parts(self) -> Iterator[str]:
        """The digests of all parts that it names, some more than once."""
        yield from _parts_named((one for _, one in self.assignments), self.references)


def _parts_named(
    assignments: Iterator[NamedAssignment] | tuple[NamedAssignment, ...], more: NamedReferences
) -> Iterator[str]:
    for assignment in assignments:
        yield from assignment.rules
    yield from more.application_sets.values()
    if more.services is not None:
        yield more.services


def counterparts(before: Document, after: Document) -> dict[str, str]:
    """For each part of a document that stands in the place of another one in an earlier document, that one."""
    had, has = _places(before), _places(after)
    return {name: had[place] for place, name in has.items() if place in had and had[place] != name}


def _places(document: Document) -> dict[tuple[object, ...], str]:
    """Parts by where they stand, as far as that stays the same while they change."""
    named: dict[tuple[object, ...], str | None] = {
        (place, assignment.ruleset): name
        for assignment in document.assignments
        for place, name in enumerate(assignment.rules)
    }
    named |= {("set", key): name for key, name in document.references.application_sets.items()}
    named["services",] = document.references.services
    named["corrections",] = document.corrections
    named["programs",] = document.application_corrections
    return {place: name for place, name in named.items() if name is not None}


# --- taken apart ---


class Parts(dict[str, Part]):
    """Parts by digest; and which assignments they were taken out of: most are in many bundles."""

    def __init__(self) -> None:
        super().__init__()
        self.named: dict[int, NamedAssignment] = {}
        """By the identity of the assignment."""
        self._named: list[BundleAssignment] = []

    def note(self, assignment: BundleAssignment, named: NamedAssignment) -> None:
        """All parts of an assignment are there."""
        # it is kept, too, so that no other one comes to have its identity
        self._named.append(assignment)
        self.named[id(assignment)] = named


def in_parts(bundle: Bundle, parts: Parts) -> Document:
    """A compiled bundle taken apart: its document; the parts that it names are put with those that are there."""
    taken = _Taken(parts)
    return Document(
        portero_bundle=DOCUMENT_FORMAT,
        groups=bundle.groups,
        assignments=taken.assignments(bundle.assignments),
        layers=bundle.layers,
        gateway_networks=bundle.gateway_networks,
        corrections=taken.some(bundle.corrections),
        search_pages=bundle.search_pages,
        application_corrections=taken.some(bundle.application_corrections),
        undecided_starts=bundle.undecided_starts,
        references=taken.references(bundle.references),
    )


def overlay_in_parts(overlay: Overlay, parts: Parts) -> NamedOverlay:
    """A compiled overlay taken apart likewise."""
    taken = _Taken(parts)
    return NamedOverlay(
        portero_overlay=DOCUMENT_FORMAT,
        bundle_groups=overlay.bundle_groups,
        assignments=tuple((place, taken.assignment(one)) for place, one in overlay.assignments),
        references=taken.references(overlay.references),
    )


class _Taken:
    """Takes parts out of something."""

    def __init__(self, parts: Parts) -> None:
        self.parts = parts

    def assignments(self, assignments: Iterable[BundleAssignment]) -> tuple[NamedAssignment, ...]:
        """Assignments with their rules named; most have been met in other bundles."""
        known = self.parts.named
        return tuple([known.get(id(one)) or self.assignment(one) for one in assignments])

    def assignment(self, assignment: BundleAssignment) -> NamedAssignment:
        """The assignment with its rules named."""
        named, rules = _named.of(assignment), assignment.rules
        for number, name in enumerate(named.rules):
            if name not in self.parts:
                self.parts[name] = partial(_rules_written, _shared(rules).authored, number)
        self.parts.note(assignment, named)
        return named

    def references(self, references: References) -> NamedReferences:
        """What assignments refer to, with what is big named."""
        sets = references.application_sets
        return NamedReferences(
            schedules=references.schedules,
            application_sets={key: self._content(one) for key, one in sets.items()},
            services=self.some(references.services),
            notices=references.notices,
            coverage=references.coverage,
        )

    def some(self, content: dict[str, Any]) -> str | None:
        """The name of content; None where there is none of it."""
        return self._content(content) if content else None

    def _content(self, content: dict[str, Any]) -> str:
        shared = content if isinstance(content, SharedContent) else SharedContent(content)
        name = shared.once(_name_of)
        if name not in self.parts:
            self.parts[name] = partial(_content_written, shared)
        return name


def _shared(rules: tuple[BundleRule, ...]) -> Rules:
    return rules if isinstance(rules, Rules) else Rules.of(rules)


def _name_rules(assignment: BundleAssignment) -> NamedAssignment:
    rules = _shared(assignment.rules)
    names = rules.authored.once(_names_of)
    return msgspec.structs.replace(assignment, rules=names, override=rules.override)  # type: ignore[arg-type]


_named: ByIdentity[BundleAssignment, NamedAssignment] = ByIdentity(_name_rules)


def _names_of(rules: Rules) -> tuple[str, ...]:
    return tuple(digest_of(_rules_written(rules, number)) for number in range(len(rules.begins)))


def _name_of(content: SharedContent) -> str:
    return digest_of(_content_written(content))


def _content_written(content: SharedContent) -> bytes:
    return msgspec.json.encode(content, order="deterministic")


_PartRule: TypeAlias = tuple[str, str, str, bool, float | None, str | None]
"""A rule without its number: what stands before it in its ruleset does not make it another. Selector kind and value,
action, whether it stands for itself alone, when it is over, the reading of a site pattern.
"""


def _rules_written(rules: Rules, number: int) -> bytes:
    for known, place, written in tuple(_lately_written):
        if known is rules and place == number:
            return written
    piece = rules.pieces[number]
    written = msgspec.json.encode(
        [(one.selector_kind, one.selector_value, one.action, one.exact, one.until, one.reading) for one in piece]
    )
    _lately_written.append((rules, number, written))
    return written


_lately_written: deque[tuple[Rules, int, bytes]] = deque(maxlen=8)
"""What was written to be named is asked for again to be packed."""


# --- put together ---

Content = TypeVar("Content")
Kept = TypeVar("Kept", bound=Sized)
Read = Callable[[str], bytes]
"""Gives a part, unpacked, by its digest."""


class Shelf:
    """Parts that were read and made ready, for all bundles that name them: a digest always names the same."""

    MOST = 1_000_000
    """So many rules, and other entries, are kept; what was asked for least lately goes first."""

    def __init__(self) -> None:
        self._known: dict[tuple[object, ...], Sized] = {}
        self._number = 0
        self._lock = threading.Lock()

    def bundle(self, document: Document, read: Read) -> Bundle:
        """The bundle of a document, and of its parts where they are not on the shelf. msgspec.MsgspecError."""
        return Bundle(
            portero_bundle=WHOLE_FORMAT,
            groups=document.groups,
            assignments=tuple(self._assignment(one, read) for one in document.assignments),
            corrections=self._some(document.corrections, _CORRECTIONS, read),
            layers=document.layers,
            gateway_networks=document.gateway_networks,
            search_pages=document.search_pages,
            application_corrections=self._some(document.application_corrections, _PRODUCTS, read),
            undecided_starts=document.undecided_starts,
            references=self._references(document.references, read),
        )

    def overlay(self, overlay: NamedOverlay, read: Read) -> Overlay:
        """An overlay likewise. msgspec.MsgspecError."""
        return Overlay(
            portero_overlay=WHOLE_FORMAT,
            bundle_groups=overlay.bundle_groups,
            assignments=tuple((place, self._assignment(one, read)) for place, one in overlay.assignments),
            references=self._references(overlay.references, read),
        )

    def forget(self) -> None:
        """Everything is read again."""
        with self._lock:
            self._known.clear()
            self._number = 0

    def _assignment(self, named: NamedAssignment, read: Read) -> BundleAssignment:
        rules = self._rules(named.rules, named.override, read)
        return msgspec.structs.replace(named, rules=rules, override=None)  # type: ignore[arg-type]

    def _rules(self, names: tuple[str, ...], override: str | None, read: Read) -> Rules:
        if override is not None:
            authored = self._rules(names, None, read)
            return self._once((names, override), lambda: under_override(authored, override))
        return self._once((names,), lambda: _read_rules([_RULES.decode(read(name)) for name in names]))

    def _references(self, named: NamedReferences, read: Read) -> References:
        return References(
            schedules=named.schedules,
            application_sets={key: self._some(one, _SET, read) for key, one in named.application_sets.items()},
            services=self._some(named.services, _SERVICES, read),
            notices=named.notices,
            coverage=named.coverage,
        )

    def _some(
        self, name: str | None, decoder: msgspec.json.Decoder[dict[str, Content]], read: Read
    ) -> dict[str, Content]:
        if name is None:
            return {}
        return self._once((decoder, name), lambda: SharedContent(decoder.decode(read(name))))

    def _once(self, key: tuple[object, ...], make: Callable[[], Kept]) -> Kept:
        with self._lock:
            found = self._known.pop(key, None)
            if found is not None:
                self._known[key] = found
                return cast(Kept, found)
        made = make()
        with self._lock:
            # several threads may have made the same
            kept = cast(Kept, self._known.setdefault(key, made))
            self._number += len(made) + 1 if kept is made else 0
            while self._number > self.MOST and len(self._known) > 1:
                self._number -= len(self._known.pop(next(iter(self._known)))) + 1
        return kept


def _read_rules(pieces: list[list[_PartRule]]) -> Rules:
    """Rules of their pieces, numbered through."""
    begins: list[int] = []
    rules: list[BundleRule] = []
    for piece in pieces:
        begins.append(len(rules))
        rules += [BundleRule(number, *one) for number, one in enumerate(piece, start=len(rules) + 1)]
    return Rules.of(rules, tuple(begins))


# made here, by one thread: see formats.bundles
_RULES = msgspec.json.Decoder(list[_PartRule])
_CORRECTIONS = msgspec.json.Decoder(dict[str, tuple[str, ...]])
_PRODUCTS = msgspec.json.Decoder(dict[str, str])
_SERVICES = msgspec.json.Decoder(dict[str, BundleService])
_SET = msgspec.json.Decoder(dict[str, Any])
