"""Why an attempt came out as it did: winners, losers, layer modes, caveats, the notice."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime
from functools import lru_cache

from portero.core.nouns.action import Verdict
from portero.core.nouns.device import Application
from portero.core.nouns.layer import Layer, LayerMode
from portero.core.nouns.selector import Selector
from portero.core.nouns.verdict import Aside, KindCount, LayerVerdict, RuleCount, RuleReference, Rung, ThisDevice
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.core.wording import LAYER_WORDS, VERB_OF_MANY, VERBS, counted, joined

ESSENTIAL = "This program is on the list of essential ones, without which a machine neither runs nor can be mended."
NOTHING_IN_PLAY = "No site list is in play."

_KINDS = {
    "category": "the category itself",
    "family": "its family",
    "everything": "everything",
    "media_type": "the media type",
    "search_term": "the search term",
    "url": "a URL",
    "host": "a host",
    "address": "an address",
    "service": "the service",
    "decision": "a decision on services",
    "suitability": "a suitability bound",
    "application_set": "an application set",
    "sha256": "this very program",
    "pattern": "a pattern",
}


def target_words(target: str | ThisDevice) -> str:
    """A rule's target in words: the group's key, or the device."""
    return target if isinstance(target, str) else (target.device or "the device itself")


def _named(rule: RuleReference) -> str:
    return f"{rule.ruleset} on {target_words(rule.target)}"


def _selector_words(rule: RuleReference, other: RuleReference) -> str:
    """What a rule names; the very selector where the other one's is of the same kind."""
    kind, other_kind = (reference.selector.partition(" ")[0] for reference in (rule, other))
    return rule.selector if kind == other_kind else _KINDS[kind]


_RULES_OF = {
    "category": ("rule on web content", "rules on web content"),
    "indicator": ("indicator", "indicators"),
    "site": ("site pattern", "site patterns"),
    "startup": ("rule on programs", "rules on programs"),
}


def kind_count(count: KindCount) -> str:
    """How many rules of a kind are in play: “417 indicators in play: 15 by hand (15 block) and 402 from harbour-watch
    (400 block and 2 warn).”
    """
    by_source: dict[str | None, list[RuleCount]] = {}
    for one in count.by_action:
        by_source.setdefault(one.feed, []).append(one)
    said = []
    for feed in sorted(by_source, key=lambda feed: feed or ""):
        number = sum(one.rules for one in by_source[feed])
        does = joined(list(map(_how_many, by_source[feed])))
        said.append(f"{number:,} {f'from {feed}' if feed else 'by hand'} ({does})")
    by_hand = sum(one.rules for one in by_source.get(None, ()))
    more = f"; {count.shown:,} of those by hand are shown" if count.shown < by_hand else ""
    return f"{counted(count.rules, *_RULES_OF[count.kind])} in play: {joined(said)}{more}."


def _how_many(one: RuleCount) -> str:
    verb = (VERBS if one.rules == 1 else VERB_OF_MANY)[one.action]
    return f"{one.rules:,} {verb.removesuffix(' on')}"


_HOLDS_NOW = {
    Aside.OTHER_PEOPLE: "for them",
    Aside.SCHEDULE: "no, closed",
    Aside.OTHER_PLACE: "not here",
    Aside.NOT_STARTED: "not yet",
    Aside.ENDED: "over",
    Aside.RESTARTED: "over",
}


def holds_now(aside: Aside | None) -> str:
    """Whether something that holds only sometimes does now, for nobody in particular."""
    return "yes" if aside is None else _HOLDS_NOW.get(aside, "no")


def undecided(categories: int) -> str:
    """Of how many categories no rule says anything."""
    if categories == 0:
        return "Some rule names each category."
    return f"No rule names the other {counted(categories, 'category', 'categories')}."


