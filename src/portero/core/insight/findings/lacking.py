"""Allow-only lists whose sites need hosts that they close: what is refused whenever the sites are open."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from portero.core import sentences
from portero.core.insight.effects.list_use import RefusedBeside
from portero.core.insight.effects.world import World
from portero.core.insight.findings.told import Told, finding
from portero.core.insight.site_lists import closes_everything, policy_of_ruleset
from portero.core.nouns.assignment import State
from portero.core.nouns.estate import Estate
from portero.core.nouns.finding import FindingKind, Severity
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.urls import parse_visit
from portero.core.resolving.deciding import weigh_sites
from portero.core.resolving.situations import Situation

LEAST_REFUSALS, LEAST_TOGETHER, LEAST_SHARE = 5, 20, 0.25
"""A host is told of that was refused so often, together with so many visits, and with such a share of all of them."""
MOST_HOSTS = 10


@dataclass(frozen=True)
class Lacking:
    """Looks at what was refused beside the sites of each allow-only list in force."""

    estate: Estate
    world: World

    def find(self) -> Iterator[Told]:
        """All of them."""
        in_force = {one.ruleset for one in self.estate.assignments if one.state is State.ACTIVE}
        for ruleset in self.estate.rulesets:
            if ruleset.kind == "site" and ruleset.key in in_force and any(map(closes_everything, ruleset.rules)):
                yield from self._of(ruleset)

    def _of(self, ruleset: Ruleset) -> Iterator[Told]:
        frame = policy_of_ruleset(ruleset).frame(Situation(at=self.world.now))

        def is_allowed(host: str) -> bool:
            return weigh_sites(frame, parse_visit(f"https://{host}/")).allows

        use = self.world.list_use(ruleset.key, is_allowed)
        lacking = [one for one in use.refused if _is_needed(one, use.opened) and not is_allowed(one.host)]
        if lacking:
            members = [member for member in self.world.members if member.id in use.devices]
            assigned = [one for one in self.estate.assignments if one.ruleset == ruleset.key]
            yield finding(
                FindingKind.LIST_LACKS_HOSTS,
                Severity.MEDIUM,
                (ruleset.key,),
                sentences.list_lacks(
                    ruleset.key, [(one.host, one.together) for one in lacking], use.opened, len(use.devices)
                ),
                assignments=[one.key for one in assigned],
                rulesets=(ruleset.key,),
                groups=tuple(dict.fromkeys(key for one in assigned for key in one.groups)),
                devices=members,
                hosts=[one.host for one in lacking[:MOST_HOSTS]],
                remedies=[("allow-hosts", {"ruleset": ruleset.key})],
            )


def _is_needed(one: RefusedBeside, opened: int) -> bool:
    return (
        one.refusals >= LEAST_REFUSALS
        and one.together >= LEAST_TOGETHER
        and one.together >= LEAST_SHARE * max(opened, 1)
    )
