"""A managed machine: what it reports (facts), what administrators put on it (labels), where it stands."""

from __future__ import annotations

from enum import StrEnum
from ipaddress import ip_address
from typing import Annotated
from zoneinfo import ZoneInfo

from pydantic import AfterValidator, Field, StringConstraints

from portero.core.nouns.base import Hostname, Key, Noun, Text, Timestamp
from portero.core.nouns.browser_policy import BrowserPolicy
from portero.core.nouns.layer import Layers, LayerVersions
from portero.core.nouns.rollout import RolloutState


def _an_address(value: str) -> str:
    try:
        return str(ip_address(value))
    except ValueError as problem:
        raise ValueError(f"“{value[:60]}” is not an IPv4 or IPv6 address") from problem


def _known_zone(value: str) -> str:
    try:
        ZoneInfo(value)
    except (KeyError, ValueError, OSError) as problem:
        raise ValueError(f"“{value[:60]}” is not a time zone of the IANA list, such as Atlantic/Faroe") from problem
    return value


Unit = Annotated[str, StringConstraints(max_length=255, pattern=r"^[^/\s]+(/[^/\s]+)*$")]
"""A place in the directory tree, its parts set apart by “/”."""
Address = Annotated[str, StringConstraints(max_length=64), AfterValidator(_an_address)]
Zone = Annotated[str, StringConstraints(max_length=64), AfterValidator(_known_zone)]
Labels = Annotated[dict[Key, Text], Field(max_length=32)]


class Kind(StrEnum):
    """What sort of machine it is."""

    DESKTOP = "desktop"
    LAPTOP = "laptop"
    KIOSK = "kiosk"
    SERVER = "server"
    TABLET = "tablet"
    PHONE = "phone"
    OTHER = "other"


class Place(StrEnum):
    """Whether a machine is inside the organisation's own walls."""

    ON_SITE = "on-site"
    OFF_SITE = "off-site"


class Lifecycle(StrEnum):
    """Where a device stands with the service; `silent` is derived from its own rhythm of check-ins."""

    INVITED = "invited"
    ENROLLED = "enrolled"
    SILENT = "silent"
    RETIRED = "retired"


class OperatingSystem(Noun):
    """The operating system, by family and version."""

    family: Text
    version: Text | None = None


MOST_APPLICATIONS = 5_000
"""So many programs a machine tells of."""
MOST_CLOCK_AHEAD = 4_000_000_000
"""So many seconds a clock may be ahead or behind: one that begins in 1970 with each start is."""


class Application(Noun):
    """A program as found on the machine. What is not known is left out."""

    file: Text | None = None
    product: Text | None = None
    vendor: Text | None = None
    version: Text | None = None
    signer: Text | None = None
    certificate: Annotated[
        str | None,
        StringConstraints(pattern=r"^[0-9a-f]{64}$", to_lower=True),
        Field(description="SHA-256 of the signer's certificate: its thumbprint."),
    ] = None
    sha256: Annotated[str, StringConstraints(pattern=r"^[0-9a-f]{64}$", to_lower=True)] | None = None
    path: Annotated[str, StringConstraints(max_length=1024)] | None = None
    category: Key | None = None


class Browser(Noun):
    """An installed browser, and whether it takes managed policy."""

    name: Text
    version: Text | None = None
    managed: bool = False
    application: Application | None = None
    policy: Annotated[BrowserPolicy | None, Field(description="Its policy file, where the endpoint keeps one.")] = None


class Facts(Noun):
    """What a device reports about itself. A fact that is not reported is None or empty."""

    hostname: Hostname
    kind: Kind = Kind.OTHER
    unit: Unit | None = None
    os: OperatingSystem | None = None
    addresses: Annotated[tuple[Address, ...], Field(max_length=32)] = ()
    browsers: Annotated[tuple[Browser, ...], Field(max_length=32)] = ()
    applications: Annotated[tuple[Application, ...], Field(max_length=MOST_APPLICATIONS)] = ()
    layers: Layers = Layers()
    layer_versions: LayerVersions = LayerVersions()
    serial: Text | None = None
    place: Place | None = None
    zone: Zone | None = None
    last_start: Timestamp | None = None
    clock_ahead: Annotated[
        int | None,
        Field(
            ge=-MOST_CLOCK_AHEAD,
            le=MOST_CLOCK_AHEAD,
            description="Seconds that its clock is ahead of the service's; behind is negative. None within a minute.",
        ),
    ] = None
    signed_in: Annotated[
        tuple[Text, ...], Field(max_length=32, description="Who is signed in: the people's names on the machine.")
    ] = ()


class DocumentDevice(Facts):
    """A device of a facts document: its facts, and the labels that administrators put on it."""

    labels: Labels = {}


class Device(Noun):
    """A managed machine as the service knows it."""

    id: Annotated[str, Field(description="Permanent id, made by the service when the device was first known.")]
    hostname: Hostname
    lifecycle: Lifecycle
    facts: Facts
    labels: Labels = {}
    groups: Annotated[tuple[Key, ...], Field(description="Its groups, strongest first; none for a retired one.")] = ()
    joined_at: Timestamp | None = None
    last_heard: Annotated[Timestamp | None, Field(description="When it last checked in.")] = None
    usual_interval: Annotated[
        float | None, Field(description="Seconds between its check-ins, by its own recent rhythm.")
    ] = None
    silent_after: Annotated[
        Timestamp | None, Field(description="If it is not heard of until then, it counts as silent.")
    ] = None
    facts_at: Annotated[Timestamp | None, Field(description="When it last told its facts.")] = None
    bundle: Annotated[str | None, Field(description="Digest of the bundle it should have.")] = None
    applied_bundle: Annotated[str | None, Field(description="Digest of the bundle it says it has applied.")] = None
    applied_revision: int | None = None
    applied_index: Annotated[
        str | None, Field(description="Digest of the category index it says it holds; None where it has not said.")
    ] = None
    applied_at: Timestamp | None = None
    rollout: Annotated[
        RolloutState | None, Field(description="None for a machine that never joined, or is retired.")
    ] = None
    blockers: Annotated[
        tuple[str, ...], Field(description="Codes of what keeps its layers from enforcing, in the order of mending.")
    ] = ()
    rejoin_of: Annotated[
        str | None, Field(description="Id of the device with the same serial that it may be; see confirm-rejoin.")
    ] = None
    version: Annotated[int, Field(description="Counts administrators' changes to it; also its ETag.")] = 1


class DeviceEvent(Noun):
    """Something that was done to a device."""

    at: Timestamp
    by: str
    what: Annotated[str, Field(description="What was done, in words.")]
    reason: str | None = None


class DeviceLabels(Noun):
    """All labels of a device."""

    labels: Labels


class NewDevice(Noun):
    """A machine to be known before it joins; without an agent it never does."""

    hostname: Hostname
    kind: Kind = Kind.OTHER
    unit: Unit | None = None
    serial: Text | None = None
    os: OperatingSystem | None = None
    labels: Labels = {}
