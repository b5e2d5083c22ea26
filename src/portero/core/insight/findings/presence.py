"""Machines that have a program which an assignment stops, and is to report: whether anybody starts it or not."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from portero.core import sentences
from portero.core.insight.effects.world import World
from portero.core.insight.findings.told import Told, finding
from portero.core.matching.applications import SetTest, Started, Test
from portero.core.nouns.action import STOPPING, overridden
from portero.core.nouns.application_set import ApplicationCondition
from portero.core.nouns.assignment import Assignment, State
from portero.core.nouns.device import Application
from portero.core.nouns.estate import Estate
from portero.core.nouns.finding import FindingKind, Severity
from portero.core.nouns.ruleset import Ruleset


@dataclass(frozen=True)
class Presence:
    """Looks for the programs of each assignment that reports presence, on the machines that it is put on."""

    estate: Estate
    world: World

    def find(self) -> Iterator[Told]:
        """All of them."""
        for assignment in self.estate.assignments:
            if assignment.report_presence and assignment.state is State.ACTIVE:
                yield from self._of(assignment, self.estate.ruleset_by_key[assignment.ruleset])

    def _of(self, assignment: Assignment, ruleset: Ruleset) -> Iterator[Told]:
        tests = list(self._tests(assignment, ruleset))

        def is_stopped(program: Application) -> bool:
            started = Started.of(program, self.world.catalogue, self.estate.corrected_programs)
            return any(test.fit(started).narrowness is not None for test in tests)

        having = self.world.having(is_stopped) if tests else {}
        named = frozenset(assignment.named_devices)
        groups = frozenset(assignment.groups)
        wanted = set().union(*(one.devices for one in having.values()))
        members = [
            member
            for member in self.world.members
            if member.id in wanted
            and not (groups | named).isdisjoint((*self.world.groups(member.id), member.id, member.facts.hostname))
        ]
        ids = {member.id for member in members}
        present = {program: one for program, one in having.items() if not ids.isdisjoint(one.devices)}
        people = set().union(*(one.people for one in present.values()))
        if members:
            where = assignment.groups or assignment.named_devices
            yield finding(
                FindingKind.PROGRAM_PRESENT,
                Severity.LOW,
                (assignment.key,),
                sentences.program_present(f"{ruleset.key} on {where[0]}", list(present), len(members), len(people)),
                assignments=(assignment.key,),
                rulesets=(ruleset.key,),
                groups=assignment.groups,
                devices=members,
            )

    def _tests(self, assignment: Assignment, ruleset: Ruleset) -> Iterator[Test | SetTest]:
        sets = self.estate.application_set_by_key
        for rule in ruleset.rules:
            if overridden(rule.action, assignment.action) not in STOPPING:
                continue
            if rule.application_set is not None:
                yield SetTest(sets[rule.application_set], sets)
            elif rule.sha256 is not None:
                yield Test(ApplicationCondition(sha256=rule.sha256))
