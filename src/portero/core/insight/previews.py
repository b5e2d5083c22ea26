"""The effect of a change before it is made, worked out on both states of the estate with the same code that decides."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import islice
from typing import NamedTuple

from portero.core import sentences, wording
from portero.core.insight.differences import differences
from portero.core.insight.effects.circumstances import Circumstance, Frames, when
from portero.core.insight.effects.rulings import Judge, Ruling
from portero.core.insight.effects.slicing import Cutter
from portero.core.insight.effects.subjects import KnownSubjects, Shown, Subject, host_subject
from portero.core.insight.effects.sweeping import Crowd, Sweep, Swept, names_of
from portero.core.insight.effects.touching import Touched, changed_keys, touched_assignments, touched_groups
from portero.core.insight.effects.world import Groups, World
from portero.core.matching.members import Member
from portero.core.nouns.action import STOPPING, Action
from portero.core.nouns.estate import Estate
from portero.core.nouns.layer import Layer
from portero.core.nouns.preview import Effect, VerdictChange, effect_of
from portero.core.nouns.revision import Change
from portero.core.resolving.bundles import compile_bundle

MOST_SUBJECTS = 20_000
MOST_ROWS = 500
FEW = 6


class Outlook(NamedTuple):
    """What becomes of verdicts: the rows, the rulesets that are touched, the machines whose bundle would be another,
    those on which more is stopped than before (by layer), and whether everything was looked at.
    """

    changes: tuple[Change, ...]
    verdicts: tuple[VerdictChange, ...]
    effects: dict[Effect, int]
    rulesets: set[str]
    touched: list[Member]
    classes: int
    tightened: dict[Layer, dict[str, Member]]
    losses: tuple[str, ...]
    complete: bool
    stopped_at: str | None


def look_ahead(before: Estate, after: Estate, moved: Mapping[str, tuple[str, ...]], world: World) -> Outlook:
    """What `after` would change. `moved` gives the groups of those devices that would have others, by id."""
    changes, pairs = tuple(differences(before, after)), world.moving(moved)
    touched, classes, whole = _touched_devices(before, after, changes, pairs, world)
    known = KnownSubjects.of((before, after), world.programs, world.catalogue)
    groups = moved_groups(moved, world)
    cutters = [world.cutter(estate) for estate in (before, after)]
    reached = Touched(before, after, changes, groups, known)
    subjects, all_subjects = _once_each_alike(reached.subjects(), cutters, world.out_of_time)
    shifts = _Shifts(subjects, {ruleset.key for ruleset in (*before.rulesets, *after.rulesets) if ruleset.feed})
    stopped = _sweep(shifts, cutters, pairs, world) if subjects else None
    if stopped is None and not all_subjects:
        stopped = f"after {len(subjects):,} rules"
    if stopped is None and not whole:
        stopped = "while counting the machines that get another bundle"
    return Outlook(
        changes=changes,
        verdicts=tuple(shifts.rows()[:MOST_ROWS]),
        effects=shifts.effects(),
        rulesets=reached.rulesets(),
        touched=touched,
        classes=classes,
        tightened=shifts.tightened,
        losses=tuple(shifts.losses(len(world.members))),
        complete=stopped is None,
        stopped_at=stopped,
    )


class Shifted(NamedTuple):
    """What becomes of hosts once another index counts: the rows, how many subjects each effect befalls, at how many
    hosts was looked, and whether that was all.
    """

    verdicts: tuple[VerdictChange, ...]
    effects: dict[Effect, int]
    looked_at: int
    complete: bool


def look_at_hosts(hosts: Iterable[str], cutters: Sequence[Cutter], world: World) -> Shifted:
    """What becomes of hosts under the same estate with one category index and with another, a cutter each."""
    subjects, all_subjects = _once_each_alike(map(host_subject, hosts), cutters, world.out_of_time)
    shifts = _Shifts(subjects, ())
    stopped = _sweep(shifts, cutters, world.moving({}), world) if subjects else None
    looked_at = sum(1 + len(others) for others in subjects.values())
    return Shifted(tuple(shifts.rows()[:MOST_ROWS]), shifts.effects(), looked_at, all_subjects and stopped is None)


def _sweep(
    shifts: _Shifts,
    cutters: Sequence[Cutter],
    pairs: Mapping[tuple[Groups, Groups], list[Member]],
    world: World,
) -> str | None:
    """Look at every class; where time ran out, in words."""
    shown = [{subject: cutter.show(subject) for subject in shifts.subjects} for cutter in cutters]
    slices = [cutter.cut(own) for cutter, own in zip(cutters, shown, strict=True)]
    same = shown[0] == shown[1]
    sweep = Sweep(slices, Crowd([part.estate for part in slices], pairs), world.directory, world.now)
    for done, swept in enumerate(sweep.classes()):
        if world.out_of_time():
            return f"after {done:,} of {wording.counted(len(sweep), 'class', 'classes')} of machines"
        if not (same and swept.stays and len(set(swept.gateways)) == 1):
            shifts.look_at(swept, shown)
    return None


# --- whose bundle changes ---


def moved_groups(moved: Mapping[str, tuple[str, ...]], world: World) -> set[str]:
    """The groups that devices enter or leave, or whose place among a device's groups is another."""
    pairs = {(world.groups(id), then) for id, then in moved.items()}
    found: set[str] = set()
    for now, then in pairs:
        found |= set(now) ^ set(then)
        both = [key for key in now if key in then]
        found.update(one for one, other in zip(both, (key for key in then if key in now), strict=True) if one != other)
    return found


