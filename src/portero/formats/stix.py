"""STIX 2.1: indicators of a bundle as rules, and rules as a bundle of indicators.

What is expressed here: `url:value`, `domain-name:value`, `ipv4-addr:value`, `ipv6-addr:value` and SHA-256 hashes of
files, compared by `=`, `IN` or (addresses) `ISSUBSET`, joined with OR. As every rule, one made of an indicator covers
what is below it too, unless the indicator is labelled `exact`. Everything else is given back with the reason.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime, timedelta
from functools import lru_cache
from typing import Any, NamedTuple
from uuid import UUID, uuid5

from pydantic import ValidationError
from stix2patterns.exceptions import ParseException
from stix2patterns.v21.grammars.STIXPatternListener import STIXPatternListener
from stix2patterns.v21.pattern import Pattern

from portero.core.nouns.action import Action
from portero.core.nouns.faults import fault_of
from portero.core.nouns.rule import Rule
from portero.formats.feed_files import BadFeed

_NAMESPACE = UUID("5f0c9a6e-7d43-5c0f-9a1e-2f8f6a0c41d7")
"""Of the identifiers that are made here (RFC 9562, version 5): the same rule is the same object each time."""
ACTION_LABEL = "portero-action:"
EXACT_LABEL = "exact"
MAX_PATTERN = 20_000
_ONE = re.compile(r"\s*\[\s*([a-z0-9-]+:[A-Za-z0-9_.'\"-]+)\s*=\s*'((?:[^'\\]|\\['\\])*)'\s*\]\s*")
_SELECTORS = {
    "url:value": "url",
    "domain-name:value": "host",
    "ipv4-addr:value": "address",
    "ipv6-addr:value": "address",
    "file:hashes.SHA-256": "sha256",
    "file:hashes.SHA256": "sha256",
}
_PATHS = {"url": "url:value", "host": "domain-name:value", "sha256": "file:hashes.'SHA-256'"}


class LeftOut(NamedTuple):
    """An object that cannot be expressed here, and why."""

    name: str
    problem: str
    document: dict[str, Any]


class StixRule(NamedTuple):
    """A rule made of an indicator, with the indicator's identifier."""

    id: str
    rule: Rule


class Defaults(NamedTuple):
    """What an indicator gets that does not say: an action, and how many days it holds from the day on which it began.

    Where `may_allow` is false, one that allows is not taken.
    """

    action: str
    now: datetime
    lifetime_days: int | None = None
    may_allow: bool = False


def parse(data: bytes) -> Any:
    """What JSON from outside says, halves of characters replaced, as no text could be kept with them. BadFeed."""
    try:
        read = json.loads(data, parse_constant=_refuse_constant)
        if b"\\ud" in data.lower():
            read = json.loads(json.dumps(read, ensure_ascii=False).encode(errors="replace"))
    except (ValueError, RecursionError) as problem:
        raise BadFeed(f"this is no JSON: {str(problem)[:160]}") from problem
    return read


def _refuse_constant(name: str) -> None:
    raise ValueError(f"{name} is no number")


def objects_of(data: bytes) -> list[dict[str, Any]]:
    """The objects of a STIX bundle. BadFeed where it is none."""
    bundle = parse(data)
    if (
        not isinstance(bundle, dict)
        or bundle.get("type") != "bundle"
        or not isinstance(bundle.get("objects", []), list)
    ):
        raise BadFeed("this is no STIX bundle: it needs “type”: “bundle” and a list of “objects”")
    return [item for item in bundle.get("objects", []) if isinstance(item, dict)]


def read_objects(objects: Iterable[Mapping[str, Any]], defaults: Defaults) -> Iterator[StixRule | LeftOut]:
    """What each indicator comes to: one rule for each thing that it names, or why it is kept aside.

    Objects that are no indicators are passed over without a word.
    """
    for object_ in objects:
        if object_.get("type") != "indicator":
            continue
        id = str(object_.get("id", ""))
        try:
            if object_.get("pattern_type", "stix") != "stix":
                raise ValueError(f"its pattern is written in {str(object_['pattern_type'])[:40]}, not in STIX")
            about = _about(object_, defaults)
            rules = [
                StixRule(id, _rule(kind, value, about)) for kind, value in named_in(str(object_.get("pattern", "")))
            ]
        except ValidationError as problem:
            yield LeftOut(_name(object_), fault_of(problem.errors()[0]), dict(object_))
        except (ValueError, TypeError, OverflowError) as problem:
            yield LeftOut(_name(object_), str(problem), dict(object_))
        else:
            yield from rules


