"""What a change of the estate would do, asked of a running service: its fleet, its people, its rhythms."""

from __future__ import annotations

import contextlib
import threading
from collections import deque
from collections.abc import Callable, Iterable, Sequence

from portero.core import sentences
from portero.core.insight.effects.list_use import IsAllowed, ListUse
from portero.core.insight.effects.matcher import Matcher
from portero.core.insight.effects.outcomes import Outcomes
from portero.core.insight.effects.world import Having, World
from portero.core.insight.findings import find_all
from portero.core.insight.findings.finding import Found
from portero.core.insight.gate import failures
from portero.core.insight.previews import Outlook, Shifted, look_ahead, look_at_hosts
from portero.core.insight.proofs import forecasts
from portero.core.insight.taking_hold import hidden_content, hindrances, taking_hold
from portero.core.matching.categories import CategoryIndex
from portero.core.matching.fleet import Regrouping
from portero.core.nouns.device import Application
from portero.core.nouns.estate import Estate
from portero.core.nouns.preview import Forecast, GateFailure, Hindrance, Preview
from portero.core.nouns.probe_set import ProbeSet
from portero.service.directory import DirectoryKeeper
from portero.service.feeds.holdings import Holdings
from portero.service.roster import Obstacles, Roster
from portero.service.working import noting
from portero.store import activity, administrators, catalogue, device_lists, starts
from portero.store.database import Store
from portero.store.moments import moment

USE_SECONDS, USE_SINCE = 600.0, 14 * 86_400.0
"""How long it is kept how lists are used, and how far back that looks."""
KEPT_SECONDS = 60.0
SMALL_FLEET = 5_000
"""In a bigger one something changes all the time."""


