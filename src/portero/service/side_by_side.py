"""One attempt in several places, over the fleet as it is."""

from __future__ import annotations

from datetime import datetime

from portero.core.insight import side_by_side
from portero.core.nouns.action import Verdict
from portero.core.nouns.compared import (
    AttemptAnywhere,
    EarlierCompared,
    FleetVerdicts,
    MachinesCompared,
    MachinesOfPerson,
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

    def now_and_then(self, tried: AttemptAnywhere, name: str, then: datetime) -> EarlierCompared:
        """What a machine does about it now and would have at a moment, with the revision and the facts of then.
        Refusal, BadUrl.
        """
        device = self._fleet.device(name)
        revision, asking = self._whys.asking_then(device, then)
        now, earlier = (ask(tried.on(name), Verdict.BLOCK) for ask in (self._whys.asking(device), asking))
        return side_by_side.now_and_earlier(now, self._estate.snapshot.revision, earlier, revision, then)

    def now_and_by_revision(self, tried: AttemptAnywhere, name: str, revision: int) -> EarlierCompared:
        """What a machine does about it now, and would as it is by an earlier revision. Refusal, BadUrl."""
        now = self._whys.asking(self._fleet.device(name))(tried.on(name), Verdict.BLOCK)
        earlier = side_by_side.by_earlier(now, self._estate.at(revision))
        return side_by_side.now_and_earlier(now, self._estate.snapshot.revision, earlier, revision, None)