def _name(indicator: Mapping[str, Any]) -> str:
    return str(indicator.get("name") or indicator.get("id") or "an object without a name")[:120]


def _about(indicator: Mapping[str, Any], defaults: Defaults) -> dict[str, Any]:
    """What the rules of an indicator have in common. ValueError."""
    labels = [label for label in indicator.get("labels") or () if isinstance(label, str)]
    said = next((label.removeprefix(ACTION_LABEL) for label in labels if label.startswith(ACTION_LABEL)), None)
    if said is None and "benign" in (indicator.get("indicator_types") or ()):
        said = "allow"
    if said == "allow" and not defaults.may_allow:
        raise ValueError("it calls something harmless, and what is brought in from outside never allows")
    about: dict[str, Any] = {"action": said or defaults.action}
    if indicator.get("name"):
        about["name"] = str(indicator["name"])[:120]
    if indicator.get("description"):
        about["note"] = str(indicator["description"])[:2000]
    begins = _moment(indicator.get("valid_from")) or defaults.now
    if begins > defaults.now:
        raise ValueError(f"it begins only on {begins:%Y-%m-%d}; a rule holds from when it is there")
    if indicator.get("valid_until"):
        about["valid_until"] = _moment(indicator["valid_until"])
    elif defaults.lifetime_days is not None:
        about["valid_until"] = begins + timedelta(days=defaults.lifetime_days)
    if EXACT_LABEL in labels:
        about["exact"] = True
    return about


def _moment(text: Any) -> datetime | None:
    if text is None:
        return None
    try:
        moment = datetime.fromisoformat(str(text))
    except ValueError:
        raise ValueError(f"“{str(text)[:40]}” is not a moment") from None
    return moment if moment.tzinfo else moment.replace(tzinfo=UTC)


def _rule(kind: str, value: str, about: Mapping[str, Any]) -> Rule:
    given = dict(about)
    if kind not in ("host", "url"):
        given.pop("exact", None)
    return Rule.model_validate({kind: value, **given})


# --- patterns ---


def named_in(pattern: str) -> list[tuple[str, str]]:
    """What a pattern names, as selectors and their values. ValueError with the reason where it says more than that."""
    if len(pattern) > MAX_PATTERN:
        raise ValueError(f"its pattern is longer than {MAX_PATTERN:,} characters")
    plain = _ONE.fullmatch(pattern)
    if plain:
        return [(_selector(plain[1]), _unquoted(f"'{plain[2]}'"))]
    listener = _Listener()
    try:
        Pattern(pattern).walk(listener)
    except ParseException as problem:
        raise ValueError(f"its pattern does not read as STIX: {str(problem)[:160]}") from problem
    except RecursionError as problem:
        raise ValueError("its pattern has brackets within brackets too deep to be read") from problem
    if listener.problem:
        raise ValueError(listener.problem)
    return list(dict.fromkeys(listener.named))


@lru_cache(maxsize=1000)
def _selector(path: str) -> str:
    plain = path.replace("'", "").replace('"', "")
    found = _SELECTORS.get(plain)
    if found is None:
        if plain.startswith("file:hashes."):
            raise ValueError(f"files are told by their SHA-256 here, not by {plain.removeprefix('file:hashes.')}")
        raise ValueError(f"nothing here is told by {plain[:80]}")
    return found


def _unquoted(literal: str) -> str:
    if not literal.startswith("'"):
        raise ValueError(f"{literal[:60]} is no text")
    return re.sub(r"\\(['\\])", r"\1", literal[1:-1])


