"""What machines are asked to try now, what each saw, and how that stands beside what was predicted."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from portero.core.nouns.action import Verdict
from portero.core.nouns.attempt import Program, Url
from portero.core.nouns.base import Key, Noun, Text, Timestamp
from portero.core.nouns.errand import Problem
from portero.core.nouns.layer import Layer
from portero.core.nouns.probe_set import ReachedBy, Window

MOST_PICTURE = 600_000
"""So many bytes a picture of a page may have."""
MOST_ORDERED = 200
"""So many probes one machine is asked to try at once."""
Once = Annotated[str, StringConstraints(min_length=8, max_length=64)]

Sight = Literal["page", "notice", "beside", "refused", "browser-page", "unanswered", "started", "not-started"]
"""What was seen: a page; the notice; a page in which no notice can be shown, though there is one; a refused tunnel; the
browser's own page that says so; no answer; the program started, or did not.
"""


class OrderedProbe(Noun):
    """A probe that a machine is to try: a visit in one of its browsers, or a start."""

    number: Annotated[int, Field(ge=1, le=MOST_ORDERED, description="Its place in the order.")]
    visit: Url | None = None
    start: Program | None = None
    user: Text | None = None
    browser: Annotated[Text | None, Field(description="In which browser; else in the first that it has.")] = None
    window: Window | None = None
    reached_by: ReachedBy | None = None


class ProbeOrder(Noun):
    """What a machine is to try now. The number is good for this machine and this run, once."""

    once: Once
    seconds: Annotated[float, Field(description="So long the service waits for the answer.")]
    probes: tuple[OrderedProbe, ...]
    pictures: Annotated[bool, Field(description="Send a picture of each page along.")] = False


class Seen(Noun):
    """What a machine saw of a probe that it tried, or why it could not."""

    number: Annotated[int, Field(ge=1, le=MOST_ORDERED)]
    verdict: Annotated[Verdict | None, Field(description="What it comes to; None where it was not tried.")] = None
    layer: Annotated[Layer | None, Field(description="What stopped it, or warned.")] = None
    saw: Sight | None = None
    browser: Text | None = None
    browser_version: Text | None = None
    reference: Annotated[str, StringConstraints(max_length=20)] | None = None
    seconds: Annotated[float | None, Field(ge=0, le=3600, description="How long it took.")] = None
    problem: Annotated[Problem | None, Field(description="Why it was not tried.")] = None
    picture: Annotated[
        str | None, Field(max_length=MOST_PICTURE * 4 // 3 + 4, description="A PNG as base64, where asked for.")
    ] = None


class ProbesSeen(Noun):
    """A machine's answer to an order."""

    once: Once
    bundle: Annotated[str | None, Field(max_length=80, description="Digest of what it ruled by.")] = None
    seen: Annotated[tuple[Seen, ...], Field(max_length=MOST_ORDERED)]


class Observation(Noun):
    """What one machine saw of one probe in a run, beside what was predicted of it at that moment."""

    run: int
    device: Annotated[str, Field(description="Its permanent id.")]
    hostname: str
    set: Key
    number: Annotated[int, Field(description="The probe's place in its set, from 1.")]
    tried: str
    how: Annotated[str, Field(description="In which way, in words; empty where in any.")] = ""
    expected: Verdict
    at: Timestamp
    bundle: str | None = None
    seen: Seen
    predicted: Annotated[Verdict | None, Field(description="What it would do; None where that cannot be judged.")] = (
        None
    )
    predicted_why: str = ""
    settled_by: Annotated[
        tuple[Key, ...], Field(description="The assignments whose rules settle what was predicted.")
    ] = ()
    agrees: Annotated[bool | None, Field(description="None where it was not tried, or cannot be judged.")] = None
    has_picture: Annotated[bool, Field(description="Whether there is a picture of it.")] = False
    sentence: Annotated[str, Field(description="Both in words.")] = ""


class ObservedProbe(Noun):
    """What a probe came to on the machines that have tried it, by what each saw last."""

    number: Annotated[int, Field(description="Its place in its set, from 1.")]
    machines: Annotated[int, Field(description="How many have tried it as it is written now.")]
    passed: Annotated[int, Field(description="On how many it came out as expected.")]
    disagreeing: Annotated[int, Field(description="On how many it was otherwise than predicted.")]
    at: Annotated[Timestamp, Field(description="When it was tried last.")]
    sentence: str
