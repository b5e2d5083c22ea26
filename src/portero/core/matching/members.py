"""A device as membership looks at it: its facts in a compact, hashable shape."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Mapping
from datetime import datetime
from hashlib import sha256
from operator import attrgetter
from typing import Any, cast
from weakref import WeakValueDictionary

import msgspec

from portero.core.nouns.device import Facts


class System(msgspec.Struct, frozen=True):
    """The operating system."""

    family: str | None = None
    version: str | None = None


class TamperingFacts(msgspec.Struct, frozen=True):
    """What was done to a policy file."""

    what: str


class PolicyFacts(msgspec.Struct, frozen=True):
    """How a browser's policy file stands. Not when: machines that stand alike share their browsers."""

    file: str
    state: str
    problem: str | None = None
    restart_needed: bool = False
    overridden_by: tuple[str, ...] = ()
    tampering: TamperingFacts | None = None


class Item(msgspec.Struct, frozen=True):
    """A browser or an application; what does not belong to it, or is not known, is None."""

    name: str | None = None
    managed: bool | None = None
    file: str | None = None
    product: str | None = None
    vendor: str | None = None
    signer: str | None = None
    certificate: str | None = None
    path: str | None = None
    category: str | None = None
    version: str | None = None
    policy: PolicyFacts | None = None


class LayerStates(msgspec.Struct, frozen=True):
    """Something about each layer, as reported: what it does, or its version."""

    filter: str | None = None
    browser: str | None = None
    startup: str | None = None


class MemberFacts(msgspec.Struct, frozen=True):
    """Those facts of a device that conditions look at. The field names are those of a facts document."""

    hostname: str
    kind: str = "other"
    unit: str | None = None
    os: System | None = None
    addresses: tuple[str, ...] = ()
    browsers: tuple[Item, ...] = ()
    applications: tuple[Item, ...] = ()
    layers: LayerStates = LayerStates()
    layer_versions: LayerStates = LayerStates()
    serial: str | None = None
    place: str | None = None
    zone: str | None = None
    last_start: datetime | None = None
    clock_ahead: int | None = None
    signed_in: tuple[str, ...] = ()

    @property
    def platform(self) -> str | None:
        """Family of the operating system."""
        return self.os.family if self.os else None


_DECODER = msgspec.json.Decoder(MemberFacts)


def facts_from_json(document: str | bytes) -> MemberFacts:
    """The facts in a stored document."""
    return _DECODER.decode(document)


def facts_from(facts: Facts) -> MemberFacts:
    """The facts of a noun."""
    return msgspec.convert(facts, MemberFacts, from_attributes=True)


class Shared:
    """A list of items that many devices have alike. It is hashed once, when it is first met; then it is only itself."""

    __slots__ = ("__weakref__", "items")
    _all: WeakValueDictionary[tuple[Item, ...], Shared] = WeakValueDictionary()

    def __init__(self, items: tuple[Item, ...]) -> None:
        self.items = items

    @classmethod
    def of(cls, items: tuple[Item, ...]) -> Shared | None:
        """The one instance for these items; None for none at all."""
        if not items:
            return None
        known = cls._all.get(items)
        if known is None:
            known = cls(items)
            cls._all[items] = known
        return known


class Member:
    """One device with everything that decides its groups."""

    __slots__ = ("applications", "browsers", "facts", "id", "keeps_name", "labels", "lifecycle")

    def __init__(
        self,
        id: str,
        facts: MemberFacts,
        labels: Mapping[str, str] | None = None,
        lifecycle: str = "enrolled",
        keeps_name: bool = True,
    ) -> None:
        """`keeps_name` is False for a device whose hostname another one had before: pins by name are not its own."""
        self.id, self.facts, self.lifecycle, self.keeps_name = id, facts, lifecycle, keeps_name
        self.labels = dict(labels or {})
        self.browsers, self.applications = Shared.of(facts.browsers), Shared.of(facts.applications)


def place_in_samples(id: str) -> int:
    """A device's place among 10,000 by chance, always the same: it is in a sample of the first so many."""
    return int.from_bytes(sha256(id.encode()).digest()[:8]) % 10_000


def reader_of(source: str) -> Callable[[Member], Hashable]:
    """Reads one fact of a device; None where it is not reported."""
    if source.startswith("labels."):
        name = source.removeprefix("labels.")
        return lambda member: member.labels.get(name)
    if source == "sample":
        return lambda member: place_in_samples(member.id)
    if source in ("lifecycle", "browsers", "applications"):
        return cast(Callable[[Member], Hashable], attrgetter(source))
    if source.startswith("os."):
        part = attrgetter(source.removeprefix("os."))
        return lambda member: part(member.facts.os) if member.facts.os else None
    read: Callable[[Any], Any] = attrgetter(f"facts.{source}")
    if source == "addresses":
        return lambda member: read(member) or None
    return cast(Callable[[Member], Hashable], read)