class _Listener(STIXPatternListener):  # type: ignore[misc]
    """Collects what a pattern names, or the first thing that cannot be expressed."""

    def __init__(self) -> None:
        self.named: list[tuple[str, str]] = []
        self.problem: str | None = None

    def _refuse(self, problem: str) -> None:
        self.problem = self.problem or problem

    def enterComparisonExpressionAnd(self, ctx: Any) -> None:  # noqa: N802 (the base class's name)
        if ctx.AND():
            self._refuse("it wants several things at once (AND); a rule names one")

    def enterObservationExpressionAnd(self, ctx: Any) -> None:  # noqa: N802
        if ctx.AND():
            self._refuse("it wants several observations (AND); a rule looks at one visit")

    def enterObservationExpressions(self, ctx: Any) -> None:  # noqa: N802
        if ctx.FOLLOWEDBY():
            self._refuse("it wants one observation after another (FOLLOWEDBY); a rule looks at one visit")

    def enterObservationExpressionRepeated(self, _ctx: Any) -> None:  # noqa: N802
        self._refuse("it counts observations (REPEATS); a rule looks at one visit")

    def enterObservationExpressionWithin(self, _ctx: Any) -> None:  # noqa: N802
        self._refuse("it looks at a span of time (WITHIN); a rule looks at one visit")

    def enterObservationExpressionStartStop(self, _ctx: Any) -> None:  # noqa: N802
        self._refuse("it looks at a span of time (START, STOP); a rule looks at one visit")

    def enterPropTestEqual(self, ctx: Any) -> None:  # noqa: N802
        if ctx.NOT() or ctx.NEQ():
            self._refuse("it names what it is not; a rule names what it is for")
        else:
            self._take(ctx, [ctx.primitiveLiteral().getText()])

    def enterPropTestSet(self, ctx: Any) -> None:  # noqa: N802
        if ctx.NOT():
            self._refuse("it names what it is not; a rule names what it is for")
        else:
            self._take(ctx, [literal.getText() for literal in ctx.setLiteral().primitiveLiteral()])

    def enterPropTestIsSubset(self, ctx: Any) -> None:  # noqa: N802
        if ctx.NOT():
            self._refuse("it names what it is not; a rule names what it is for")
        else:
            self._take(ctx, [ctx.StringLiteral().getText()])

    def _take(self, ctx: Any, literals: Sequence[str]) -> None:
        try:
            kind = _selector(ctx.objectPath().getText())
            self.named += [(kind, _unquoted(literal)) for literal in literals]
        except ValueError as problem:
            self._refuse(str(problem))

    def _other(self, _ctx: Any) -> None:
        self._refuse("it compares by order, by a pattern or by existence; a rule names things themselves")

    enterPropTestOrder = enterPropTestLike = enterPropTestRegex = _other  # noqa: N815
    enterPropTestIsSuperset = enterPropTestExists = _other  # noqa: N815


# --- writing ---


def write_bundle(
    ruleset: str, rules: Iterable[Rule], made_at: datetime, began_at: datetime
) -> tuple[dict[str, Any], list[LeftOut]]:
    """Rules as a STIX 2.1 bundle of indicators, and those that STIX cannot express here."""
    objects, aside = [], []
    for rule in rules:
        try:
            objects.append(_indicator(ruleset, rule, began_at))
        except ValueError as problem:
            aside.append(LeftOut(str(rule.selector), str(problem), rule.model_dump(mode="json", exclude_none=True)))
    id = uuid5(_NAMESPACE, f"bundle {ruleset} {made_at.isoformat()}")
    return {"type": "bundle", "id": f"bundle--{id}", "objects": objects}, aside


def _indicator(ruleset: str, rule: Rule, began_at: datetime) -> dict[str, Any]:
    began = _stamp(began_at)
    labels = [f"{ACTION_LABEL}{rule.action.value}", *([EXACT_LABEL] if rule.exact else [])]
    document: dict[str, Any] = {
        "type": "indicator",
        "spec_version": "2.1",
        "id": f"indicator--{uuid5(_NAMESPACE, f'{ruleset} {rule.selector}')}",
        "created": began,
        "modified": began,
        "name": rule.name or str(rule.selector),
        "indicator_types": ["benign" if rule.action is Action.ALLOW else "malicious-activity"],
        "labels": labels,
        "pattern": _pattern(rule),
        "pattern_type": "stix",
        "valid_from": began,
    }
    if rule.note:
        document["description"] = rule.note
    if rule.valid_until:
        if rule.valid_until <= began_at:
            raise ValueError("it ended before it began, which STIX does not allow")
        document["valid_until"] = _stamp(rule.valid_until)
    return document


def _stamp(moment: datetime) -> str:
    return moment.astimezone(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")


def _pattern(rule: Rule) -> str:
    kind = rule.selector.kind
    if kind == "address":
        assert rule.address is not None
        path = "ipv6-addr:value" if ":" in rule.address else "ipv4-addr:value"
        return f"[{path} {'ISSUBSET' if '/' in rule.address else '='} '{rule.address}']"
    if kind not in _PATHS:
        raise ValueError(f"STIX has no word for {kind.replace('_', ' ')}")
    value = str(getattr(rule, kind)).replace("\\", "\\\\").replace("'", "\\'")
    return f"[{_PATHS[kind]} = '{value}']"
