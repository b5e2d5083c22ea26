"""What becomes of site lists in browsers: what is written anew, what a browser cannot say, what is needless or cut."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterable, Iterator, Sequence
from datetime import datetime
from typing import NamedTuple

from portero.core import sentences
from portero.core.browsers.handing import Handed
from portero.core.browsers.lists import Changed
from portero.core.matching.members import Item, MemberFacts
from portero.core.nouns.action import Action
from portero.core.nouns.assignment import Assignment
from portero.core.nouns.browser_list import BrowserList, ChangedPattern, ListPlatform, NeedlessPattern, PolicyFile
from portero.core.nouns.browser_policy import BrowserStanding, Governor
from portero.core.nouns.coverage import BrowserFamily, CoverageTable, ListSupport, Reach
from portero.core.nouns.device import Browser
from portero.core.nouns.estate import Estate
from portero.core.nouns.group import WHOLE_FLEET
from portero.core.nouns.patterns import EVERYTHING, Pattern, rewriting_of
from portero.core.nouns.rule import Rule
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.worklist import AuthoringWarning
from portero.core.resolving.compiling import compile_bundle
from portero.core.resolving.enforcement import overriding
from portero.core.resolving.policy import Policy, SiteList
from portero.core.resolving.situations import Situation

_WEB = ("", "http", "https")


class Governed(NamedTuple):
    """Browsers that take site lists alike, and how many machines have one; None where nobody looked."""

    support: ListSupport
    devices: int | None = None


def governed_browsers(facts: Iterable[MemberFacts], table: CoverageTable) -> list[Governed]:
    """The managed browsers of some machines, those that most machines have first."""
    found: Counter[ListSupport] = Counter()
    for one in facts:
        found.update(governed_support(one, table))
    return [Governed(support, devices) for support, devices in found.most_common()]


def governed_support(facts: MemberFacts, table: CoverageTable) -> set[ListSupport]:
    """What the managed browsers of a machine make of site lists."""
    platform = facts.platform
    return {
        table.list_support(browser.name, platform, browser.version)._replace(policy_file=None)
        for browser in facts.browsers
        if browser.managed and table.reach("site-list", browser.name, platform, "https") is not Reach.NONE
    }


def any_browsers(table: CoverageTable) -> list[Governed]:
    """Both families, where no machine is known."""
    families: tuple[BrowserFamily, ...] = ("chromium", "firefox")
    return [Governed(table.list_support(family, None)._replace(policy_file=None)) for family in families]


def groups_alone(group: str) -> tuple[str, ...]:
    """The groups of a machine that is in no other one than this."""
    return (group,) if group == WHOLE_FLEET else (group, WHOLE_FLEET)


def platform_of(family: str | None) -> ListPlatform:
    """The platform whose form a system's browsers read; Linux where it is not known."""
    known: dict[str, ListPlatform] = {"windows": "windows", "macos": "macos"}
    return known.get((family or "").casefold(), "linux")


def list_in_force(estate: Estate, groups: tuple[str, ...], names: Collection[str], at: datetime) -> SiteList:
    """The merged list of the machines in exactly these groups, given strongest first, or of one of some names."""
    return Policy(compile_bundle(estate, groups, names)).frame(Situation(at=at)).site_list


def policy_of_ruleset(ruleset: Ruleset) -> Policy:
    """The policy of a ruleset by itself, assigned to everybody."""
    everybody = Assignment(key=ruleset.key, ruleset=ruleset.key, to=(WHOLE_FLEET,))
    return Policy(compile_bundle(Estate(rulesets=(ruleset,), assignments=(everybody,)), (WHOLE_FLEET,)))


def list_of_ruleset(ruleset: Ruleset, at: datetime) -> SiteList:
    """The list of a ruleset by itself, assigned to everybody."""
    return policy_of_ruleset(ruleset).frame(Situation(at=at)).site_list


# --- how a list begins ---


def closes_everything(rule: Rule) -> bool:
    """Whether it blocks every site: with it nothing is open but what a list allows."""
    return rule.action is Action.BLOCK and _is_of_every_site(rule)


