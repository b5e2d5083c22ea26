"""The fleet's machines by how they stand: those that fare alike whatever is tried, together."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Iterator
from ipaddress import ip_network

from portero.core.insight.predicting import Alike
from portero.core.insight.whys import WhyAsked
from portero.core.matching.members import Member
from portero.core.matching.membership_conditions import is_within
from portero.core.nouns.action import Verdict
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.estate import Estate
from portero.core.nouns.finding import DeviceName
from portero.core.nouns.probe_set import Probe
from portero.core.nouns.schedule import DEVICE_ZONE
from portero.service.fleet import FleetKeeper
from portero.service.whys import Whys
from portero.store.database import Store
from portero.store.device_standings import DeviceStanding, device_standings


class Standings:
    """Groups the fleet's machines by all that counts for what becomes of attempts on them."""

    def __init__(self, store: Store, fleet: FleetKeeper, whys: Whys, clock: Callable[[], float]) -> None:
        self._store, self._fleet, self._whys, self._now = store, fleet, whys, clock

    def alike(self, estate: Estate, probes: Iterable[Probe]) -> list[Alike]:
        """All machines that are not retired, by what counts for some probes."""
        with_browsers = any(probe.browser is not None for probe in probes)
        with self._store.reading() as connection:
            # a start of the browser itself counts where some rule stops programs
            starts_count = with_browsers and any(ruleset.kind == "startup" for ruleset in estate.rulesets)
            rows = list(device_standings(connection, self._now(), starts_count))
        together: dict[Hashable, list[DeviceStanding]] = {}
        counts = _What(estate, with_browsers)
        for row in rows:
            member = self._fleet.members.get(row.id)
            if member is not None:
                together.setdefault((*row.counts, *counts.of(member)), []).append(row)
        return list(self._standings(together.values()))

    def _standings(self, together: Iterable[list[DeviceStanding]]) -> Iterator[Alike]:
        for rows in together:
            groups = self._fleet.members.groups_of(rows[0].id)
            devices = tuple(DeviceName.model_construct(id=row.id, hostname=row.hostname) for row in rows)
            yield Alike(groups, devices, self._asking(rows[0].id))

    def _asking(self, id: str) -> Callable[[Attempt, Verdict], WhyAsked]:
        """Asks about attempts on a machine; what does not change with them is looked at once."""

        known: list[Callable[[Attempt, Verdict], WhyAsked]] = []

        def ask(attempt: Attempt, expected: Verdict) -> WhyAsked:
            if not known:
                known.append(self._whys.asking(self._fleet.device(id)))
            return known[0](attempt, expected)

        return ask


class _What:
    """What of a machine's own facts counts under an estate."""

    def __init__(self, estate: Estate, with_browsers: bool) -> None:
        self._with_browsers = with_browsers
        self._by_zone = any(schedule.zone == DEVICE_ZONE for schedule in estate.schedules)
        self._by_version = any(row.platform_from for row in estate.coverage_table.rows.values())
        self._gateways = [ip_network(network) for network in estate.settings.gateway_networks]
        self._restarts = estate.some_end_at_restarts
        self._named = estate.named_devices

    def of(self, member: Member) -> tuple[Hashable, ...]:
        """The facts that count."""
        facts = member.facts
        alone = member.id if self._restarts or self._is_named(member) else None
        return (
            facts.kind,
            facts.os if self._by_version else facts.platform,
            facts.layers,
            facts.layer_versions,
            facts.place,
            facts.zone if self._by_zone else facts.zone is None,
            facts.clock_ahead,
            member.browsers if self._with_browsers else None,
            self._at_gateway(facts.addresses),
            alone,
        )

    def _is_named(self, member: Member) -> bool:
        return member.id in self._named or (member.keeps_name and member.facts.hostname in self._named)

    def _at_gateway(self, addresses: tuple[str, ...]) -> bool:
        return any(is_within(address, network) for network in self._gateways for address in addresses)
