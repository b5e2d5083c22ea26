"""A named set of devices: by a membership rule, by pins, or both."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Self

from pydantic import BeforeValidator, ConfigDict, Field, WithJsonSchema, WrapSerializer, model_validator

from portero.core.nouns.base import Hostname, Key, Name, Note, Noun
from portero.core.nouns.check_in import CheckInSeconds
from portero.core.nouns.membership import MembershipRule
from portero.core.nouns.registry import Authored, Declared, shows

WHOLE_FLEET = "whole-fleet"
UNCLAIMED = "unclaimed"
BUILT_IN = (UNCLAIMED, WHOLE_FLEET)
"""The groups that are always there, weakest last."""


class Pin(Noun):
    """One device put into a group, or kept out of it, by hand. In a document a bare hostname will do."""

    device: Annotated[Hostname, Field(description="Hostname, or permanent id, of the device.")]
    reason: Note | None = None


def _pin(value: Any) -> Any:
    return {"device": value} if isinstance(value, str) else value


def _written_pin(pin: Pin, write: Any) -> Any:
    return write(pin) if pin.reason else pin.device


_PIN_SCHEMA = {
    "anyOf": [
        {"type": "string", "minLength": 1, "maxLength": 253},
        {
            "type": "object",
            "properties": {
                "device": {"type": "string", "description": "Hostname, or permanent id, of the device."},
                "reason": {"anyOf": [{"type": "string", "maxLength": 2000}, {"type": "null"}]},
            },
            "required": ["device"],
            "additionalProperties": False,
        },
    ]
}
PinEntry = Annotated[Pin, BeforeValidator(_pin), WrapSerializer(_written_pin), WithJsonSchema(_PIN_SCHEMA)]
PinList = Annotated[tuple[PinEntry, ...], Field(max_length=20_000)]


class Pins(Noun):
    """Devices put in and kept out by hand. Out beats in, and both beat the membership rule."""

    model_config = ConfigDict(populate_by_name=True, serialize_by_alias=True)
    in_: Annotated[PinList, Field(alias="in")] = ()
    out: PinList = ()

    @model_validator(mode="after")
    def _once_each(self) -> Self:
        for where, pins in (("in", self.in_), ("out", self.out)):
            seen = set()
            for pin in pins:
                name = pin.device
                if name in seen:
                    raise ValueError(f"“{pin.device}” stands twice under “{where}”; keep one of them")
                seen.add(name)
        return self


class Group(Authored):
    """A named set of devices. Without a membership rule and pins it holds nobody."""

    declared: ClassVar = Declared("group", "groups", about="Named sets of devices.")
    key: Key
    name: Name | None = None
    members: MembershipRule | None = None
    pins: Pins | None = None
    check_in_seconds: CheckInSeconds | None = None

    @model_validator(mode="after")
    def _not_built_in(self) -> Self:
        if self.key in BUILT_IN:
            raise ValueError(f"“{self.key}” is built in; choose another key")
        return self

    @property
    def names_layers(self) -> bool:
        """Whether its rule looks at what layers do; such a group cannot say what they should do."""
        return self.members is not None and any(
            condition.field.startswith("layers.") for condition in self.members.conditions()
        )


@shows(Group)
class GroupSummary(Noun):
    """A group as a list shows it: with its place in the precedence and how many devices it holds now."""

    key: Key
    name: Name
    built_in: bool
    precedence: Annotated[int, Field(description="1 is the strongest.")]
    devices: Annotated[int, Field(description="How many devices are in it now.")]
    members: MembershipRule | None = None
    pins: Pins | None = None
    check_in_seconds: Annotated[
        int | None, Field(description="Seconds between its devices' check-ins; None: as weaker groups or settings say.")
    ] = None
    sentence: Annotated[str, Field(description="The membership rule in words.")]
    assignments: Annotated[tuple[Key, ...], Field(description="The assignments that name it.")] = ()
    version: Annotated[int | None, Field(description="The revision that last changed it; also its ETag.")] = None


class Precedence(Noun):
    """The one ordered list of groups, strongest first. Built-in groups are not in it: they are always the weakest."""

    precedence: Annotated[tuple[Key, ...], Field(max_length=2000)]


class PrecedenceState(Precedence):
    """The whole order as it counts, with the revision that last changed it."""

    version: int


class Beside(Noun):
    """Another group, and how many devices are in both."""

    group: Key
    devices: int


class MissingFact(Noun):
    """A condition under `none` that holds for some devices only because they do not report the fact."""

    condition: Annotated[str, Field(description="The condition in words.")]
    devices: int
    examples: tuple[str, ...]


class GroupPreview(Noun):
    """Whom a group, saved or not, would hold. Machines are named by hostname; lists stop at a few."""

    devices: int
    examples: Annotated[tuple[str, ...], Field(description="Some of its devices.")]
    comes_in: int
    comes_in_examples: tuple[str, ...]
    drops_out: int
    drops_out_examples: tuple[str, ...]
    beside: Annotated[tuple[Beside, ...], Field(description="Other groups that its devices are in, most first.")]
    missing: tuple[MissingFact, ...]
    unknown_pins: Annotated[tuple[str, ...], Field(description="Pins that name no device there is.")] = ()
    sentence: str


class CopiedGroup(Noun):
    """The key, and if wanted the name, of a copy."""

    key: Key
    name: Name | None = None
