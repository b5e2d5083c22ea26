"""One attempt in several places side by side: over all groups, on two machines, now and earlier."""

from __future__ import annotations

from typing import Annotated, Self

from pydantic import Field, model_validator

from portero.core.nouns.action import Verdict
from portero.core.nouns.attempt import Attempt, Program, Url
from portero.core.nouns.base import Key, Noun, Text, Timestamp
from portero.core.nouns.device import Place
from portero.core.nouns.verdict import RuleReference


class AttemptAnywhere(Noun):
    """A visit or a start, wherever it is tried."""

    url: Url | None = None
    start: Program | None = None
    user: Text | None = None
    browser: Text | None = None
    at: Timestamp | None = None
    place: Place | None = None

    @model_validator(mode="after")
    def _one_thing(self) -> Self:
        if (self.url is None) == (self.start is None):
            raise ValueError("name either a url or a start")
        return self

    def on(self, device: str) -> Attempt:
        """The attempt on a device."""
        return Attempt(device=device, **dict(self))


class GroupVerdicts(Noun):
    """What the machines of a group would do about an attempt."""

    group: Key
    devices: int
    intended: Annotated[dict[Verdict, int], Field(description="What the estate means, on how many machines.")]
    effective: Annotated[dict[Verdict, int], Field(description="What they would do, on how many.")]
    examples: Annotated[dict[Verdict, str], Field(description="A machine of each that they would do.")]


class FleetVerdicts(Noun):
    """What all machines would do about an attempt, group by group, the strongest first; the whole fleet last."""

    revision: int
    items: tuple[GroupVerdicts, ...]


class MachineVerdict(Noun):
    """What one machine would do about an attempt."""

    device: Annotated[str, Field(description="Its hostname.")]
    intended: Verdict
    effective: Verdict
    rule: Annotated[RuleReference | None, Field(description="The rule that settles what it would do.")] = None
    why: Annotated[str, Field(description="In words.")]


class Differing(Noun):
    """Something in which two machines differ, or one machine and what it was."""

    what: Annotated[str, Field(description="rules, groups, bundle, layers, browsers, place, network, platform, …")]
    first: str
    second: str
    decides: Annotated[bool, Field(description="If just this were as in the second, the first would do as it does.")]


class MachinesCompared(Noun):
    """An attempt on two machines: what each would do, in what they differ, and what of that decides."""

    first: MachineVerdict
    second: MachineVerdict
    differing: tuple[Differing, ...]
    sentence: str


class MachinesOfPerson(Noun):
    """What the machines of a person would do about an attempt of theirs."""

    user: str
    items: Annotated[tuple[MachineVerdict, ...], Field(description="Machines they use, by what the machines tell.")]


class EarlierCompared(Noun):
    """What becomes of an attempt on a machine now, and would have earlier: at a moment, with the revision and the facts
    of then; or by an earlier revision, on the machine as it is now. What of the differences decides.
    """

    device: str
    revision: int
    now: MachineVerdict
    earlier_revision: int
    earlier_at: Annotated[Timestamp | None, Field(description="The moment; None where a revision was named.")] = None
    earlier: MachineVerdict
    differing: tuple[Differing, ...]
    sentence: str
