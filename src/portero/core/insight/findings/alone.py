"""Findings about one assignment or ruleset by itself: dead, ended, ending, broad, nobody's."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import cached_property
from typing import Any, NamedTuple

from portero.core import sentences, wording
from portero.core.by_identity import ByIdentity
from portero.core.insight.effects.world import World
from portero.core.insight.findings.told import MOST_RULES, HeldMembers, Told, finding, rule_at
from portero.core.matching.applications import SetTest, Started
from portero.core.matching.windows import FURTHEST, Windows
from portero.core.nouns.action import Action, overridden
from portero.core.nouns.assignment import Assignment, State, target_name
from portero.core.nouns.device import Application
from portero.core.nouns.essentials import ESSENTIALS
from portero.core.nouns.estate import Estate
from portero.core.nouns.finding import FindingKind, Severity
from portero.core.nouns.group import WHOLE_FLEET
from portero.core.nouns.restriction import restriction_of
from portero.core.nouns.rule import Rule
from portero.core.nouns.ruleset import Ruleset

SOON = timedelta(days=7)
"""What ends within this time is told beforehand."""
_BROADEST_RANGE = {4: 16, 6: 32}


class Put(NamedTuple):
    """An assignment with its ruleset, and the devices that it names."""

    assignment: Assignment
    ruleset: Ruleset
    devices: HeldMembers

    @property
    def words(self) -> str:
        """As in “quiet-link on satellite”."""
        where = wording.joined([target_name(target) for target in self.assignment.to])
        return wording.on(self.ruleset.key, where)

    def rules_in_words(self, numbers: Sequence[int]) -> list[str]:
        """What rules of it name, by their numbers."""
        return [sentences.selector_words(self.ruleset.rules[number - 1]) for number in numbers]

    @property
    def removing(self) -> list[tuple[str, Mapping[str, str]]]:
        """The remedy of removing it."""
        return [("remove-assignment", {"assignment": self.assignment.key})]

    def told(
        self, kind: FindingKind, severity: Severity, sentence: str, *, code: str | None = None, **more: Any
    ) -> Told:
        """A finding about it and, unless `more` says otherwise, about all its devices; `code` tells several apart."""
        assignment = self.assignment
        about = (code, assignment.key) if code else (assignment.key,)
        parts = {"assignments": (assignment.key,), "rulesets": (assignment.ruleset,), "devices": self.devices, **more}
        return finding(kind, severity, about, sentence, **parts)


@dataclass(frozen=True)
class Alone:
    """Looks at each assignment by itself."""

    estate: Estate
    world: World
    known_people: Collection[str]
    """Names of people who are known, folded: of the directory, and those who sign in. Empty where nobody can say."""

    @cached_property
    def puts(self) -> list[Put]:
        """All assignments with the devices they name."""
        classes, named = self.world.classes, self.estate.named_devices
        alone = {name: classes.by_name[name][1] for name in named if name in classes.by_name}
        by_group: dict[str, set[int]] = defaultdict(set)
        ordered = sorted(classes)
        for place, groups in enumerate(ordered):
            for key in groups:
                by_group[key].add(place)
        rulesets = self.estate.ruleset_by_key
        puts = []
        for assignment in self.estate.assignments:
            held = set().union(*(by_group[key] for key in assignment.groups))
            single = {alone[name].id: alone[name] for name in assignment.named_devices if name in alone}
            lists = [classes[ordered[place]] for place in sorted(held)]
            targets = set(assignment.groups)
            others = [one for one in single.values() if targets.isdisjoint(self.world.groups(one.id))]
            puts.append(
                Put(assignment, rulesets[assignment.ruleset], HeldMembers([*lists, *([others] if others else [])]))
            )
        return puts

    def find(self) -> Iterator[Told]:
        """All of them."""
        for put in self.puts:
            yield from self._ends(put)
            yield from self._owner(put)
            yield from self._unknown(put)
            if put.assignment.state is State.ACTIVE and not self._is_over(put.assignment.ends):
                yield from self._dead(put)
                yield from self._broad(put)
                yield from self._essential(put)
        for ruleset in self.estate.rulesets:
            yield from self._ending_rules(ruleset)
        yield from self._unknown_pins()

    def _is_over(self, at: datetime | None) -> bool:
        return at is not None and at <= self.world.now

    # --- what is never in play ---

    def _dead(self, put: Put) -> Iterator[Told]:
        assignment = put.assignment
        if not put.devices:
            where = wording.joined([target_name(target) for target in assignment.to], "or")
            yield put.told(
                FindingKind.NO_DEVICE,
                Severity.LOW,
                sentences.nobody(put.words, where),
                groups=assignment.groups,
                remedies=put.removing,
            )
        why = self._never_open(assignment)
        if why:
            yield put.told(
                FindingKind.NEVER_OPEN,
                Severity.MEDIUM,
                sentences.never_open(put.words, why),
                remedies=put.removing,
            )

    def _never_open(self, assignment: Assignment) -> str | None:
        begins = max(assignment.starts or self.world.now, self.world.now)
        if assignment.starts is not None and assignment.ends is not None and assignment.starts >= assignment.ends:
            return "it ends before it starts"
        if assignment.schedule is None:
            return None
        opens = self._opens(assignment.schedule, begins)
        if opens is None:
            return f"no window of {assignment.schedule} opens within {FURTHEST.days} days"
        if assignment.ends is not None and opens >= assignment.ends:
            return f"no window of {assignment.schedule} opens before it ends"
        return None

    def _opens(self, schedule: str, begins: datetime) -> datetime | None:
        """When a schedule is first open from some moment on."""
        key = (schedule, begins)
        if key not in self._opened:
            windows = Windows.of(self.estate.schedule_by_key[schedule])
            self._opened[key] = begins if windows.is_open(begins) else windows.next_change(begins)
        return self._opened[key]

    @cached_property
    def _opened(self) -> dict[tuple[str, datetime], datetime | None]:
        return {}

    # --- what ends ---

    def _ends(self, put: Put) -> Iterator[Told]:
        assignment = put.assignment
        if assignment.ends is None or assignment.ends > self.world.now + SOON or assignment.state is State.DRAFT:
            return
        over = self._is_over(assignment.ends)
        if not over and restriction_of(put.ruleset) is not None:
            # ending is what it is for
            return
        extending = [("extend", {"assignment": assignment.key})]
        yield put.told(
            FindingKind.ENDED if over else FindingKind.ENDING,
            Severity.LOW if over else Severity.MEDIUM,
            sentences.ended(put.words, assignment.ends) if over else sentences.ending(put.words, assignment.ends),
            remedies=[*put.removing, *extending] if over else [*extending, *put.removing],
            at=assignment.ends,
            detail=assignment.reason,
        )

    def _ending_rules(self, ruleset: Ruleset) -> Iterator[Told]:
        for over in (True, False):
            due = [
                (number, at, rule)
                for number, at, rule in _ending.of(ruleset)
                if self._is_over(at) == over and at <= self.world.now + SOON
            ]
            if not due:
                continue
            first = min(at for _, at, _ in due)
            told = sentences.rules_of(ruleset.key, [sentences.selector_words(rule) for _, _, rule in due])
            removing = ("remove-rules", {"ruleset": ruleset.key})
            extending = ("extend-rules", {"ruleset": ruleset.key})
            yield finding(
                FindingKind.ENDED if over else FindingKind.ENDING,
                Severity.LOW if over else Severity.MEDIUM,
                ("rules", ruleset.key),
                sentences.ended(told, first) if over else sentences.ending(told, first),
                rulesets=(ruleset.key,),
                rules=[rule_at(ruleset, number) for number, _, _ in due],
                remedies=[removing, extending] if over else [extending, removing],
                at=first,
            )

    def _owner(self, put: Put) -> Iterator[Told]:
        assignment = put.assignment
        gone = (
            assignment.owner is not None and self.known_people and assignment.owner.casefold() not in self.known_people
        )
        if gone and assignment.owner and not self._is_over(assignment.ends):
            yield put.told(
                FindingKind.OWNER_GONE,
                Severity.HIGH,
                sentences.owner_gone(put.words, assignment.owner),
                remedies=[*put.removing, ("pause-assignment", {"assignment": assignment.key})],
                detail=assignment.reason,
            )

    # --- who is not there ---

    @cached_property
    def _machines(self) -> Collection[str]:
        return self.world.classes.by_name.keys()

    def _unknown(self, put: Put) -> Iterator[Told]:
        people, directory = put.assignment.people, self.world.directory
        if people is not None:
            users = [user for user in people.users if not directory.knows(user)]
            groups = [key for key in people.user_groups if not directory.knows(user_group=key)]
            if names := [*users, *groups]:
                words = sentences.unknown_people(put.words, names)
                yield put.told(FindingKind.UNKNOWN_NAME, Severity.MEDIUM, words, code="people")
        gone = [name for name in put.assignment.named_devices if name not in self._machines]
        if gone and put.devices:
            # where it reaches no machine at all, that is told already
            words = sentences.unknown_machines(f"{put.ruleset.key} is assigned to", gone)
            yield put.told(FindingKind.UNKNOWN_NAME, Severity.LOW, words, code="machines")

    def _unknown_pins(self) -> Iterator[Told]:
        for group in self.estate.groups:
            pins = (*group.pins.in_, *group.pins.out) if group.pins else ()
            gone = [pin.device for pin in pins if pin.device not in self._machines]
            if gone:
                yield finding(
                    FindingKind.UNKNOWN_NAME,
                    Severity.LOW,
                    ("pins", group.key),
                    sentences.unknown_machines(f"Group {group.key} pins", gone),
                    groups=(group.key,),
                )

    # --- how far it reaches ---

    def _broad(self, put: Put) -> Iterator[Told]:
        assignment = put.assignment
        if (
            WHOLE_FLEET not in assignment.to
            or assignment.names_people
            or assignment.place != "anywhere"
            or assignment.action == "log"
        ):
            return
        broad = [
            number
            for number, rule in enumerate(put.ruleset.rules, 1)
            if rule.action in (Action.BLOCK, Action.ALLOW) and _is_broad(rule)
        ]
        if broad:
            yield put.told(
                FindingKind.BROAD,
                Severity.LOW,
                sentences.broad(put.words, put.rules_in_words(broad), len(put.devices)),
                rules=[rule_at(put.ruleset, number) for number in broad[:MOST_RULES]],
                remedies=[("only-record", {"assignment": assignment.key})],
            )

    def _essential(self, put: Put) -> Iterator[Told]:
        if put.ruleset.kind != "startup":
            return
        stopped: dict[str, int] = {}
        for number, rule in enumerate(put.ruleset.rules, 1):
            if overridden(rule.action, put.assignment.action) is Action.BLOCK and rule.application_set is not None:
                stopped |= dict.fromkeys(self._essentials_of(rule.application_set), number)
        if stopped:
            yield put.told(
                FindingKind.BLOCKS_ESSENTIAL,
                Severity.HIGH,
                sentences.blocks_essential(put.words, list(stopped), len(put.devices)),
                rules=[rule_at(put.ruleset, number) for number in sorted(set(stopped.values()))],
                remedies=[("remove-rules", {"ruleset": put.ruleset.key})],
            )

    def _essentials_of(self, application_set: str) -> list[str]:
        """The paths of programs, essential to everybody, that a set names."""
        sets = self.estate.application_set_by_key
        test, catalogue = SetTest(sets[application_set], sets), self.world.catalogue
        found = []
        named = (one.path for one in ESSENTIALS if one.user is None and not one.path.endswith("/"))
        for path in dict.fromkeys(named):
            program = Application(path=path, file=path.replace("\\", "/").rpartition("/")[2])
            if test.fit(Started.of(program, catalogue, self.estate.corrected_programs)).narrowness is not None:
                found.append(path)
        return found


def _rules_that_end(ruleset: Ruleset) -> list[tuple[int, datetime, Rule]]:
    return [(number, rule.valid_until, rule) for number, rule in enumerate(ruleset.rules, 1) if rule.valid_until]


_ending = ByIdentity(_rules_that_end)


def _is_broad(rule: Rule) -> bool:
    kind, value, _ = rule.selector
    if kind == "address":
        _, _, prefix = value.partition("/")
        return bool(prefix) and int(prefix) <= _BROADEST_RANGE[6 if ":" in value else 4]
    return rule.names_everything or kind in ("decision", "suitability")