def _is_of_every_site(rule: Rule) -> bool:
    return rule.pattern is not None and str(Pattern.of(rule.pattern)) == EVERYTHING


def switched(ruleset: Ruleset) -> Ruleset:
    """The list begun the other way: “everything is open but these” becomes “nothing is open but these”, and back.

    What was blocked, by itself or by an address list, is allowed then, and what was allowed blocked; what a browser
    gets that cannot say a pattern has to be said anew.
    """
    others = [rule for rule in ruleset.own_rules if not _is_of_every_site(rule)]
    turned = tuple(
        rule.model_copy(update={"action": _TURNED.get(rule.action, rule.action), "reading": None}) for rule in others
    )
    is_closed = any(map(closes_everything, ruleset.rules))
    closes = () if is_closed else (Rule(pattern=EVERYTHING, action=Action.BLOCK),)
    includes = tuple(
        include.model_copy(update={"action": _TURNED.get(include.action, include.action)})
        for include in ruleset.includes
    )
    return Ruleset.model_validate({**dict(ruleset), "rules": (*closes, *turned), "includes": includes})


_TURNED = {Action.BLOCK: Action.ALLOW, Action.ALLOW: Action.BLOCK}


# --- by rule: what was written, and what is handed over ---


def told_of_patterns(ruleset: Ruleset, but: int = 0) -> Iterator[AuthoringWarning]:
    """What is handed over in another form than it was written, by pattern; the first `but` rules are left out."""
    alike: list[tuple[str, str]] = []
    for number, rule in enumerate(ruleset.own_rules[but:], but + 1):
        if rule.pattern is None:
            continue
        rewriting, pattern = rewriting_of(rule.pattern), Pattern.of(rule.pattern)
        if rewriting is not None and rewriting.same:
            alike.append((rewriting.written, rewriting.handed))
        elif rewriting is not None:
            words = sentences.pattern_rewritten(rewriting)
            yield AuthoringWarning(code="pattern-rewritten", rule=number, sentence=words, instead=rewriting.handed)
        if "*" in pattern.path:
            words = sentences.pattern_literal(str(pattern))
            yield AuthoringWarning(code="pattern-literal", rule=number, sentence=words)
        if pattern.scheme not in _WEB:
            words = sentences.pattern_idle(str(pattern))
            yield AuthoringWarning(code="pattern-idle", rule=number, sentence=words)
    if alike:
        yield AuthoringWarning(code="pattern-spelling", sentence=sentences.patterns_spelt(alike))


# --- by list: what a browser makes of it ---


def told_of_list(merged: SiteList, browsers: Sequence[Governed], rules: bool = True) -> Iterator[AuthoringWarning]:
    """What becomes of a merged list in some browsers. `rules`: it is one ruleset's, and its rules are named."""
    yield from _settled(merged, rules)
    for governed in browsers:
        handed = merged.handed(governed.support)
        yield from _changed(merged, handed, governed, rules)
        yield from _needless(merged, handed)
        if handed.cut:
            cut = [str(merged.patterns[place][0]) for place in handed.cut]
            kept = len(merged.patterns) - len(handed.needless)
            words = sentences.list_cut(len(merged.patterns), kept, cut, *governed)
            yield AuthoringWarning(code="list-truncated", sentence=words, devices=governed.devices)


def _settled(merged: SiteList, rules: bool) -> Iterator[AuthoringWarning]:
    """Patterns that are not handed over, as the ladder or a mandatory one decided against them."""
    for pattern, settled in merged.settled.items():
        winner = settled.winner
        above = merged.left_out.get(pattern)
        if above is not None:
            words = sentences.pattern_under_mandatory(str(pattern), Action(above.action))
            yield AuthoringWarning(code="pattern-left-out", sentence=words)
        elif winner is not None and any(loser.action != winner.action for loser in merged.losers(pattern)):
            words = sentences.pattern_doubled(str(pattern), Action(winner.action))
            yield AuthoringWarning(code="pattern-doubled", rule=winner.rule if rules else None, sentence=words)


