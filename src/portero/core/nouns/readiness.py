"""Whether each enforcement layer of a device really works: what stands in the way, each with its remedy."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

from pydantic import Field

from portero.core.nouns.base import Key, Noun
from portero.core.nouns.layer import LayerMode, LayerName
from portero.core.nouns.membership import MembershipRule


class BlockerCode(StrEnum):
    """What stands in the way, in the order in which to mend it."""

    NEVER_JOINED = "never-joined"
    REJOIN_WAITING = "rejoin-waiting"
    DUPLICATE_HOSTNAME = "duplicate-hostname"
    CREDENTIAL_REVOKED = "credential-revoked"
    SILENT = "silent"
    LAYER_OFF = "layer-off"
    LAYER_OBSERVING = "layer-observing"
    LAYER_NOT_REPORTED = "layer-not-reported"
    LAYER_TOO_OLD = "layer-too-old"
    PLATFORM_TOO_OLD = "platform-too-old"
    BROWSER_UNMANAGED = "browser-unmanaged"
    BROWSER_TOO_OLD = "browser-too-old"
    POLICY_UNWRITTEN = "policy-unwritten"
    POLICY_OVERRIDDEN = "policy-overridden"
    LIST_TRUNCATED = "list-truncated"
    PATTERN_CHANGED = "pattern-changed"
    RESTART_NEEDED = "restart-needed"
    TAMPERED = "tampered"
    ZONE_MISSING = "zone-missing"
    CLOCK_OFF = "clock-off"
    FACTS_STALE = "facts-stale"


ORDER = {code: place for place, code in enumerate(BlockerCode)}


class Blocker(Noun):
    """One thing that stands in the way."""

    code: BlockerCode
    layer: Annotated[LayerName | None, Field(description="The layer it hinders; None for the machine as a whole.")] = (
        None
    )
    about: Annotated[str | None, Field(description="What in particular, such as a browser and its version.")] = None
    detail: str
    remedy: str
    link: Annotated[str, Field(description="Where in the console to mend it, or to read on.")]


class LayerReadiness(Noun):
    """One layer of a device: what it should do, what it reports, and whether it really enforces."""

    layer: LayerName
    meant: LayerMode
    meant_by: Annotated[str, Field(description="The group whose word counts, or “estate”.")]
    reported: LayerMode | None
    version: str | None = None
    enforces: Annotated[bool, Field(description="Meant to enforce, reports it, and nothing stands in the way.")]


class Readiness(Noun):
    """A device's layers, and all that stands in the way, in the order in which to mend it."""

    layers: tuple[LayerReadiness, ...]
    blockers: tuple[Blocker, ...]


class BlockerCount(Noun):
    """How many machines something stands in the way of."""

    code: BlockerCode
    layer: LayerName | None = None
    devices: int
    detail: str
    remedy: str
    link: str
    group_rule: Annotated[
        MembershipRule | None, Field(description="A membership rule that catches these machines, where there is one.")
    ] = None


class LayerCount(Noun):
    """How many machines really enforce one layer, and where the others are lost: each counted at its first blocker."""

    layer: LayerName
    meant: Annotated[int, Field(description="How many are meant to enforce it.")]
    enforcing: int
    not_meant: Annotated[int, Field(description="How many the estate means to observe, or leaves off.")]
    lost: tuple[BlockerCount, ...]


class FleetReadiness(Noun):
    """Readiness of the fleet, a unit or a group."""

    unit: str | None = None
    group: Key | None = None
    devices: Annotated[int, Field(description="Machines in scope; retired ones do not count.")]
    uncovered: Annotated[int, Field(description="Machines that are known and have never joined.")]
    sentence: str
    layers: tuple[LayerCount, ...]
    blockers: Annotated[tuple[BlockerCount, ...], Field(description="Everything in the way, most machines first.")]


class UnitReadiness(Noun):
    """How one unit stands: machines, and how many enforce each layer."""

    unit: str
    devices: int
    uncovered: int
    enforcing: dict[LayerName, int]
