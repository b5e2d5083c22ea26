"""Estate-wide settings, and what groups say about layers."""

from __future__ import annotations

from enum import StrEnum
from ipaddress import ip_network
from typing import Annotated, ClassVar, Self

from pydantic import AfterValidator, Field, StringConstraints, model_validator

from portero.core.nouns.access import Role
from portero.core.nouns.base import Key, Noun, Text
from portero.core.nouns.check_in import CHECK_IN_SECONDS, CheckInSeconds
from portero.core.nouns.device import Zone
from portero.core.nouns.layer import LayerMode
from portero.core.nouns.registry import Authored, Declared, shows
from portero.core.nouns.urls import WebHost


def _normal_network(value: str) -> str:
    try:
        return str(ip_network(value, strict=False))
    except ValueError as problem:
        raise ValueError(f"“{value[:60]}” is not a network; write it as in 198.51.100.0/24") from problem


Network = Annotated[str, StringConstraints(max_length=64), AfterValidator(_normal_network)]


class UndecidedStart(StrEnum):
    """What becomes of a start that could not be decided in time."""

    PASS = "pass"
    REFUSE = "refuse"


class EstateLayers(Noun):
    """What each layer should do where no group says otherwise."""

    filter: LayerMode = LayerMode.ENFORCING
    browser: LayerMode = LayerMode.ENFORCING
    startup: LayerMode = LayerMode.ENFORCING


class SearchPage(Noun):
    """A search page: the host that it is on, that very one, and the query parameter that carries what is searched."""

    host: WebHost
    parameter: Annotated[str, StringConstraints(min_length=1, max_length=100)]


class Settings(Noun):
    """What holds for the whole estate."""

    right: ClassVar[Role] = "keeper"
    name: Annotated[Text | None, Field(description="What the estate is called, as evidence names it.")] = None
    layers: EstateLayers = EstateLayers()
    gateway_networks: Annotated[
        tuple[Network, ...],
        Field(max_length=500, description="On-site machines with an address here leave filtering to the gateway."),
    ] = ()
    newly_registered_days: Annotated[
        int, Field(ge=1, le=3650, description="A host counts as newly registered for so many days.")
    ] = 60
    indicator_capacity: Annotated[
        int, Field(ge=1, le=1_000_000, description="How many indicators a machine may have to carry.")
    ] = 200_000
    activity_days: Annotated[
        int, Field(ge=1, le=3650, description="For so many days it is kept what machines stopped, warned of, logged.")
    ] = 180
    visit_days: Annotated[
        int, Field(ge=1, le=3650, description="For so many days it is kept where hosts were seen, and how often.")
    ] = 90
    facts_days: Annotated[
        int, Field(ge=1, le=3650, description="For so many days it is kept what machines told of themselves before.")
    ] = 90
    check_in_seconds: CheckInSeconds = CHECK_IN_SECONDS
    zone: Annotated[Zone, Field(description="The clock on which moments are read that name no zone of their own.")] = (
        "UTC"
    )
    undecided_starts: Annotated[
        UndecidedStart,
        Field(description="What a start gets that a machine's guard has not decided after half a second."),
    ] = UndecidedStart.PASS
    gate: Annotated[
        tuple[Key, ...], Field(max_length=50, description="Keys of the probe sets that every change must pass.")
    ] = ()
    search_pages: Annotated[
        tuple[SearchPage, ...], Field(max_length=500, description="Where search terms are read from.")
    ] = ()


class SettingsState(Settings):
    """The settings, with the revision that last changed them."""

    version: int


class GroupLayers(Authored):
    """What layers should do on a group's devices; a layer that is not named is left to weaker groups and the estate."""

    declared: ClassVar = Declared(
        "layer modes",
        "layer_modes",
        key="group",
        about="What layers should do on the devices of groups.",
        single="set of layer modes",
    )
    group: Key
    filter: LayerMode | None = None
    browser: LayerMode | None = None
    startup: LayerMode | None = None

    @model_validator(mode="after")
    def _says_something(self) -> Self:
        if self.filter is None and self.browser is None and self.startup is None:
            raise ValueError("name a mode for at least one of filter, browser, startup")
        return self


@shows(GroupLayers)
class GroupLayersState(GroupLayers):
    """A group's layer modes, with the revision that last changed them."""

    version: int
