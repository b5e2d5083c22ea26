"""What a change of the estate would do, asked of a running service: its fleet, its people, its rhythms."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Sequence

from portero.core import sentences
from portero.core.insight.findings import find_all
from portero.core.insight.findings.finding import Found
from portero.core.insight.holding import hidden_content, hindrances, taking_hold
from portero.core.insight.previewing import Outlook, World, look_ahead
from portero.core.matching.categories import CategoryIndex
from portero.core.matching.fleet import Regrouping
from portero.core.nouns.device import Application
from portero.core.nouns.directory import Directory
from portero.core.nouns.estate import Estate
from portero.core.nouns.finding import Finding
from portero.core.nouns.preview import Hindrance, Preview
from portero.service.roster import Obstacles, Roster
from portero.store import access, devices
from portero.store.database import Store
from portero.store.estates import moment

PREVIEW_SECONDS = 4.0
"""How long a preview may take before it tells what it has found so far."""
FINDINGS_SECONDS = 10.0
KEPT_SECONDS = 60.0


class Foresight:
    """Looks ahead on copies in memory: nothing is kept, nobody waits for it."""

    def __init__(self, store: Store, roster: Roster, index: CategoryIndex, clock: Callable[[], float]) -> None:
        self._store, self._roster, self._index, self._clock = store, roster, index, clock
        self._programs: tuple[int, list[Application]] = (-1, [])
        self._finding = threading.Lock()
        self._found: tuple[tuple[int, ...], Found] | None = None

    def programs(self) -> Sequence[Application]:
        """Every program that some device has, once."""
        state = self._roster.fleet.changes
        if self._programs[0] != state:
            with self._store.reading() as connection:
                self._programs = (state, devices.all_applications(connection))
        return self._programs[1]

    def world(self, directory: Directory, seconds: float) -> World:
        """What a state of the estate is looked at in, for so long."""
        roster, deadline = self._roster, time.monotonic() + seconds
        return World(
            members=roster.fleet.members(),
            groups=roster.fleet.groups_of,
            hosts=self._index,
            directory=directory,
            programs=self.programs,
            catalogue=roster.catalogue,
            now=moment(self._clock()),
            out_of_time=lambda: time.monotonic() > deadline,
        )

    def preview(
        self, before: Estate, after: Estate, revision: int, directory: Directory, seconds: float = PREVIEW_SECONDS
    ) -> Preview:
        """What making the estate `after` would do."""
        world = self.world(directory, seconds)
        regrouping = self._roster.plan(after, self._clock())
        seen = look_ahead(before, after, regrouping.groups, world)
        appearing, settled = self._turns(before, after, revision, directory, regrouping)
        with self._store.reading() as connection:
            rhythms = devices.rhythms(connection)
        return Preview(
            revision=revision,
            summary=sentences.summary_of(seen.changes),
            changes=seen.changes,
            sentences=tuple(map(sentences.change_sentence, seen.changes)),
            devices=len(seen.touched),
            classes=seen.classes,
            fleet=len(world.members),
            verdicts=seen.verdicts,
            effects=seen.effects,
            losses=seen.losses,
            appearing=appearing,
            settled=settled,
            hindrances=self._hindrances(after, seen, regrouping),
            taking_hold=taking_hold((rhythms.get(member.id) for member in seen.touched), self._clock()),
            complete=seen.complete,
            stopped_at=seen.stopped_at,
        )

    def _turns(
        self, before: Estate, after: Estate, revision: int, directory: Directory, regrouping: Regrouping
    ) -> tuple[tuple[Finding, ...], tuple[Finding, ...]]:
        """The findings that appear, and those that go. Where there was no time to see all, none is said to go."""
        now = self.findings(before, revision, directory)
        groups = self._roster.fleet.groups_of
        then = self._find(after, directory, PREVIEW_SECONDS, lambda id: regrouping.groups.get(id) or groups(id))
        had, has = ({one.id for one in found.items} for found in (now, then))
        appearing = tuple(one for one in then.items if one.id not in had)
        return appearing, tuple(one for one in now.items if one.id not in has) if then.complete else ()

    # --- findings ---

    def findings(self, estate: Estate, revision: int, directory: Directory) -> Found:
        """What is to be settled now. What was found stays for a minute, unless something is another since."""
        state = (revision, self._roster.fleet.changes, id(directory), int(self._clock() // KEPT_SECONDS))
        with self._finding:
            if self._found is None or self._found[0] != state:
                self._found = (state, self._find(estate, directory, FINDINGS_SECONDS))
            return self._found[1]

    def _find(
        self,
        estate: Estate,
        directory: Directory,
        seconds: float,
        groups: Callable[[str], tuple[str, ...]] | None = None,
    ) -> Found:
        with self._store.reading() as connection:
            signing_in = access.names(connection)
        people = {one.casefold() for one in signing_in}
        people.update(user.casefold() for user in directory.users)
        people.update(user.casefold() for group in directory.user_groups for user in group.users)
        world = self.world(directory, seconds)
        return find_all(estate, world._replace(groups=groups) if groups else world, people)

    def _hindrances(self, after: Estate, seen: Outlook, regrouping: Regrouping) -> tuple[Hindrance, ...]:
        obstacles, groups = Obstacles(after), self._roster.fleet.groups_of
        return hindrances(
            seen.tightened,
            hidden_content(seen.verdicts),
            lambda member: obstacles.of(member, regrouping.groups.get(member.id) or groups(member.id)),
            after.coverage_table,
        )
