"""What overlapping groups contribute to what becomes of their machines, and what wins."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import combinations

from portero.core import sentences, wording
from portero.core.insight.effects.bouts import Bout
from portero.core.insight.effects.kernel import Kernel
from portero.core.insight.effects.matcher import Matcher, once_each_alike
from portero.core.insight.effects.occasions import together
from portero.core.insight.effects.rulings import Rulings
from portero.core.insight.effects.sorts import Crowd, Sorts
from portero.core.insight.effects.subjects import (
    KnownSubjects,
    Shown,
    Subject,
    category_subject,
    host_subject,
    program_subject,
    subjects_of,
)
from portero.core.insight.effects.whens import when
from portero.core.insight.effects.world import World
from portero.core.matching.classes import names_of
from portero.core.matching.members import Member
from portero.core.nouns.action import Action, overridden
from portero.core.nouns.assignment import Assignment, State
from portero.core.nouns.board import Contribution, Overlap, OverlapOutcome, OverlapRow, SharedBy
from portero.core.nouns.device import Application
from portero.core.nouns.estate import Estate
from portero.core.nouns.urls import parse_visit
from portero.core.nouns.web_taxonomy import TAXONOMY

FEW = 12


def typed_subjects(visit: str | None, program: str | None, programs: Sequence[Application]) -> Iterator[Subject]:
    """What somebody typed in: a category or family by key or name, a program that is found on the fleet, a host or a
    URL; or a program of which nobody need have heard. BadUrl where it is none of them.
    """
    if visit:
        wanted = visit.strip().casefold()
        families = [family for family in TAXONOMY.families if wanted in (family.key, family.name.casefold())]
        categories = [
            category for category in TAXONOMY.categories.values() if wanted in (category.key, category.name.casefold())
        ]
        held = _called(wanted, programs)
        if families or categories:
            categories += [category for family in families for category in family.categories]
            yield from (category_subject(category.key) for category in categories)
        elif held:
            yield from map(program_subject, held[:FEW])
        else:
            parsed = parse_visit(visit)
            bare = parsed.url in (f"http://{parsed.host}/", f"https://{parsed.host}/")
            yield host_subject(parsed.host) if bare else Subject("url", parsed.url, parsed.url)
    if program:
        held = _called(program.strip().casefold(), programs)
        yield from map(program_subject, held[:FEW] or [Application(product=program, file=program)])


def _called(name: str, programs: Sequence[Application]) -> list[Application]:
    return [
        program for program in programs if name in ((program.product or "").casefold(), (program.file or "").casefold())
    ]


def overlap(
    estate: Estate, world: World, targets: Sequence[str], members: Sequence[Member], typed: Sequence[Subject]
) -> Overlap:
    """What the targets, groups or one machine's own name, say of everything they name, and what wins on the machines.

    With `typed` subjects, of those alone.
    """
    matcher = world.matcher(estate)
    alike: Mapping[Subject, Sequence[Subject]] = dict.fromkeys(typed, ())
    alike = alike or once_each_alike(_named_by(estate, world, targets), [matcher])
    saying = [_Saying(estate, matcher, target, members) for target in targets]
    held = {member.id for member in members}
    classes = {(groups,): [member for member in some if member.id in held] for groups, some in world.classes.items()}
    sorts = Sorts(Crowd([estate], world.classes, {groups: some for groups, some in classes.items() if some}))
    kernel = Kernel(estate, sorts, world.directory, world.now)
    rulings, rows = Rulings(kernel, matcher), []
    for number, (subject, others) in enumerate(alike.items()):
        world.note("What the targets name", number, len(alike))
        bout = rulings.bout(subject)
        said = [contribution for target in saying for contribution in target.of(bout.shown)]
        if said or typed:
            rows.append(_row(subject, others, said, _merged(_outcomes(rulings, bout))))
    rows.sort(key=lambda row: (not row.differ, row.subject))
    return Overlap(
        targets=tuple(targets),
        devices=len(members),
        examples=tuple(sorted(member.facts.hostname for member in members)[:FEW]),
        rows=tuple(rows),
    )


def _named_by(estate: Estate, world: World, targets: Sequence[str]) -> Iterator[Subject]:
    """What the rulesets name that are put on the targets; categories in the taxonomy's order."""
    known = KnownSubjects.of([estate], world.programs, world.catalogue)
    used = {
        assignment.ruleset
        for assignment in estate.assignments
        if not {*assignment.groups, *assignment.named_devices}.isdisjoint(targets)
    }
    found = [
        subject
        for ruleset in estate.rulesets
        if ruleset.key in used
        for rule in ruleset.rules
        for subject in subjects_of(ruleset.kind, rule.selector, known)
    ]
    order = {key: place for place, key in enumerate(TAXONOMY.categories)}
    yield from sorted(
        found, key=lambda subject: order.get(subject.name, len(order)) if subject.kind == "category" else len(order)
    )


