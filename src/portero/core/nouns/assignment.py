"""One ruleset put on groups or single devices: where, for whom, when, and how strongly."""

from __future__ import annotations

import re
from collections.abc import Collection
from datetime import timedelta
from enum import StrEnum
from typing import Annotated, Any, ClassVar, Literal, Self

from pydantic import AfterValidator, BeforeValidator, Discriminator, Field, StringConstraints, Tag, model_validator

from portero.core.nouns.action import Override
from portero.core.nouns.application_set import Member
from portero.core.nouns.base import Hostname, Key, Note, Noun, Text, Timestamp, tag
from portero.core.nouns.registry import Authored, Declared, shows


class State(StrEnum):
    """Whether an assignment is in force."""

    DRAFT = "draft"
    ACTIVE = "active"
    PAUSED = "paused"


class DeviceTarget(Noun):
    """A single device, by hostname or permanent id."""

    device: Hostname


def _target_form(value: Any) -> str:
    return tag("group") if isinstance(value, str) else tag("device")


Target = Annotated[
    Annotated[Key, Tag(tag("group"))] | Annotated[DeviceTarget, Tag(tag("device"))], Discriminator(_target_form)
]
"""Where: the key of a group, or `{device: hostname}`."""

AssignmentKey = Annotated[str, StringConstraints(pattern=r"^[a-z0-9][a-z0-9-]*$", max_length=400)]
"""Longer than other keys: one that is made holds a ruleset's key and a target's."""


class People(Noun):
    """For whom: people and user groups. Both empty stand for everybody. Names fold case."""

    users: Annotated[tuple[Text, ...], Field(max_length=10_000)] = ()
    user_groups: Annotated[tuple[Text, ...], Field(max_length=1_000)] = ()


def _some_hours(value: timedelta | None) -> timedelta | None:
    if value is not None and not timedelta(hours=1) <= value <= timedelta(days=365):
        raise ValueError("programs are held back for an hour at the least (PT1H) and 365 days at the most (P365D)")
    return value


def listed(value: Any) -> Any:
    """Targets as a document gives them: a single one may stand without brackets."""
    return [value] if isinstance(value, (str, dict, DeviceTarget)) else value


MOST_VERSIONS = 20_000
"""So many versions of programs an assignment with a hold-back knows."""


class CameLater(Noun):
    """A version of a program that a set took in by itself, and when."""

    program: Member
    at: Timestamp


