"""Why something is, or is not, stopped on a machine: the causes in the order in which to rule them out."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

from pydantic import Field

from portero.core.nouns.action import Verdict
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.base import Key, Noun
from portero.core.nouns.finding import Remedy
from portero.core.nouns.layer import Layer
from portero.core.nouns.verdict import Explanation, RuleReference


class Stage(StrEnum):
    """Where a cause lies, in the order in which to rule them out."""

    DELIVERY = "delivery"
    ENFORCEMENT = "enforcement"
    CONTENT = "content"
    REACH = "reach"
    RULES = "rules"
    PERSON = "person"


class CauseCode(StrEnum):
    """What keeps an attempt from coming to what was expected, in the order in which to look for it."""

    # delivery
    NEVER_JOINED = "never-joined"
    NO_AGENT = "no-agent"
    SILENT = "silent"
    FAILED_TO_APPLY = "failed-to-apply"
    NOT_DELIVERED = "not-delivered"
    # enforcement
    LAYER_OFF_ESTATE = "layer-off-estate"
    LAYER_OFF_GROUP = "layer-off-group"
    STARTUP_OBSERVES = "startup-observes"
    LAYER_OFF_MACHINE = "layer-off-machine"
    LAYER_NOT_REPORTED = "layer-not-reported"
    TOO_OLD = "too-old"
    BROWSER_TOO_OLD = "browser-too-old"
    BROWSER_NOT_COVERED = "browser-not-covered"
    BROWSER_UNMANAGED = "browser-unmanaged"
    OTHER_BROWSER = "other-browser"
    POLICY_OVERRIDDEN = "policy-overridden"
    RESTART_NEEDED = "restart-needed"
    PASSED_BY = "passed-by"
    GATEWAY = "gateway"
    CLOCK_OFF = "clock-off"
    # content
    OTHER_CATEGORY = "other-category"
    STALE_INDEX = "stale-index"
    # reach
    PATH_HIDDEN = "path-hidden"
    CONTENT_HIDDEN = "content-hidden"
    LIST_CUT = "list-cut"
    PATTERN_CHANGED = "pattern-changed"
    # rules
    DRAFT = "draft"
    PAUSED = "paused"
    OVERRIDDEN_TO_LOG = "overridden-to-log"
    ONLY_RECORDED = "only-recorded"
    OTHER_PEOPLE = "other-people"
    OUTSIDE_SCHEDULE = "outside-schedule"
    OTHER_PLACE = "other-place"
    NOT_STARTED = "not-started"
    ENDED = "ended"
    RESTARTED = "restarted"
    STRONGER_RULE = "stronger-rule"
    ALLOW_PATTERN = "allow-pattern"
    LEFT_OUT = "left-out"
    HELD_BACK = "held-back"
    FIELDS_MISSING = "fields-missing"
    OUTSIDE_UNIT = "outside-unit"
    NOT_IN_GROUP = "not-in-group"
    SERVICE_UNCARRIED = "service-uncarried"
    ONLY_OTHER_HOSTS = "only-other-hosts"
    RE_POINTED = "re-pointed"
    NO_RULE = "no-rule"
    # person
    ONLY_WARNED = "only-warned"
    WENT_ON = "went-on"
    LOOKS_LIKE_FAILURE = "looks-like-failure"
    # what stops it, where it is expected to pass
    STOPPED_BY_RULE = "stopped-by-rule"
    OLDER_RULES = "older-rules"


class Cause(Noun):
    """Something that keeps an attempt from coming to what was expected."""

    code: CauseCode
    stage: Stage
    layer: Layer | None = None
    decisive: Annotated[bool, Field(description="Mending this alone would do.")] = False
    is_the_cause: Annotated[bool, Field(description="It is to be mended first.")] = False
    detail: Annotated[str, Field(description="What is so, with its proof.")]
    remedy: Annotated[str, Field(description="The one next step.")]
    rule: Annotated[RuleReference | None, Field(description="The rule that it is about.")] = None
    remedies: Annotated[tuple[Remedy, ...], Field(description="Changes of the estate that mend it; ready to try.")] = ()


class StageAnswer(Noun):
    """What was found at one stage."""

    stage: Stage
    sentence: Annotated[str, Field(description="What is so there, where nothing is in the way.")]
    causes: tuple[Cause, ...] = ()


class Why(Noun):
    """Why an attempt does, or does not, come to what was expected."""

    expected: Verdict
    found: Annotated[Verdict, Field(description="What the machine would do.")]
    holds: Annotated[bool, Field(description="Whether that is what was expected.")]
    sentence: Annotated[str, Field(description="The answer.")]
    cause: Annotated[CauseCode | None, Field(description="The code of the cause.")] = None
    stages: tuple[StageAnswer, ...]
    explanation: Explanation

    @property
    def causes(self) -> list[Cause]:
        """All of them, in the order in which to rule them out."""
        return [cause for answer in self.stages for cause in answer.causes]


class WhyQuestion(Noun):
    """An attempt, and what was expected of it."""

    attempt: Attempt
    expected: Annotated[
        Verdict | None, Field(description="Where left out: that it is stopped, or passes if it is.")
    ] = None


class WhyRemedy(WhyQuestion):
    """A change that mends the cause of what was asked."""

    cause: CauseCode
    remedy: Key