def _changed(merged: SiteList, handed: Handed, governed: Governed, rules: bool) -> Iterator[AuthoringWarning]:
    family, devices = governed.support.family, governed.devices
    for place, changed in handed.said_otherwise.items():
        if not changed.is_slight:
            pattern, winner = merged.patterns[place]
            words = sentences.pattern_changed_in(str(pattern), changed, family, devices)
            yield AuthoringWarning(
                code="pattern-changed", rule=winner.rule if rules else None, sentence=words, devices=devices
            )
    slight = [place for place, changed in handed.said_otherwise.items() if changed.is_slight]
    alike = [str(merged.patterns[place][0]) for place in slight]
    if alike:
        words = sentences.case_ignored(alike, family)
        yield AuthoringWarning(code="pattern-changed", sentence=words, devices=devices)


def _needless(merged: SiteList, handed: Handed) -> Iterator[AuthoringWarning]:
    if handed.needless:
        place, by = next(iter(handed.needless.items()))
        wider = None if by is None else str(merged.patterns[by][0])
        words = sentences.patterns_needless(
            len(merged.patterns), len(handed.needless), str(merged.patterns[place][0]), wider, handed.family
        )
        yield AuthoringWarning(code="pattern-needless", sentence=words)


# --- as a browser is handed it ---


def browser_list(
    of: str,
    merged: SiteList,
    table: CoverageTable,
    browser: str,
    platform: ListPlatform,
    installed: Iterable[Browser | Item] = (),
) -> BrowserList:
    """A merged list as a browser on a platform is handed it, of the version that is installed, where it is known. Its
    file has no text yet, which is not the core's.
    """
    versions = {(one.name or "").casefold(): one.version for one in installed}
    support = table.list_support(browser, platform, versions.get(browser.casefold()))
    handed, row = merged.handed(support._replace(policy_file=None)), table.row("site-list", browser, platform)

    def named(place: int) -> dict[str, str]:
        pattern, winner = merged.patterns[place]
        return {"pattern": str(pattern), "action": winner.action}

    def why(place: int, changed: Changed) -> str:
        pattern = str(merged.patterns[place][0])
        if changed.is_slight:
            return sentences.case_ignored([pattern], support.family)
        return sentences.pattern_changed_in(pattern, changed, support.family, None)

    def name(place: int | None) -> str | None:
        return None if place is None else str(merged.patterns[place][0])

    return BrowserList(
        of=of,
        browser=browser,
        family=support.family,
        platform=platform,
        sentence=sentences.list_handed(
            of, browser, len(merged.patterns), len(handed.needless), handed.left_out, len(handed.cut)
        ),
        patterns=len(merged.patterns),
        block=handed.blocks,
        allow=handed.allows,
        limit=support.limit,
        needless=tuple(NeedlessPattern(**named(place), by=name(by)) for place, by in handed.needless.items()),
        changed=tuple(
            ChangedPattern(**named(place), got=one.got, why=why(place, one))
            for place, one in handed.said_otherwise.items()
        ),
        cut=tuple(str(merged.patterns[place][0]) for place in handed.cut),
        file=PolicyFile(name="", text="", place=support.policy_file, tried=row.source if row else ""),
    )


def browser_standing(browser: Browser, reach: Reach, digest: str | None) -> BrowserStanding:
    """Who governs a browser, given how far site lists reach it, and the digest of the file that it should have (None:
    there should be none).
    """
    policy = browser.policy
    by = overriding(policy) if policy is not None else None
    if not browser.managed or reach is Reach.NONE:
        governor = Governor.NOBODY
    else:
        governor = Governor.OTHERS if by is not None else Governor.PORTERO
    newest = policy.digest == digest if policy is not None else None
    return BrowserStanding(
        name=browser.name,
        version=browser.version,
        governed_by=governor,
        sentence=sentences.browser_standing(governor, by, newest, policy),
        newest=newest,
        policy=policy,
    )
