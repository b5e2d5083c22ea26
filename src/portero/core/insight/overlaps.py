"""What overlapping groups contribute to what becomes of their machines, and what wins."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import combinations

from portero.core import sentences, wording
from portero.core.insight.effects.circumstances import Circumstance, Frames, when
from portero.core.insight.effects.rulings import ANY_TIME, Judge, Ruling, rules_met
from portero.core.insight.effects.slicing import Slice
from portero.core.insight.effects.subjects import (
    KnownSubjects,
    Shown,
    Subject,
    category_subject,
    host_subject,
    program_subject,
    subjects_of,
)
from portero.core.insight.effects.sweeping import Crowd, Sweep, Swept, names_of
from portero.core.insight.effects.world import World
from portero.core.matching.members import Member
from portero.core.nouns.action import Action
from portero.core.nouns.board import Contribution, Overlap, OverlapOutcome, OverlapRow, SharedBy
from portero.core.nouns.device import Application
from portero.core.nouns.estate import Estate
from portero.core.nouns.urls import parse_visit
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.core.resolving.bundles import compile_bundle
from portero.core.resolving.policy import Policy

FEW = 12
MOST_OUTCOMES = 8


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
    subjects, cutter = list(typed) or list(_named_by(estate, world, targets)), world.cutter(estate)
    shown = {subject: cutter.show(subject) for subject in dict.fromkeys(subjects)}
    own = cutter.cut(shown)
    saying = {target: _Saying(own, target, members) for target in targets}
    outcomes: dict[Subject, list[OverlapOutcome]] = defaultdict(list)
    complete = True
    held = {member.id for member in members}
    classes = {(groups,): [member for member in some if member.id in held] for groups, some in world.classes.items()}
    crowd = Crowd([own.estate], {groups: some for groups, some in classes.items() if some})
    for swept in Sweep([own], crowd, world.directory, world.now).classes():
        if world.out_of_time():
            complete = False
            break
        for subject, one in shown.items():
            outcomes[subject] += _outcomes(swept, one)
    rows = []
    for subject, one in shown.items():
        said = [contribution for target in targets for contribution in saying[target].of(one)]
        if said or typed:
            rows.append(_row(subject, said, _merged(outcomes[subject])))
    rows.sort(key=lambda row: (not row.differ, row.subject))
    return Overlap(
        targets=tuple(targets),
        devices=len(members),
        examples=tuple(sorted(member.facts.hostname for member in members)[:FEW]),
        rows=tuple(rows),
        complete=complete,
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
        for rule in ruleset.rules[:500]
        for subject in subjects_of(ruleset.kind, rule.selector, known)
    ]
    order = {key: place for place, key in enumerate(TAXONOMY.categories)}
    yield from sorted(
        found, key=lambda subject: order.get(subject.name, len(order)) if subject.kind == "category" else len(order)
    )


class _Saying:
    """What one target says by itself."""

    def __init__(self, own: Slice, target: str, members: Sequence[Member]) -> None:
        self._target, self._estate = target, own.estate
        alone = [member for member in members if target in names_of(member)]
        groups, names = ((), names_of(alone[0])) if alone else ((target,), ())
        self._policy = Policy(compile_bundle(own.estate, groups, names))
        self._by_key = {assignment.key: assignment for assignment in own.estate.assignments}

    def of(self, shown: Shown) -> Iterator[Contribution]:
        """Each assignment that says something, by its strongest word."""
        frame = self._policy.frame(ANY_TIME)
        seen: set[tuple[str, str]] = set()
        for contender in rules_met(self._policy, frame, shown):
            owner = self._policy.bundle.assignments[contender.assignment]
            if (owner.key, contender.action) in seen:
                continue
            seen.add((owner.key, contender.action))
            yield Contribution(
                target=self._target,
                action=Action(contender.action),
                ruleset=owner.ruleset,
                assignment=owner.key,
                mandatory=owner.mandatory,
                conditions=sentences.assignment_conditions(self._by_key[owner.key]),
            )


def _outcomes(swept: Swept, shown: Shown) -> Iterator[OverlapOutcome]:
    by_word: dict[Action, list[tuple[Frames, Ruling]]] = {}
    policy = swept.policies[0]
    judge = Judge(policy, shown)
    for frames in swept.frames:
        ruling = judge.rule(frames.frames[0], frames.to_gateway[0])
        by_word.setdefault(ruling.word, []).append((frames, ruling))
    every = {circumstance for frames in swept.frames for circumstance in frames.circumstances}
    for word, found in by_word.items():
        changed = {circumstance for frames, _ in found for circumstance in frames.circumstances}
        witness = min(changed, key=_plainest)
        winner = next((ruling.by for _, ruling in found if ruling.by is not None), None)
        owner = policy.bundle.assignments[winner.assignment] if winner else None
        yield OverlapOutcome(
            verdict=word,
            devices=swept.devices,
            when=when(changed, every),
            by=wording.on(owner.ruleset, owner.target) if owner else None,
            device=swept.first.facts.hostname,
            at=witness.moment.at,
            user=witness.person.user,
            place=witness.place,
        )


def _plainest(circumstance: Circumstance) -> tuple[object, ...]:
    return (
        circumstance.restarted,
        circumstance.moment.since is not None,
        circumstance.person.words or "",
        circumstance.place,
        circumstance.moment.at,
    )


def _merged(outcomes: Iterable[OverlapOutcome]) -> list[OverlapOutcome]:
    """One outcome for all classes that come to the same in the same circumstances."""
    found: dict[tuple[object, ...], OverlapOutcome] = {}
    for outcome in outcomes:
        key = (outcome.verdict, outcome.when, outcome.by)
        known = found.get(key)
        found[key] = outcome if known is None else known.model_copy(update={"devices": known.devices + outcome.devices})
    return sorted(found.values(), key=lambda row: -row.devices)[:MOST_OUTCOMES]


def _row(subject: Subject, said: Sequence[Contribution], outcomes: Sequence[OverlapOutcome]) -> OverlapRow:
    by_target: Mapping[str, set[Action]] = defaultdict(set)
    for contribution in said:
        by_target[contribution.target].add(contribution.action)
    words = [frozenset(devices) for devices in by_target.values()]
    return OverlapRow(
        subject=f"{subject.kind} {subject.name}",
        words=sentences.subject_words(subject.kind, subject.name),
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