def alike(name: str, others: int, noun: str, whence: str) -> str:
    """One of several that go alike: “a.example/pay and 5 more pages from feeds”."""
    return (
        f"{name} and {others:,} more {noun if others == 1 else noun + 's'} {whence}" if others else f"{name}, {whence}"
    )


def programs_not_here(selector: Selector) -> str:
    """What a rule about programs names, of which the machine has none."""
    if selector.kind == "everything":
        return "any program not named"
    what = f"programs of {selector.value}" if selector.kind == "application_set" else f"{selector.value[:12]}…"
    return f"{what}, none here"


def lost_because(loser: RuleReference, winner: RuleReference, rung: Rung) -> str:
    """Why the loser lost to the winner, in one sentence."""
    named = _named(winner)
    sentences = {
        Rung.MANDATORY: f"{named} is mandatory, and an ordinary rule cannot undo it",
        Rung.SELECTOR: f"{named} names {_selector_words(winner, loser)}, which is narrower than"
        f" {_selector_words(loser, winner)}",
        Rung.PEOPLE: f"{named} is more closely for this person",
        Rung.TARGET: f"{target_words(winner.target)} is stronger than {target_words(loser.target)}",
        Rung.ORIGIN: f"{named} is written by hand, and {loser.ruleset} is brought in by a feed",
        Rung.ACTION: f"{winner.action} is stricter than {loser.action}, and nothing else tells {named} from it",
        Rung.STRICTEST: f"something else about the visit is settled by {named}, and the strictest counts",
        Rung.LIFTED: f"{named} names {winner.selector} by itself, which sets aside what its categories say",
    }
    return sentences.get(rung, f"{named} says the same and stands earlier")


def left_out_of(sets: Sequence[tuple[str, str]]) -> str:
    """That sets leave a program out which their conditions take in, each with the rule that names it."""
    told = [f"the set {key}, by {rule}" for key, rule in sets]
    return f"Left out, though what it takes in would hold it: {joined(told)}."


def held_back(rules: Sequence[tuple[str, float | None, float | None]]) -> str:
    """That rules only log a program for now; each with when it came and until when, in seconds since 1970."""

    def day(seconds: float) -> str:
        return f"{datetime.fromtimestamp(seconds, UTC):%Y-%m-%d %H:%M} UTC"

    told = []
    for rule, came, until in rules:
        if came is None:
            told.append(f"by {rule}, as no machine had told of it yet")
        elif until is None:
            told.append(f"by {rule}, as it came on {day(came)} and servers wait until somebody accepts it")
        else:
            told.append(f"by {rule} until {day(until)}, as it came on {day(came)}")
    return f"Held back, and only logged: {joined(told)}."


def replaced_because(ruleset: str, target: str) -> str:
    """Why a rule does not count where an assignment replaces weaker ones."""
    return f"{ruleset} on {target} replaces what weaker targets say with rulesets of this kind"


_ASIDE = {
    Aside.DRAFT: "it is a draft",
    Aside.PAUSED: "it is paused",
    Aside.NOT_STARTED: "it has not started yet",
    Aside.ENDED: "it has ended",
    Aside.EXPIRED: "the rule has reached its end",
    Aside.OTHER_PEOPLE: "it is for other people",
    Aside.SCHEDULE: "its schedule is not open now",
    Aside.OTHER_PLACE: "it holds in another place",
    Aside.RESTARTED: "the machine has restarted since",
}


def aside_because(rule: RuleReference, reason: Aside) -> str:
    """Why a rule that would match does not count now."""
    return f"{_named(rule)} would match, but {_ASIDE[reason]}"


def _recorded(logged: Sequence[RuleReference]) -> str:
    return f"; recorded for {joined(sorted({_named(rule) for rule in logged}))}" if logged else ""


def _wins(winner: RuleReference) -> str:
    return f"{_named(winner)} {VERBS[winner.action]} it{', mandatory' if winner.mandatory else ''}"