class Assignment(Authored):
    """One ruleset put on groups or devices. A draft or a paused one decides nothing.

    It is in play from `starts` until just before `ends`, within its schedule, at its place, for its people.
    """

    declared: ClassVar = Declared("assignment", "assignments", about="Rulesets put on groups or devices.")
    told_only: ClassVar = frozenset({"owner", "reason", "ticket", "report_presence"})
    """Fields that tell people something and decide nothing."""
    key: AssignmentKey
    ruleset: Key
    to: Annotated[
        tuple[Target, ...],
        BeforeValidator(listed),
        Field(min_length=1, max_length=200, description="Keys of groups, and devices."),
    ]
    action: Annotated[Override | None, Field(description="Override for the whole ruleset: log, warn or block.")] = None
    mandatory: bool = False
    people: People | None = None
    schedule: Annotated[Key | None, Field(description="Only while a window of it is open.")] = None
    place: Literal["anywhere", "on-site", "off-site"] = "anywhere"
    starts: Timestamp | None = None
    ends: Timestamp | None = None
    until_restart: Annotated[bool, Field(description="Until the machine next starts.")] = False
    replaces_weaker: Annotated[
        bool, Field(description="Puts ordinary assignments of the same kind with weaker targets out of play.")
    ] = False
    report_presence: Annotated[
        bool, Field(description="Machines that have a program which it stops are found, whether it is started or not.")
    ] = False
    end_running: Annotated[
        bool, Field(description="Programs that it stops and that run already are ended, after a notice.")
    ] = False
    hold_back: Annotated[
        timedelta | None,
        AfterValidator(_some_hours),
        Field(
            description="Programs that its sets take in later are only logged for so long, on servers until they are"
            " accepted: a duration of ISO 8601, as in P7D.",
        ),
    ] = None
    members: Annotated[
        tuple[Member, ...] | None,
        Field(max_length=MOST_VERSIONS, description="With a hold-back: the versions that are stopped at once."),
    ] = None
    came: Annotated[
        tuple[CameLater, ...],
        Field(max_length=MOST_VERSIONS, description="With a hold-back: versions that came later, kept by the service."),
    ] = ()
    state: State = State.ACTIVE
    notice: Key | None = None
    owner: Annotated[
        Text | None,
        Field(description="Who answers for it. One with an owner is an exception: it has a reason and ends."),
    ] = None
    reason: Note | None = None
    ticket: Annotated[Text | None, Field(description="The change request that it goes back to.")] = None

    @model_validator(mode="after")
    def _exceptions_end(self) -> Self:
        if self.owner is not None and (self.ends is None or not self.reason):
            missing = " and ".join([*(["ends"] if self.ends is None else []), *([] if self.reason else ["reason"])])
            raise ValueError(f"an assignment with an owner is an exception, and an exception needs {missing}")
        return self

    @model_validator(mode="after")
    def _members_are_held_back(self) -> Self:
        if self.hold_back is None and (self.members is not None or self.came):
            raise ValueError("members and came go with hold_back; leave them out, or give it")
        return self

    @property
    def groups(self) -> tuple[str, ...]:
        """The groups among its targets."""
        return tuple(target for target in self.to if isinstance(target, str))

    @property
    def named_devices(self) -> tuple[str, ...]:
        """The single devices among its targets, by hostname or id."""
        return tuple(target.device for target in self.to if isinstance(target, DeviceTarget))

    @property
    def names_people(self) -> bool:
        """Whether it is for some people only."""
        return self.people is not None and bool(self.people.users or self.people.user_groups)


class NewAssignment(Assignment):
    """An assignment about to be made; without a key it gets one from its ruleset and its first target."""

    key: AssignmentKey | None = None  # type: ignore[assignment]

    def keyed(self, taken: Collection[str]) -> Assignment:
        """The assignment with a key that is not among those taken."""
        key = self.key or made_key(self.ruleset, target_name(self.to[0]), taken)
        return Assignment.model_validate({**self.model_dump(), "key": key})


class HeldBack(Noun):
    """A version that came later, as it stands now."""

    program: Member
    name: Annotated[str, Field(description="Its product and version, or what else names it.")]
    at: Annotated[Timestamp, Field(description="When it came.")]
    until: Annotated[Timestamp, Field(description="Until when it is only logged; on servers until it is accepted.")]
    over: Annotated[bool, Field(description="Whether that is over.")]


class AcceptedVersions(Noun):
    """Versions that came later and are to be stopped at once from now on."""

    versions: Annotated[
        tuple[Member, ...] | None,
        Field(max_length=MOST_VERSIONS, description="As the assignment tells of them; all where left out."),
    ] = None


@shows(Assignment)
class AssignmentSummary(Assignment):
    """An assignment as lists show it."""

    held_back: Annotated[tuple[HeldBack, ...], Field(description="The versions that came later, newest first.")] = ()

    sentence: Annotated[str, Field(description="What it does, in words.")]
    devices: Annotated[int, Field(description="How many devices it reaches now.")]
    version: Annotated[int, Field(description="The revision that last changed it; also its ETag.")]


def target_name(target: str | DeviceTarget) -> str:
    """The group's key, or the device's name."""
    return target if isinstance(target, str) else target.device


def made_key(ruleset: str, first_target: str, taken: Collection[str]) -> str:
    """The key of an assignment given without one: ruleset and first target joined by `--`, numbered where taken."""
    base = f"{ruleset}--{re.sub('[^a-z0-9-]', '-', first_target.lower())}"
    key, number = base, 1
    while key in taken:
        number += 1
        key = f"{base}--{number}"
    return key