class Foresight:
    """Looks ahead on copies in memory: nothing is kept, nobody waits for it."""

    def __init__(
        self, store: Store, roster: Roster, people: DirectoryKeeper, holdings: Holdings, clock: Callable[[], float]
    ) -> None:
        self._store, self._roster, self._people, self._holdings, self._clock = store, roster, people, holdings, clock
        self._programs: tuple[int, list[Application]] = (-1, [])
        self._matchers: deque[tuple[tuple[object, ...], Matcher]] = deque(maxlen=3)
        self._finding = threading.Lock()
        self._found: tuple[tuple[object, ...], Found, World] | None = None
        self._outcomes = Outcomes()
        self._uses: dict[str, tuple[int, ListUse]] = {}

    def programs(self) -> Sequence[Application]:
        """Every program that some device has, once."""
        state = self._roster.fleet.changes
        if self._programs[0] != state:
            with self._store.reading() as connection:
                self._programs = (state, device_lists.all_applications(connection))
        return self._programs[1]

    def installed(self) -> list[Application]:
        """Every version of a program in the catalogue that some device has: quick, however many devices there are."""
        with self._store.reading() as connection:
            return [application for _, application in catalogue.installed_versions(connection, {}).values()]

    def world(self) -> World:
        """What a state of the estate is looked at in."""
        roster = self._roster
        # before they are asked for: machines that come meanwhile are another state
        state = roster.fleet.state
        return World(
            members=roster.fleet.members(),
            groups=roster.fleet.groups_of,
            directory=self._people.directory,
            programs=self.programs,
            catalogue=roster.catalogue,
            now=moment(self._clock()),
            matcher=self.matcher,
            list_use=self._list_use,
            having=self._having,
            outcomes=self._outcomes,
            sorted=roster.fleet.classes,
            note=noting(),
            state=state,
        )

    def _list_use(self, ruleset: str, is_allowed: IsAllowed) -> ListUse:
        """How the sites of a list were used in the last two weeks. What was found stays for some minutes, but for what
        the list allows meanwhile.
        """
        minutes = int(self._clock() // USE_SECONDS)
        known = self._uses.get(ruleset)
        if known is None or known[0] != minutes:
            with self._store.reading() as connection:
                found = activity.list_use(connection, ruleset, is_allowed, self._clock() - USE_SINCE)
            known = self._uses[ruleset] = (minutes, found)
        return known[1]

    def _having(self, is_meant: Callable[[Application], bool]) -> dict[str, Having]:
        """Who has such programs, by program and version."""
        with self._store.reading() as connection:
            versions = catalogue.installed_versions(connection, {})
            names = {
                id: f"{entry.name} {application.version or ''}".strip()
                for id, (entry, application) in versions.items()
                if is_meant(application)
            }
            machines = catalogue.machines_with(connection, names)
            recent = starts.since(self._clock())
            by_name: dict[str, list[int]] = {}
            for id, name in names.items():
                by_name.setdefault(name, []).append(id)
            return {
                name: Having(
                    set().union(*(machines.get(id, ()) for id in own)), starts.use_of(connection, own, recent).people
                )
                for name, own in by_name.items()
            }

    def matcher(self, estate: Estate) -> Matcher:
        """An estate's matcher; those of the last few are kept, as the state in force is asked for again and again."""
        catalogue, index = self._roster.catalogue, self._holdings.index_in_force
        made_of = (catalogue, index, *Matcher.made_of(estate))
        for one in tuple(self._matchers):
            if _is_same(one[0], made_of):
                with contextlib.suppress(ValueError):
                    # what was not asked for the longest stands first, and goes first
                    self._matchers.remove(one)
                self._matchers.append(one)
                return one[1] if one[1].estate is estate else one[1].under(estate)
        made = Matcher(estate, index, catalogue, [kept for _, kept in tuple(self._matchers)])
        self._matchers.append((made_of, made))
        return made

    def preview(self, before: Estate, after: Estate, revision: int, sets: Sequence[ProbeSet] = ()) -> Preview:
        """What making the estate `after` would do, and what would become of probes."""
        state, world = self._state(before, revision), self.world()
        regrouping = self._roster.plan(after, self._clock())
        seen = look_ahead(before, after, regrouping.groups, world)
        now, seen_in = self._found_now(state, before, world)
        then = self._find(after, seen_in.once(regrouping.groups))
        had, has = ({item.id for item in found.items} for found in (now, then))
        with self._store.reading() as connection:
            rhythms = device_lists.rhythms(connection, (member.id for member in seen.touched))
        return Preview(
            revision=revision,
            summary=sentences.summary_of(seen.changes, ahead=True),
            changes=seen.changes,
            sentences=tuple(sentences.change_sentence(change, ahead=True) for change in seen.changes),
            devices=len(seen.touched),
            classes=seen.classes,
            fleet=len(world.members),
            verdicts=seen.verdicts,
            effects=seen.effects,
            losses=seen.losses,
            appearing=tuple(item for item in then.items if item.id not in had),
            settled=tuple(item for item in now.items if item.id not in has),
            hindrances=self._hindrances(after, seen, regrouping),
            taking_hold=taking_hold((rhythms.get(member.id) for member in seen.touched), self._clock()),
            gate=tuple(failures(before, after, regrouping.groups, world, self._holdings.index_in_force)),
            proof=tuple(forecasts(before, after, sets, regrouping.groups, world, self._holdings.index_in_force)),
        )

    def gate(self, before: Estate, after: Estate) -> list[GateFailure]:
        """The probes of the gate that making the estate `after` would fail."""
        if not after.settings.gate:
            return []
        moved = self._roster.plan(after, self._clock()).groups
        return failures(before, after, moved, self.world(), self._holdings.index_in_force)

    def forecasts(self, before: Estate, after: Estate, sets: Sequence[ProbeSet]) -> list[Forecast]:
        """What the estate means of probes, and would if it were `after`."""
        moved = self._roster.plan(after, self._clock()).groups
        return forecasts(before, after, sets, moved, self.world(), self._holdings.index_in_force)

    def compare_indexes(self, estate: Estate, indexes: Sequence[CategoryIndex], hosts: Iterable[str]) -> Shifted:
        """What becomes of these hosts where the second category index counts in place of the first."""
        matchers = [self.matcher(estate).seeing(index) for index in indexes]
        return look_at_hosts(hosts, estate, matchers, self.world())

    # --- findings ---

    def findings(self, estate: Estate, revision: int) -> Found:
        """What is to be settled now. What was found stays for a minute, unless the estate is another since; in a small
        fleet, unless a machine is.
        """
        with self._finding:
            # before it is looked at: what comes meanwhile is another state
            state = self._state(estate, revision)
            known = self._found_in(state)
            if known is None:
                world = self.world()
                known = self._keep(state, self._find(estate, world), world)
            return known[0]

    def _found_now(self, state: tuple[object, ...], estate: Estate, world: World) -> tuple[Found, World]:
        """What is to be settled under an estate, and what it was looked at in; kept where it is the one in force, as
        far as that is known.
        """
        known, found = self._found, self._found_in(state)
        if found is not None:
            return found
        if known is None or known[0][0] is estate or known[0][1] != state[1]:
            return self._keep(state, self._find(estate, world), world)
        return self._find(estate, world), world

    def _found_in(self, state: tuple[object, ...]) -> tuple[Found, World] | None:
        """What was found in a state, and what it was looked at in."""
        known = self._found
        return known[1:] if known is not None and _is_same(known[0], state) else None

    def _keep(self, state: tuple[object, ...], found: Found, world: World) -> tuple[Found, World]:
        self._found = (state, found, world)
        return found, world

    def _state(self, estate: Estate, revision: int) -> tuple[object, ...]:
        fleet = self._roster.fleet
        changes = fleet.changes if len(fleet) <= SMALL_FLEET else 0
        minute = int(self._clock() // KEPT_SECONDS)
        return estate, revision, self._holdings.index_in_force, self._people.directory, changes, minute

    def _find(self, estate: Estate, world: World) -> Found:
        with self._store.reading() as connection:
            signing_in = administrators.names(connection)
        people = {name.casefold() for name in signing_in}
        people.update(user.casefold() for user in world.directory.users)
        people.update(user.casefold() for group in world.directory.user_groups for user in group.users)
        return find_all(estate, world, people)

    def _hindrances(self, after: Estate, seen: Outlook, regrouping: Regrouping) -> tuple[Hindrance, ...]:
        obstacles, groups = Obstacles(after), self._roster.fleet.groups_of
        return hindrances(
            seen.tightened,
            hidden_content(seen.verdicts),
            lambda member: obstacles.of(member, regrouping.groups.get(member.id) or groups(member.id)),
            after.coverage_table,
        )


def _is_same(one: tuple[object, ...], other: tuple[object, ...]) -> bool:
    """Whether two states are made of the same: numbers by what they are, all else by whether it is the very one."""
    return len(one) == len(other) and all(
        mine is yours or (isinstance(mine, int) and mine == yours) for mine, yours in zip(one, other, strict=True)
    )
