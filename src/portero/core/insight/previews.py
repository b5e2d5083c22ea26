"""The effect of a change before it is made, worked out on both states of the estate with the same code that decides."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import islice
from typing import NamedTuple

from portero.core import sentences, wording
from portero.core.insight.differences import differences
from portero.core.insight.effects.circumstances import Circumstance
from portero.core.insight.effects.comparing import Comparison, Shift
from portero.core.insight.effects.matcher import Matcher, once_each_alike
from portero.core.insight.effects.occasions import Occasions, together
from portero.core.insight.effects.subjects import KnownSubjects, Subject, host_subject
from portero.core.insight.effects.touching import Touched, changed_keys, touched_assignments, touched_groups
from portero.core.insight.effects.whens import when
from portero.core.insight.effects.world import World
from portero.core.matching.classes import Groups
from portero.core.matching.members import Member
from portero.core.nouns.action import STOPPING, Action
from portero.core.nouns.estate import Estate
from portero.core.nouns.layer import Layer
from portero.core.nouns.preview import Effect, VerdictChange, effect_of
from portero.core.nouns.revision import Change
from portero.core.resolving.compiling import compile_bundle

MOST_ROWS = 500
FEW = 6


class Outlook(NamedTuple):
    """What becomes of verdicts: the rows, the machines whose bundle would be another,
    and those on which more is stopped than before (by layer).
    """

    changes: tuple[Change, ...]
    verdicts: tuple[VerdictChange, ...]
    effects: dict[Effect, int]
    touched: list[Member]
    classes: int
    tightened: dict[Layer, dict[str, Member]]
    losses: tuple[str, ...]


def look_ahead(before: Estate, after: Estate, moved: Mapping[str, tuple[str, ...]], world: World) -> Outlook:
    """What `after` would change. `moved` gives the groups of those devices that would have others, by id."""
    changes, pairs = tuple(differences(before, after)), world.classes.moving(moved)
    touched, classes = _touched_devices(before, after, changes, pairs, world)
    known = KnownSubjects.of((before, after), world.programs, world.catalogue)
    reached = Touched(before, after, changes, moved_groups(moved, world), known)
    states = (before, after)
    matchers = [world.matcher(estate) for estate in states]
    subjects = once_each_alike(reached.subjects(), matchers)
    shifts = _Shifts(subjects, {ruleset.key for ruleset in (*before.rulesets, *after.rulesets) if ruleset.feed})
    if subjects:
        shifts.look_at(Comparison(states, matchers, pairs, world), world.note)
    return Outlook(
        changes=changes,
        verdicts=tuple(shifts.rows()[:MOST_ROWS]),
        effects=shifts.effects(),
        touched=touched,
        classes=classes,
        tightened=shifts.tightened,
        losses=tuple(shifts.losses(len(world.members))),
    )


class Shifted(NamedTuple):
    """What becomes of hosts once another index counts: the rows, how many subjects each effect befalls, and at how
    many hosts was looked.
    """

    verdicts: tuple[VerdictChange, ...]
    effects: dict[Effect, int]
    looked_at: int


def look_at_hosts(hosts: Iterable[str], estate: Estate, matchers: Sequence[Matcher], world: World) -> Shifted:
    """What becomes of hosts under the same estate with one category index and with another, a matcher each."""
    subjects = once_each_alike(map(host_subject, hosts), matchers)
    shifts = _Shifts(subjects, ())
    if subjects:
        shifts.look_at(Comparison((estate, estate), matchers, world.classes.moving({}), world), world.note)
    looked_at = sum(1 + len(others) for others in subjects.values())
    return Shifted(tuple(shifts.rows()[:MOST_ROWS]), shifts.effects(), looked_at)


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
) -> tuple[list[Member], int]:
    """The devices that would have another bundle, and in how many classes."""
    if not changes:
        return [], 0
    touched, changed = touched_groups(before, after, changes), changed_keys(changes, before, after)
    named = {
        name
        for estate in (before, after)
        for assignment in touched_assignments(estate, changed)
        for name in assignment.named_devices
    }
    by_name = world.classes.by_name if named else {}
    alone = [by_name[name][1] for name in sorted(named) if name in by_name]
    found, classes = {member.id: member for member in alone}, 0
    for (own, then), members in pairs.items():
        if own == then and touched is not None and touched.isdisjoint(own):
            continue
        if own == then and compile_bundle(before, own) == compile_bundle(after, own):
            continue
        classes += 1
        found.update((member.id, member) for member in members)
    return list(found.values()), classes


# --- shifts of verdicts ---


class _Key(NamedTuple):
    """What shifts are counted by."""

    subject: Subject
    before: Action
    after: Action
    when: str | None


@dataclass
class _Counted:
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
    """Counts what changes. `fed` are the rulesets that feeds keep up."""

    def __init__(self, subjects: Mapping[Subject, Sequence[Subject]], fed: Collection[str]) -> None:
        self.subjects, self._fed = subjects, fed
        self._found: dict[_Key, _Counted] = {}
        self.tightened: dict[Layer, dict[str, Member]] = {}

    def look_at(self, compared: Comparison, note: Callable[[str, int, int], None]) -> None:
        """Count what changes for each subject, and note how far that is."""
        tightened: dict[Layer, int] = defaultdict(int)
        for number, subject in enumerate(self.subjects):
            note("What would be decided otherwise", number, len(self.subjects))
            by_pair: dict[tuple[Action, Action, Occasions], list[Shift]] = defaultdict(list)
            for one in compared.shifts(subject):
                by_pair[one.was.word, one.then.word, one.occasions].append(one)
                if one.then.layer and _tightens(one.was.word, one.then.word):
                    tightened[one.then.layer] |= one.where
            for (before, after, occasions), found in by_pair.items():
                for on, where in together((one.when, one.where) for one in found).items():
                    key = _Key(subject, before, after, when(on, occasions))
                    self._count(key, found, occasions.plainest(on), where, compared)
        self.tightened = {
            layer: {member.id: member for members in compared.members(where) for member in members}
            for layer, where in tightened.items()
        }

    def _count(
        self, key: _Key, found: Sequence[Shift], witness: Circumstance, where: int, compared: Comparison
    ) -> None:
        first = max(compared.members(where), key=len)[0]
        shift = self._found.setdefault(key, _Counted(first, witness))
        shift.devices += compared.number(where)
        for one in found:
            if not (at := one.where & where):
                continue
            if one.then.by is not None:
                own, target = one.then.by.assigned.header.ruleset, one.then.by.target.name
                shift.by[wording.on(own, target or first.facts.hostname)] += compared.number(at)
            for ruling in (one.then, one.was):
                if ruling.by is not None and (ruleset := ruling.by.assigned.header.ruleset) in self._fed:
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

    def _row(self, key: _Key, shift: _Counted) -> VerdictChange:
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