def _touched_devices(
    before: Estate,
    after: Estate,
    changes: Sequence[Change],
    pairs: Mapping[tuple[Groups, Groups], list[Member]],
    world: World,
) -> tuple[list[Member], int, bool]:
    """The devices that would have another bundle, in how many classes; and whether all were looked at."""
    if not changes:
        return [], 0, True
    touched, changed = touched_groups(before, after, changes), changed_keys(changes, before, after)
    named = {
        name
        for estate in (before, after)
        for assignment in touched_assignments(estate, changed)
        for name in assignment.named_devices
    }
    alone = [member for member in world.members if not named.isdisjoint(names_of(member))] if named else []
    found, classes, whole = {member.id: member for member in alone}, 0, True
    for (own, then), members in sorted(pairs.items(), key=lambda item: -len(item[1])):
        if own == then and touched is not None and touched.isdisjoint(own):
            continue
        if whole and world.out_of_time():
            whole = False
        # out of time, what may be touched is counted as touched
        if whole and own == then and compile_bundle(before, own) == compile_bundle(after, own):
            continue
        classes += 1
        found.update((member.id, member) for member in members)
    return list(found.values()), classes, whole


# --- subjects ---


def _once_each_alike(
    subjects: Iterable[Subject], cutters: Sequence[Cutter], out_of_time: Callable[[], bool]
) -> tuple[dict[Subject, list[Subject]], bool]:
    """One subject for all those of which the same becomes, with the others; and whether all were looked at."""
    first: dict[object, Subject] = {}
    alike: dict[Subject, list[Subject]] = {}
    seen: set[Subject] = set()
    for subject in subjects:
        if subject in seen:
            continue
        if len(seen) >= MOST_SUBJECTS or (len(seen) % 200 == 199 and out_of_time()):
            return alike, False
        seen.add(subject)
        # categories are told one by one; the others of a list of thousands are told together
        key: object = subject
        if subject.kind not in ("category", "program"):
            key = (subject.kind, *(cutter.likeness(cutter.show(subject)) for cutter in cutters))
        same = first.setdefault(key, subject)
        if same is subject:
            alike[subject] = []
        else:
            alike[same].append(subject)
    return alike, True


# --- shifts of verdicts ---


class _Key(NamedTuple):
    """What shifts are counted by."""

    subject: Subject
    before: Action
    after: Action
    when: str | None


@dataclass
class _Shift:
    """One change of a verdict as it is counted, with a device and a circumstance that show it."""

    member: Member
    witness: Circumstance
    devices: int = 0
    by: Counter[str] = field(default_factory=Counter)
    feeds: Counter[str] = field(default_factory=Counter)
    """Rulesets that feeds keep up and by whose rules it was or will be decided."""


_CONTROLS = ("category", "family", "everything", "program", "search_term", "media_type", "pattern")
"""What is told before single hosts, URLs and addresses."""