class _Saying:
    """What one target says by itself."""

    def __init__(self, estate: Estate, matcher: Matcher, target: str, members: Sequence[Member]) -> None:
        self._target, self._matcher = target, matcher
        alone = [member for member in members if target in names_of(member)]
        names = set(names_of(alone[0])) if alone else set()
        self._own: dict[str, list[Assignment]] = defaultdict(list)
        for assignment in estate.assignments:
            is_on = bool(names.intersection(assignment.named_devices)) if alone else target in assignment.groups
            if is_on and assignment.state is State.ACTIVE:
                self._own[assignment.ruleset].append(assignment)

    def of(self, shown: Shown) -> Iterator[Contribution]:
        """Each assignment that says something, word by word."""
        seen: set[tuple[str, Action]] = set()
        for contender in self._matcher.meet(shown).rules():
            for assignment in self._own.get(self._matcher.ruleset_of(contender), ()):
                action = overridden(Action(contender.action), assignment.action)
                if (assignment.key, action) in seen:
                    continue
                seen.add((assignment.key, action))
                yield Contribution(
                    target=self._target,
                    action=action,
                    ruleset=assignment.ruleset,
                    assignment=assignment.key,
                    mandatory=assignment.mandatory,
                    conditions=sentences.assignment_conditions(assignment),
                )


def _outcomes(rulings: Rulings, bout: Bout) -> Iterator[OverlapOutcome]:
    """What becomes of a subject, by the rule that says so and by when."""
    kernel = rulings.kernel
    for sides in kernel.alike(bout.contests, -1):
        occasions = kernel.occasions(bout.contests, sides)
        found: dict[tuple[Action, str | None], list[tuple[int, int]]] = defaultdict(list)
        for ruling, on, where in rulings.rule(bout, occasions, sides):
            by = ruling.by
            named = wording.on(by.assigned.header.ruleset, by.target.name) if by is not None else None
            found[ruling.word, named].append((on, where))
        for (word, named), pieces in found.items():
            for on, where in together(pieces).items():
                members, witness = kernel.sorts.members(where), occasions.plainest(on)
                yield OverlapOutcome(
                    verdict=word,
                    devices=sum(map(len, members)),
                    when=when(on, occasions),
                    by=named,
                    device=max(members, key=len)[0].facts.hostname,
                    at=witness.moment.at,
                    user=witness.person.user,
                    place=witness.place,
                )


def _merged(outcomes: Iterable[OverlapOutcome]) -> list[OverlapOutcome]:
    """One outcome for all classes that come to the same in the same circumstances."""
    found: dict[tuple[object, ...], OverlapOutcome] = {}
    for outcome in outcomes:
        key = (outcome.verdict, outcome.when, outcome.by)
        known = found.get(key)
        found[key] = outcome if known is None else known.model_copy(update={"devices": known.devices + outcome.devices})
    return sorted(found.values(), key=lambda row: -row.devices)


def _row(
    subject: Subject, others: Sequence[Subject], said: Sequence[Contribution], outcomes: Sequence[OverlapOutcome]
) -> OverlapRow:
    by_target: Mapping[str, set[Action]] = defaultdict(set)
    for contribution in said:
        by_target[contribution.target].add(contribution.action)
    words = [frozenset(devices) for devices in by_target.values()]
    return OverlapRow(
        subject=f"{subject.kind} {subject.name}",
        words=sentences.subject_words(subject.kind, subject.name),
        alike=len(others),
        alike_examples=tuple(other.name for other in others[:FEW]),
        url=subject.url,
        contributions=tuple(said),
        outcomes=tuple(outcomes),
        differ=len(set(words)) > 1,
    )


def shared_devices(sorts: Mapping[tuple[str, ...], int], among: Sequence[str]) -> list[SharedBy]:
    """How many devices every two of the groups share, the stronger one first; given how many have which groups."""
    rank = {key: place for place, key in enumerate(among)}
    counts: Counter[tuple[str, str]] = Counter()
    for own, number in sorts.items():
        for pair in combinations(sorted((key for key in own if key in rank), key=rank.__getitem__), 2):
            counts[pair[0], pair[1]] += number
    return [SharedBy(groups=pair, devices=number) for pair, number in counts.most_common()]
