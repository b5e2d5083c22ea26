"""The answer to an attempt: verdict, reasons and caveats, kept apart as intended, effective and observed."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

from pydantic import Field

from portero.core.nouns.action import Action, Verdict
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.base import Noun, Timestamp
from portero.core.nouns.caveat import Caveat, CaveatCode
from portero.core.nouns.layer import Layer
from portero.core.nouns.rule import RulesetKind


class Gap(StrEnum):
    """Whether what the machine would do differs from what the estate says."""

    NONE = "none"
    LOOSER = "looser"
    STRICTER = "stricter"


class Rung(StrEnum):
    """On which rung of the ladder, or by what beside it, a rule lost."""

    MANDATORY = "mandatory"
    SELECTOR = "selector"
    PEOPLE = "people"
    TARGET = "target"
    ORIGIN = "origin"
    ACTION = "action"
    IDENTITY = "identity"
    STRICTEST = "strictest"
    LIFTED = "lifted"
    REPLACED = "replaced"
    BROWSER = "browser"


class Aside(StrEnum):
    """Why a rule that would match is not in play."""

    DRAFT = "draft"
    PAUSED = "paused"
    NOT_STARTED = "not-started"
    ENDED = "ended"
    EXPIRED = "expired"
    OTHER_PEOPLE = "other-people"
    SCHEDULE = "schedule"
    OTHER_PLACE = "other-place"
    RESTARTED = "restarted"


class ThisDevice(Noun):
    """The device itself as a target."""

    device: str


class RuleReference(Noun):
    """One rule by way of the assignment and the target that brought it to the device."""

    ruleset: str
    rule: Annotated[int, Field(description="Counts from 1 in the ruleset's order.")]
    assignment: str
    target: Annotated[
        str | ThisDevice, Field(description="Key of the group by which it reached the device, or the device itself.")
    ]
    action: Action
    mandatory: bool
    selector: Annotated[str, Field(description="The selector in words, such as “category gambling”.")]
    feed: Annotated[bool, Field(description="A feed brings it; else it is written by hand.")] = False
    ground: Annotated[
        str | None, Field(description="Why it is there: the ground of the ruleset, else of the category that it names.")
    ] = None
    address_list: Annotated[str | None, Field(description="The address list that brings it into the ruleset.")] = None


class LostRule(RuleReference):
    """A rule that competed and lost."""

    rung: Rung
    to: Annotated[
        RuleReference | None, Field(description="The rule it lost to; None where it lost to a whole assignment.")
    ] = None
    why: Annotated[str, Field(description="One sentence in plain words.")]


class AsideRule(RuleReference):
    """A rule that would match, and does not count now."""

    reason: Aside
    why: Annotated[str, Field(description="One sentence in plain words.")]


class LayerVerdict(Noun):
    """What one layer says about the attempt."""

    layer: Layer
    verdict: Verdict
    winner: RuleReference | None = None
    why: Annotated[str, Field(description="One sentence in plain words.")]
    lost: tuple[LostRule, ...] = ()
    logged: tuple[RuleReference, ...] = ()
    left_aside: Annotated[
        tuple[AsideRule, ...] | None, Field(description="Rules that would match and do not count now; on request.")
    ] = None
    note: Annotated[str | None, Field(description="What should be known of how this was reckoned.")] = None


class Intended(Noun):
    """What the estate says at its newest revision."""

    verdict: Verdict
    layers: tuple[LayerVerdict, ...]


class Effective(Noun):
    """What this machine, as it is now, would do."""

    verdict: Verdict
    layers: tuple[LayerVerdict, ...]
    caveats: tuple[Caveat, ...] = ()


class ObservedVerdict(Noun):
    """What a machine did when it last really tried just this, as a probe of a run."""

    verdict: Verdict
    layer: Layer | None = None
    browser: str | None = None
    at: Timestamp
    run: int
    agrees: Annotated[bool | None, Field(description="Whether it was what was predicted at that moment.")] = None


class Understood(Noun):
    """An attempt as it was understood: what every answer to one begins with."""

    id: Annotated[str | int | None, Field(description="The attempt's own name, where it had one.")] = None
    attempt: Attempt
    host: Annotated[str | None, Field(description="The host of the visit, as it was understood.")] = None
    categories: Annotated[tuple[str, ...], Field(description="The web categories of the host.")] = ()
    category_entry: Annotated[
        str | None, Field(description="The host whose entry gave the categories; None for an unknown host.")
    ] = None


class Explanation(Understood):
    """The whole answer to one attempt. The same object everywhere: API, client, command line, console."""

    intended: Intended
    effective: Effective
    observed: Annotated[
        ObservedVerdict | None, Field(description="What the machine did when it last tried it; on single checks.")
    ] = None
    gap: Gap
    revision: int | None = None
    bundle: str | None = None
    applied_bundle: str | None = None


class BriefVerdict(Understood):
    """The answer to one attempt in brief: by what it is decided, without what else was looked at."""

    intended: Annotated[Verdict, Field(description="What the estate says.")]
    effective: Annotated[Verdict, Field(description="What this machine would do.")]
    gap: Gap
    layer: Annotated[
        Layer,
        Field(description="The first layer in which a rule says what the estate says; the last, where none does."),
    ]
    winner: Annotated[RuleReference | None, Field(description="The rule that decides there.")] = None
    why: Annotated[str, Field(description="One sentence in plain words.")]
    caveats: tuple[CaveatCode, ...] = ()

    @classmethod
    def of(cls, whole: Explanation) -> BriefVerdict:
        """What is told in brief of a whole answer."""
        intended, effective = whole.intended, whole.effective
        saying = [layer for layer in intended.layers if layer.verdict is intended.verdict]
        decides = next((layer for layer in saying if layer.winner is not None), saying[-1])
        return cls(
            **{name: getattr(whole, name) for name in Understood.model_fields},
            intended=intended.verdict,
            effective=effective.verdict,
            gap=whole.gap,
            layer=decides.layer,
            winner=decides.winner,
            why=decides.why,
            caveats=tuple(dict.fromkeys(caveat.code for caveat in effective.caveats)),
        )


class UnjudgedProblem(Noun):
    """Why an attempt cannot be judged (RFC 9457)."""

    type: str
    title: str
    detail: str


class Unjudged(Noun):
    """An attempt of a batch that cannot be judged."""

    id: str | int | None = None
    problem: UnjudgedProblem


class CategoryVerdict(Noun):
    """What a device does about one web category: intended beside effective."""

    category: str
    name: str
    family: str
    intended: LayerVerdict
    effective: LayerVerdict
    gap: Gap


class RuleVerdict(Noun):
    """What a device does about what a rule names, other than a web category: intended beside effective."""

    kind: RulesetKind
    selector: Annotated[str, Field(description="As lists show it: “host x.example”.")]
    name: Annotated[str, Field(description="What was looked at for it, as people know it.")]
    intended: LayerVerdict
    effective: LayerVerdict
    gap: Gap
    caveats: Annotated[tuple[CaveatCode, ...], Field(description="Those of its own, beside the machine's.")] = ()


class RuleCount(Noun):
    """How many rules in play do the same, from the same source."""

    action: Action
    feed: Annotated[str | None, Field(description="The ruleset, where a feed brings it.")] = None
    rules: int


class KindCount(Noun):
    """How many rules of a kind are in play on a device."""

    kind: RulesetKind
    rules: int
    shown: Annotated[int, Field(description="How many of them are shown one by one: those written by hand first.")]
    by_action: Annotated[tuple[RuleCount, ...], Field(description="By action, and by the ruleset that a feed brings.")]
    sentence: Annotated[str, Field(description="All of this in words.")] = ""


class Sometimes(Noun):
    """An assignment that holds only for some people, at some times, or in some places."""

    assignment: str
    ruleset: str
    kind: RulesetKind
    sentence: str
    conditions: Annotated[str, Field(description="For whom, when and where: “for pursers, during rest-hours”.")]
    aside: Annotated[Aside | None, Field(description="Why it does not hold now, for nobody in particular.")] = None
    now: Annotated[str, Field(description="The same in a word or two: “yes”, “for them”, “no, closed”.")]


class Blocks(Noun):
    """What one device will do: about every web category that some rule names for it, and about what else rules name."""

    device: str
    categories: tuple[CategoryVerdict, ...]
    undecided: Annotated[int, Field(description="How many categories no rule names: they are allowed.")]
    rules: Annotated[
        tuple[RuleVerdict, ...], Field(description="Indicators, site patterns, programs and content; gaps first.")
    ] = ()
    counts: Annotated[tuple[KindCount, ...], Field(description="How many rules there are, by kind.")] = ()
    sometimes: tuple[Sometimes, ...] = ()
    caveats: tuple[Caveat, ...] = ()
    revision: int | None = None
    bundle: str | None = None
    applied_bundle: str | None = None

    @property
    def gaps(self) -> int:
        """How often meant and done differ."""
        rows: tuple[CategoryVerdict | RuleVerdict, ...] = (*self.categories, *self.rules)
        return sum(row.gap is not Gap.NONE for row in rows)


def strictest(verdicts: tuple[Verdict, ...]) -> Verdict:
    """The strictest of some verdicts; allow where there are none."""
    order = (Verdict.ALLOW, Verdict.WARN, Verdict.BLOCK)
    return max(verdicts, key=order.index, default=Verdict.ALLOW)


def gap_between(intended: Verdict, effective: Verdict) -> Gap:
    """`looser` where less is stopped than meant, `stricter` where more."""
    if intended is effective:
        return Gap.NONE
    return Gap.LOOSER if strictest((intended, effective)) is intended else Gap.STRICTER