class _Shifts:
    """Counts what changes, class by class. `fed` are the rulesets that feeds keep up."""

    def __init__(self, subjects: Mapping[Subject, Sequence[Subject]], fed: Collection[str]) -> None:
        self.subjects, self._fed = subjects, fed
        self._found: dict[_Key, _Shift] = {}
        self.tightened: dict[Layer, dict[str, Member]] = defaultdict(dict)

    def look_at(self, swept: Swept, shown: Sequence[Mapping[Subject, Shown]]) -> None:
        """Count what changes for the devices of one sort."""
        tightened: set[Layer] = set()
        for subject in self.subjects:
            by_pair: dict[tuple[Action, Action], list[tuple[Frames, Ruling, Ruling]]] = {}
            judges = [Judge(policy, own[subject]) for policy, own in zip(swept.policies, shown, strict=True)]
            for frames in swept.frames:
                was, then = (
                    judge.rule(frame, to_gateway)
                    for judge, frame, to_gateway in zip(judges, frames.frames, frames.to_gateway, strict=True)
                )
                if was.word is not then.word:
                    by_pair.setdefault((was.word, then.word), []).append((frames, was, then))
            for (before, after), found in by_pair.items():
                changed = {circumstance for frames, _, _ in found for circumstance in frames.circumstances}
                every = {circumstance for frames in swept.frames for circumstance in frames.circumstances}
                self._count(_Key(subject, before, after, when(changed, every)), found, swept)
                if _tightens(before, after):
                    tightened.update(then.layer for _, _, then in found if then.layer)
        for layer in tightened:
            self.tightened[layer].update((member.id, member) for members in swept.members for member in members)

    def _count(self, key: _Key, found: Sequence[tuple[Frames, Ruling, Ruling]], swept: Swept) -> None:
        # the plainest circumstance shows it best
        witness = min(
            (circumstance for frames, _, _ in found for circumstance in frames.circumstances),
            key=lambda state: state.restarted,
        )
        shift = self._found.setdefault(key, _Shift(swept.first, witness))
        shift.devices += swept.devices
        for _, was, then in found:
            if then.by is not None:
                own = swept.policies[-1].bundle.assignments[then.by.assignment]
                shift.by[wording.on(own.ruleset, own.target or swept.first.facts.hostname)] += swept.devices
            for ruling, policy in ((then, swept.policies[-1]), (was, swept.policies[0])):
                if ruling.by is not None:
                    ruleset = policy.bundle.assignments[ruling.by.assignment].ruleset
                    if ruleset in self._fed:
                        shift.feeds[ruleset] += 1

    def rows(self) -> list[VerdictChange]:
        """What changes: whole controls and categories first, then on the most machines; what feeds bring summed up."""
        alone, fed = [], defaultdict(list)
        for key, shift in self._found.items():
            row = self._row(key, shift)
            if shift.feeds and key.subject.kind not in _CONTROLS:
                ((ruleset, _),) = shift.feeds.most_common(1)
                fed[ruleset, row.before, row.after, row.when, row.by].append(row)
            else:
                alone.append(row)
        found = [*alone, *(_summed(ruleset, rows) for (ruleset, *_), rows in fed.items())]
        found.sort(key=_order)
        return found

    def _row(self, key: _Key, shift: _Shift) -> VerdictChange:
        subject, others, witness = key.subject, self.subjects[key.subject], shift.witness
        return VerdictChange(
            subject=f"{subject.kind} {subject.name}",
            words=sentences.subject_words(subject.kind, subject.name),
            alike=len(others),
            alike_examples=tuple(other.name for other in islice(others, FEW)),
            before=key.before,
            after=key.after,
            effect=effect_of(key.before, key.after),
            devices=shift.devices,
            when=key.when,
            by=next(iter(shift.by.most_common(1)), (None, 0))[0],
            device=shift.member.facts.hostname,
            at=witness.moment.at,
            user=witness.person.user,
            place=witness.place,
            restarted=witness.restarted,
            url=subject.url,
        )

    def effects(self) -> dict[Effect, int]:
        """How many subjects each effect befalls, those alike counted one by one."""
        befallen = {(key.subject, effect_of(key.before, key.after)) for key in self._found}
        counts: Counter[Effect] = Counter()
        for subject, effect in befallen:
            counts[effect] += 1 + len(self.subjects[subject])
        return {effect: counts[effect] for effect in Effect if counts[effect]}

    def losses(self, fleet: int) -> Iterator[str]:
        """What everybody loses, in words; nothing where the change does not touch the whole fleet."""
        for effect in (Effect.STOPPED, Effect.WARNED):
            devices: Counter[Subject] = Counter()
            for key, shift in self._found.items():
                if effect_of(key.before, key.after) is effect:
                    devices[key.subject] += shift.devices
            everywhere = [subject for subject, number in devices.items() if number >= fleet]
            if everywhere and fleet:
                count = sum(1 + len(self.subjects[subject]) for subject in everywhere)
                words = [sentences.subject_words(subject.kind, subject.name) for subject in everywhere]
                whens = {key.when for key in self._found if key.subject in everywhere}
                yield sentences.loss(effect.value, words, count, fleet, whens)


def _order(row: VerdictChange) -> tuple[bool, int, int, str]:
    kind = row.subject.partition(" ")[0]
    return kind not in _CONTROLS, -row.devices, list(Effect).index(row.effect), row.words


def _summed(ruleset: str, rows: Sequence[VerdictChange]) -> VerdictChange:
    """One row for all that befalls a feed's indicators alike."""
    number = sum(1 + row.alike for row in rows)
    if number == 1:
        return rows[0]
    most = max(rows, key=lambda row: row.devices)
    names = [name for row in rows for name in (row.subject.partition(" ")[2], *row.alike_examples)]
    names.remove(most.subject.partition(" ")[2])
    told = {"words": sentences.indicators_of(number, ruleset), "summed": True}
    return most.model_copy(update={**told, "alike": number - 1, "alike_examples": tuple(names[:FEW])})


def _tightens(before: Action, after: Action) -> bool:
    return after in STOPPING and before is not Action.BLOCK
