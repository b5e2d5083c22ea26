"""What a machine will block: every web category that some rule names, and what else rules name there."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from portero.core import sentences
from portero.core.insight.effects.subjects import KnownSubjects, Subject, category_subject, subjects_of
from portero.core.nouns.action import Action
from portero.core.nouns.attempt import Program
from portero.core.nouns.caveat import Caveat
from portero.core.nouns.estate import Estate
from portero.core.nouns.layer import Layer
from portero.core.nouns.rule import SELECTORS, RulesetKind
from portero.core.nouns.ruleset import KINDS_OF_LAYER
from portero.core.nouns.selector import Selector
from portero.core.nouns.urls import UrlPattern
from portero.core.nouns.verdict import (
    Blocks,
    CategoryVerdict,
    Explanation,
    Gap,
    KindCount,
    LayerVerdict,
    RuleCount,
    RuleVerdict,
    Sometimes,
    gap_between,
)
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.core.resolving.bundles import BundleAssignment, BundleRule
from portero.core.resolving.enforcement import machine_caveats
from portero.core.resolving.explaining import Case, explain
from portero.core.resolving.policy import Policy
from portero.core.resolving.situations import has_gate

MOST_ROWS = 50
"""How many rules of a kind are looked at one by one."""
_LAYER_OF = {kind: Layer(layer) for layer, kinds in KINDS_OF_LAYER.items() for kind in kinds}
_CONTENT = ("search_term", "media_type")
"""Selectors of category rulesets that name no category."""


class _InPlay(NamedTuple):
    """A rule that counts now, for nobody in particular."""

    assignment: BundleAssignment
    rule: BundleRule

    @property
    def kind(self) -> RulesetKind:
        return self.assignment.kind  # type: ignore[return-value]

    @property
    def selector(self) -> Selector:
        return Selector(self.rule.selector_kind, self.rule.selector_value, self.rule.exact)


def blocks(policy: Policy, case: Case, estate: Estate, known: KnownSubjects, provenance: Mapping[str, Any]) -> Blocks:
    """What a device does about each category that some rule names, and about what other rules name; gaps first.

    The case's attempt says who and when; what it tries does not count. `provenance` holds `revision`, `bundle` and
    `applied_bundle`.
    """
    looking = _Looking(policy, case)
    categories = sorted(looking.categories(), key=lambda row: row.gap == "none")
    in_play = list(_in_play(policy, case))
    rules = sorted(looking.rules(in_play, known), key=lambda row: row.gap == "none")
    return Blocks(
        device=case.attempt.device,
        categories=tuple(categories),
        undecided=len(TAXONOMY.categories) - len(categories),
        rules=tuple(rules),
        counts=tuple(_counts(in_play, rules)),
        sometimes=tuple(_sometimes(policy, case, estate)),
        caveats=tuple(looking.caveats.values()),
        **provenance,
    )


def _in_play(policy: Policy, case: Case) -> Iterator[_InPlay]:
    """The rules that count now, the strongest assignments first; those that feeds bring last."""
    frame = policy.frame(case.situation)
    order = sorted(range(len(policy.bundle.assignments)), key=lambda place: policy.gates.targets[place])
    for fed in (False, True):
        for place in order:
            assignment = policy.bundle.assignments[place]
            if assignment.feed is fed:
                for rule in assignment.rules:
                    if frame.counts(policy.contender(place, rule, 0)):
                        yield _InPlay(assignment, rule)


class _Looking:
    """Looks at one thing after the other, and gathers what should be known of the machine."""

    def __init__(self, policy: Policy, case: Case) -> None:
        self._policy, self._case = policy, case
        self.caveats: dict[tuple[str, str | None], Caveat] = {
            (caveat.code, caveat.layer): caveat for caveat in machine_caveats(case.machine)
        }
        self._of_machine = frozenset(self.caveats)

    def _look(self, subject: Subject, kept: bool = True) -> Explanation:
        program = Program.model_validate(dict(subject.program)) if subject.program else None
        tried = {"url": subject.url, "start": program}
        more = {"search_term": subject.search_term, "media_type": subject.media_type}
        attempt = self._case.attempt.model_copy(update=tried | more)
        found = explain(self._policy, self._case._replace(attempt=attempt))
        for caveat in found.effective.caveats if kept else ():
            self.caveats.setdefault((caveat.code, caveat.layer), caveat)
        return found

    def categories(self) -> Iterator[CategoryVerdict]:
        """What becomes of each category that some rule names, shown by its test host."""
        applied = self._case.machine.applied
        named = {*self._policy.categories, *(applied.categories if applied else ())}
        for category in TAXONOMY.categories.values():
            if category.key not in named:
                continue
            found = self._look(category_subject(category.key))
            intended, effective = _of_layer(found, Layer.FILTER)
            yield CategoryVerdict(
                category=category.key,
                name=category.name,
                family=TAXONOMY.family_of[category.key],
                intended=intended,
                effective=effective,
                gap=gap_between(intended.verdict, effective.verdict),
            )

    def rules(self, in_play: Sequence[_InPlay], known: KnownSubjects) -> Iterator[RuleVerdict]:
        """What becomes of what the rules of each kind name that are written by hand, up to a bound; and of the pages
        that feeds name, where those do not show the filter that they are visited.
        """
        shown: Counter[RulesetKind] = Counter()
        for selector, kind in dict.fromkeys((one.selector, one.kind) for one in in_play if not one.assignment.feed):
            if kind == "category" and selector.kind not in _CONTENT:
                continue
            for subject in _subjects(kind, selector, known):
                if shown[kind] < MOST_ROWS:
                    shown[kind] += 1
                    yield self._row(kind, selector, subject)
        pages = [one for one in in_play if one.assignment.feed and _is_page(one.selector)]
        if pages:
            selector, kind = pages[0].selector, pages[0].kind
            row = self._row(kind, selector, _subjects(kind, selector, known)[0])
            if row.gap is not Gap.NONE:
                yield row.model_copy(update={"name": sentences.alike(row.name, len(pages) - 1, "page", "from feeds")})

    def _row(self, kind: RulesetKind, selector: Selector, subject: _Named) -> RuleVerdict:
        found, layer = self._look(subject.subject, kept=subject.is_here), _LAYER_OF[kind]
        intended, effective = _of_layer(found, layer)
        own = [
            caveat.code
            for caveat in found.effective.caveats
            if subject.is_here
            if caveat.layer in (None, layer.value) and (caveat.code, caveat.layer) not in self._of_machine
        ]
        return RuleVerdict(
            kind=kind,
            selector=str(selector),
            name=subject.name,
            intended=intended,
            effective=effective,
            gap=gap_between(intended.verdict, effective.verdict),
            caveats=tuple(dict.fromkeys(own)),
        )


class _Named(NamedTuple):
    """What shows a selector, and how it is called; what is not on the machine stands for what may come."""

    subject: Subject
    name: str
    is_here: bool = True


def _subjects(kind: RulesetKind, selector: Selector, known: KnownSubjects) -> list[_Named]:
    """What shows a selector here: each program that the machine has, else what may come; of all else one. A part of a
    host is looked at as it is visited mostly, over https.
    """
    found = list(subjects_of(kind, selector, known))
    if kind == "startup":
        here = known.find_programs()
        held = [_Named(subject, subject.name) for subject in found if subject.program in here]
        return held or [_Named(subject, sentences.programs_not_here(selector), False) for subject in found[:1]]
    if _is_page(selector):
        found = [subject._replace(url=(subject.url or "").replace("http://", "https://", 1)) for subject in found]
    return [_Named(subject, sentences.selected_words(selector)) for subject in found[:1]]


def _is_page(selector: Selector) -> bool:
    """Whether it is for part of a host only."""
    return selector.kind == "url" and not UrlPattern.read(selector.value, selector.exact).is_whole_host


def _of_layer(found: Explanation, layer: Layer) -> tuple[LayerVerdict, LayerVerdict]:
    sides = (found.intended.layers, found.effective.layers)
    intended, effective = (next(one for one in layers if one.layer is layer) for layers in sides)
    return intended, effective


def _counts(in_play: Sequence[_InPlay], rows: Iterable[RuleVerdict]) -> Iterator[KindCount]:
    shown = {(row.kind, row.selector) for row in rows}
    of_kind: dict[RulesetKind, list[_InPlay]] = {}
    for one in in_play:
        of_kind.setdefault(one.kind, []).append(one)
    for kind in SELECTORS:
        if some := of_kind.get(kind):
            said = Counter((one.rule.action, one.assignment.ruleset if one.assignment.feed else None) for one in some)
            count = KindCount(
                kind=kind,
                rules=len(some),
                shown=sum(not one.assignment.feed and (kind, str(one.selector)) in shown for one in some),
                by_action=tuple(
                    RuleCount(action=Action(action), feed=feed, rules=number)
                    for (action, feed), number in said.most_common()
                ),
            )
            yield count.model_copy(update={"sentence": sentences.kind_count(count)})


def _sometimes(policy: Policy, case: Case, estate: Estate) -> Iterator[Sometimes]:
    """The assignments that hold only for some people, at some times, or in some places."""
    own = {assignment.key: assignment for assignment in estate.assignments}
    for place, assignment in enumerate(policy.bundle.assignments):
        authored = own.get(assignment.key)
        if not has_gate(assignment) or authored is None:
            continue
        aside = policy.gates.aside(place, case.situation)
        yield Sometimes(
            assignment=assignment.key,
            ruleset=assignment.ruleset,
            kind=assignment.kind,
            sentence=sentences.assignment_sentence(authored, estate.ruleset_by_key[authored.ruleset]),
            conditions=sentences.assignment_conditions(authored),
            aside=aside,
            now=sentences.holds_now(aside),
        )
