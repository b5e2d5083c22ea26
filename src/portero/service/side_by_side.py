"""One attempt in several places, over the fleet as it is."""

from __future__ import annotations

from portero.core.insight import side_by_side
from portero.core.nouns.action import Verdict
from portero.core.nouns.compared import (
    AttemptAnywhere,
    FleetVerdicts,
    MachinesCompared,
    MachinesOfPerson,
    RevisionsCompared,
)
from portero.core.nouns.probe_set import Probe
from portero.service.estate import EstateKeeper
from portero.service.fleet import FleetKeeper
from portero.service.problems import Refusal
from portero.service.standings import Standings
from portero.service.whys import Whys

MOST_MACHINES = 200
"""So many machines of a person are told."""


class SideBySide:
    """Compares what becomes of one attempt in several places."""

    def __init__(self, estate: EstateKeeper, fleet: FleetKeeper, whys: Whys, standings: Standings) -> None:
        self._estate, self._fleet, self._whys, self._standings = estate, fleet, whys, standings

    def over_groups(self, tried: AttemptAnywhere) -> FleetVerdicts:
        """What all machines would do, group by group. BadUrl."""
        snapshot = self._estate.snapshot
        probe = Probe(visit=tried.url, start=tried.start, browser=tried.browser, expect=Verdict.BLOCK)
        machines = self._standings.alike(snapshot.estate, [probe])
        items = side_by_side.over_groups(tried, machines, snapshot.estate.group_order)
        return FleetVerdicts(revision=snapshot.revision, items=items)

    def two_machines(self, tried: AttemptAnywhere, first: str, second: str) -> MachinesCompared:
        """What two machines would do, and what of their differences decides. Refusal, BadUrl."""
        asked = [self._whys.asking(self._fleet.device(name))(tried.on(name), Verdict.BLOCK) for name in (first, second)]
        return side_by_side.two_machines(*asked)

    def machines_of(self, tried: AttemptAnywhere) -> MachinesOfPerson:
        """What the machines on which a person is signed in would do about an attempt of theirs. Refusal, BadUrl."""
        if tried.user is None:
            raise Refusal("invalid", "Say whose machines: send a user along.")
        folded = tried.user.casefold()
        own = [
            member.id
            for member in self._fleet.members
            if any(name.casefold() == folded for name in member.facts.signed_in)
        ]
        items = []
        for id in own[:MOST_MACHINES]:
            device = self._fleet.device(id)
            items.append(side_by_side.verdict_on(self._whys.asking(device)(tried.on(id), Verdict.BLOCK)))
        return MachinesOfPerson(user=tried.user, items=tuple(sorted(items, key=lambda one: one.device)))

    def now_and_earlier(self, tried: AttemptAnywhere, device: str, revision: int) -> RevisionsCompared:
        """What is meant on a machine now and was at a revision. Refusal, BadUrl."""
        found = self._fleet.device(device)
        asked = self._whys.asking(found)(tried.on(device), Verdict.BLOCK)
        now = self._estate.snapshot.revision
        return side_by_side.now_and_earlier(asked, now, self._estate.at(revision), revision)
