"""Which indicators a visit meets: by URL, host, service, address, decision and suitability."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from ipaddress import ip_address
from typing import Generic, NamedTuple, TypeVar

from portero.core.nouns.selector import Selector, suitability_bounds
from portero.core.nouns.urls import UrlPattern, Visit, address_of, normal_range

Item = TypeVar("Item")


class ServiceFacts(NamedTuple):
    """A service as indicators look at it."""

    key: str
    decision: str
    suitability: int | None


class _AtHost(Generic[Item]):
    """What is said of one host: of itself alone, of all below it too, and of URLs on it.

    Nearly all of a hundred thousand hosts have a single item, so only what a host has is made for it.
    """

    __slots__ = ("alone", "below", "exact_urls", "urls")

    def __init__(self) -> None:
        self.alone: list[Item] | None = None
        self.below: list[Item] | None = None
        self.urls: dict[str, list[tuple[UrlPattern, Item]]] | None = None
        self.exact_urls: dict[tuple[str, str], list[tuple[UrlPattern, Item]]] | None = None

    @property
    def number(self) -> int:
        """How many items there are."""
        urls = [*(self.urls or {}).values(), *(self.exact_urls or {}).values()]
        return len(self.alone or ()) + len(self.below or ()) + sum(map(len, urls))

    def add(self, item: Item, exact: bool) -> None:
        """Put an item on the host."""
        had = self.alone if exact else self.below
        if had is not None:
            had.append(item)
        elif exact:
            self.alone = [item]
        else:
            self.below = [item]

    def add_url(self, pattern: UrlPattern, item: Item) -> None:
        """Put an item on a URL."""
        if pattern.exact:
            self.exact_urls = self.exact_urls or {}
            self.exact_urls.setdefault((pattern.path, pattern.query), []).append((pattern, item))
        else:
            self.urls = self.urls or {}
            self.urls.setdefault(pattern.path, []).append((pattern, item))


class IndicatorTable(Generic[Item]):
    """Items by their selectors. What a visit meets costs a look-up a label of its host, whatever there is."""

    def __init__(self, services: Mapping[str, tuple[Iterable[str], ServiceFacts]]) -> None:
        """`services` gives each service's hosts and facts, by key."""
        self._hosts: dict[str, _AtHost[Item]] = {}
        self._services = {host: facts for hosts, facts in services.values() for host in hosts}
        self._of_service: dict[str, list[Item]] = {}
        self._decisions: dict[str, list[Item]] = {}
        self._suitability: list[tuple[int, int, Item]] = []
        self._ranges: dict[tuple[int, int], dict[int, list[Item]]] = {}
        """By IP version and length of prefix: items by network."""
        self._included: list[_Included[Item]] = []

    def include(self, table: IndicatorTable[int], item_of: Callable[[int], Item]) -> None:
        """Have all of a table that others have too: its items are numbers, of which each is made one of this table's
        when it is first met. It must know no services.
        """
        self._included.append(_Included(table, item_of))

    def add(self, selector: Selector, item: Item) -> None:
        """Put an item under its selector."""
        kind, value, exact = selector
        if kind == "host":
            self._at(value).add(item, exact)
        elif kind == "url":
            pattern = UrlPattern.read(value, exact)
            self._at(pattern.host).add_url(pattern, item)
        elif kind == "address":
            network = normal_range(value)
            by_network = self._ranges.setdefault((network.version, network.prefixlen), {})
            by_network.setdefault(int(network.network_address), []).append(item)
        elif kind == "service":
            self._of_service.setdefault(value, []).append(item)
        elif kind == "decision":
            self._decisions.setdefault(value, []).append(item)
        else:
            self._suitability.append((*suitability_bounds(value), item))

    def _at(self, host: str) -> _AtHost[Item]:
        found = self._hosts.get(host)
        if found is None:
            found = self._hosts[host] = _AtHost()
        return found

    def service_of(self, host: str) -> ServiceFacts | None:
        """The service whose listed host is the nearest at or above a host."""
        services, name = self._services, host
        while services and name:
            found = services.get(name)
            if found is not None:
                return found
            _, _, name = name.partition(".")
        return None

    def looks_at_pages(self, host: str) -> bool:
        """Whether more than the host of a visit to it counts: some URL on it is named."""
        at = self._hosts.get(host)
        if at is not None and (at.urls or at.exact_urls):
            return True
        return any(one.table.looks_at_pages(host) for one in self._included)

    def is_lonely(self, host: str) -> bool:
        """Whether of all that is named no more than one thing can be met on a host, or on one below it that nothing
        names. Where that is not told by the host alone, it is not said.
        """
        if address_of(host) is not None or self.service_of(host) is not None:
            return False
        number = self._number_above(host) + sum(one.table._number_above(host) for one in self._included)
        return number <= 1

    def _number_above(self, host: str) -> int:
        """How much is named of a host, and of those above it for what is below them."""
        at = self._hosts.get(host)
        number = at.number if at is not None else 0
        while host:
            _, _, host = host.partition(".")
            above = self._hosts.get(host)
            number += len(above.below or ()) if above is not None else 0
        return number

    def on_pages_of(self, host: str) -> Iterator[Item]:
        """All that URLs on a host are named for."""
        at = self._hosts.get(host)
        for urls in (at.urls, at.exact_urls) if at is not None else ():
            for found in urls.values() if urls else ():
                yield from (item for _, item in found)
        for one in self._included:
            yield from map(one.item, one.table.on_pages_of(host))

    def met_by(self, visit: Visit, address: str | None, page: bool = True) -> list[Item]:
        """All that a visit meets. Where not the page but only the host is seen, what needs the page is not met."""
        hosts, host = self._hosts, visit.host
        found: list[Item] = []
        if hosts:
            at = hosts.get(host)
            if at is not None:
                found += at.alone or ()
                found += at.below or ()
                if at.urls or at.exact_urls:
                    found += _met_urls(at, visit, page)
            dot = host.find(".")
            while dot >= 0:
                at = hosts.get(host[dot + 1 :])
                if at is not None and at.below:
                    found += at.below
                dot = host.find(".", dot + 1)
        if address is not None and self._ranges:
            found += self._in_ranges(address)
        if self._services:
            found += self._by_service(host)
        for one in self._included:
            found += map(one.item, one.table.met_by(visit, address, page))
        return found

    def _in_ranges(self, address: str) -> list[Item]:
        parsed = ip_address(address)
        number = int(parsed)
        found: list[Item] = []
        for (version, length), by_network in self._ranges.items():
            if version == parsed.version:
                rest = parsed.max_prefixlen - length
                found += by_network.get(number >> rest << rest, ())
        return found

    def _by_service(self, host: str) -> list[Item]:
        service = self.service_of(host)
        if service is None:
            return []
        found = [*self._of_service.get(service.key, ()), *self._decisions.get(service.decision, ())]
        if service.suitability is not None:
            found += [item for low, high, item in self._suitability if low <= service.suitability <= high]
        return found


class _Included(Generic[Item]):
    """A table that others have too, and what was met of it."""

    __slots__ = ("_made", "_make", "table")

    def __init__(self, table: IndicatorTable[int], make: Callable[[int], Item]) -> None:
        self.table, self._make = table, make
        self._made: dict[int, Item] = {}

    def item(self, number: int) -> Item:
        """The item of a number: the same one whenever it is met."""
        found = self._made.get(number)
        return self._made.setdefault(number, self._make(number)) if found is None else found


def _met_urls(at: _AtHost[Item], visit: Visit, page: bool) -> list[Item]:
    rest, urls = visit.rest, at.urls or {}
    if not page:
        # of the page nothing is known: only what holds for every page of the host is met
        return [item for pattern, item in urls.get("", ()) if pattern.matches(rest, visit.scheme)]
    candidates = [*at.exact_urls.get((rest.path, rest.query), ())] if at.exact_urls else []
    path = rest.path
    while True:
        candidates += urls.get(path, ())
        if not path:
            break
        path = path[: path.rindex("/")]
    return [item for pattern, item in candidates if pattern.matches(rest, visit.scheme)]