@lru_cache(maxsize=10_000)
def _names_of(categories: tuple[str, ...]) -> str:
    return joined([TAXONOMY.categories[key].name for key in categories if key in TAXONOMY.categories])


def decided_because(winner: RuleReference | None, categories: Sequence[str], logged: Sequence[RuleReference]) -> str:
    """Why the filter layer says what it says, in one sentence."""
    names = _names_of(tuple(categories))
    if winner is None:
        return f"No rule decides {names} on this machine, so it is allowed{_recorded(logged)}."
    kind = winner.selector.partition(" ")[0]
    by = f"the host is in {names}" if kind in ("category", "family", "everything") else f"it names {winner.selector}"
    return f"{_wins(winner)}: {by}{_recorded(logged)}."


def started_because(winner: RuleReference | None, logged: Sequence[RuleReference]) -> str:
    """Why the startup layer says what it says, in one sentence."""
    if winner is None:
        return f"No rule decides on this program on this machine, so it may start{_recorded(logged)}."
    return f"{_wins(winner)}: it names {winner.selector}{_recorded(logged)}."


def listed_because(winner: RuleReference | None) -> str:
    """Why a browser that was handed the site list does what it does, in one sentence."""
    if winner is None:
        return "No pattern of the site list matches, so the browser lets it pass."
    return f"{_wins(winner)}: it names {winner.selector}."


def meant_to(mode: LayerMode, layer: LayerVerdict) -> str:
    """Why a layer in this mode decides nothing, though its rules would."""
    if mode is LayerMode.OFF:
        return "The estate leaves this layer off here, so it decides nothing."
    if layer.winner is None:
        return "The estate means this layer only to record here."
    return f"The estate means this layer only to record here. Enforcing, {_named(layer.winner)} would decide."


def does(layer: Layer, mode: LayerMode) -> str:
    """What a layer in this mode does."""
    words = {"enforcing": "enforces", "observing": "only records, so nothing is stopped"}
    return f"The {LAYER_WORDS[layer]} of this machine {words.get(mode, 'is off, so nothing is stopped')}."


def left_to_gateway(network: str) -> str:
    """Why a machine does not filter by itself."""
    return f"This machine is on-site in {network}, where the estate leaves filtering to the gateway."


def start_notice(verdict: Verdict, program: Application, winner: RuleReference | None) -> str:
    """Why a program did not start, for the person who started it."""
    name, names = _program_name(program), _named_by(winner)
    if verdict is Verdict.WARN:
        return f"{name}: your organisation asks you to think twice{names}. Start it again if you need it."
    return f"{name} is not started on this machine: your organisation does not have it run here{names}."


def will_be_ended(program: Application, winner: RuleReference | None, seconds: int) -> str:
    """What the person is told whose program runs, and may not."""
    names = _named_by(winner)
    return (
        f"{_program_name(program)} will be ended in {counted(seconds, 'second')}: your organisation does not have it"
        f" run here{names}. Save your work."
    )


def _named_by(winner: RuleReference | None) -> str:
    """The set that holds the program, in brackets; nothing where everything is meant."""
    kind, _, value = winner.selector.partition(" ") if winner else ("", "", "")
    return f" (it is one of the set {value})" if kind == "application_set" else ""


def _program_name(program: Application) -> str:
    name = program.product or program.file or program.path or "This program"
    return " ".join(filter(None, (name, program.version)))


def notice_sentence(verdict: str, winner: RuleReference | None, categories: Sequence[str]) -> str:
    """Why the person sees a notice, in plain words."""
    kind = winner.selector.partition(" ")[0] if winner else "category"
    if kind in ("category", "family", "everything"):
        what = "is listed under " + joined([f"“{TAXONOMY.categories[key].name}”" for key in categories])
    else:
        what = f"is one that your organisation names ({winner.selector})" if winner else ""
    if verdict == "warn":
        return f"This site {what}. Your organisation asks you to think twice before you go on."
    return f"This site {what}. It is not opened on this machine."
