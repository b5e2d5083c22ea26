"""All that is known of a host, put together."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Iterator
from datetime import date
from functools import lru_cache

from portero.core import sentences
from portero.core.insight.effects.subjects import Subject
from portero.core.insight.indicators import has_ended
from portero.core.insight.warnings import SeenBeside
from portero.core.matching.categories import look_up
from portero.core.matching.feed_entries import FeedEntry
from portero.core.nouns.action import overridden
from portero.core.nouns.assignment import Assignment, State, target_name
from portero.core.nouns.base import Key
from portero.core.nouns.correction import Correction, CorrectionSummary
from portero.core.nouns.estate import Estate
from portero.core.nouns.lookup import (
    FeedSays,
    HostLookup,
    ServiceNamed,
    TestHost,
    TouchingAssignment,
    TouchingRule,
)
from portero.core.nouns.rule import registrable_domain
from portero.core.nouns.taxonomy import UNCATEGORISED
from portero.core.nouns.urls import parse_visit
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.formats.index_files import IndexFile
from portero.service.feeds.holdings import Holdings
from portero.service.foresight import Foresight
from portero.service.state import Current, Snapshot
from portero.store import revisions, sightings
from portero.store.database import Store
from portero.store.moments import moment

MOST_BESIDE = 20


class Lookups:
    """Puts together what the index, feeds, corrections, activity and rules say of hosts."""

    def __init__(
        self, store: Store, current: Current, holdings: Holdings, foresight: Foresight, clock: Callable[[], float]
    ) -> None:
        self._store, self._current, self._holdings = store, current, holdings
        self._foresight, self._now = foresight, clock
        self._revision = lru_cache(maxsize=4096)(self._find_revision)

    def host(self, asked: str) -> HostLookup:
        """What is known of a host or a URL. BadUrl."""
        visit, snapshot = parse_visit(asked), self._current.snapshot
        estate = snapshot.estate
        host = visit.host
        entry = look_up(host, self._holdings.index_in_force, {one.host: one.categories for one in estate.corrections})
        with self._store.reading() as connection:
            seen = sightings.sightings(connection, host)
        correction = self._correction(snapshot, entry.host) if entry.source == "correction" else None
        service = next((one for one in estate.services if _is_at(host, one.hosts)), None)
        named, corrected = entry.host if entry.source != "none" else None, entry.source == "correction"
        bare = visit.url in (f"http://{host}/", f"https://{host}/")
        return HostLookup(
            host=host,
            url=None if bare else visit.url,
            categories=entry.categories,
            entry=entry.host,
            source=entry.source,
            feeds=tuple(self._feeds_on(estate, host, named, corrected)),
            correction=correction,
            service=ServiceNamed(
                key=service.key,
                name=service.name or service.key,
                decision=service.decision,
                suitability=service.suitability,
            )
            if service
            else None,
            newly_registered_days=estate.settings.newly_registered_days,
            test_hosts=tuple(
                TestHost(category=key, host=TAXONOMY.categories[key].test_host)
                for key in entry.categories
                if key in TAXONOMY.categories
            ),
            first_seen=moment(seen.first) if seen else None,
            last_seen=moment(seen.last) if seen else None,
            devices=seen.devices if seen else 0,
            visits=seen.visits if seen else 0,
            rules=tuple(self._rules(estate, visit.url, host)),
        )

    def beside(self, host: str) -> SeenBeside:
        """The other hosts of a host's domain that were seen, and on how many machines."""
        domain = registrable_domain(host)
        with self._store.reading() as connection:
            found = [other for other in sightings.hosts_within(connection, domain, MOST_BESIDE + 1) if other != host]
            found = found[:MOST_BESIDE]
            return SeenBeside(tuple(found), sightings.devices_that_saw(connection, found, 0.0) if found else 0)

    def _feeds_on(self, estate: Estate, host: str, entry: str | None, corrected: bool) -> Iterator[FeedSays]:
        """The nearest entry at or above a host in each feed; whether it is the one that counts."""
        names = {feed.key: feed.name or feed.key for feed in estate.feeds}
        today, days = moment(self._now()).date().toordinal(), estate.settings.newly_registered_days
        for key, file in self._holdings.files_in_force(estate).items():
            name = host
            while name:
                found = file.get(name)
                if found is not None:
                    said = FeedEntry(*found)
                    yield FeedSays(
                        feed=key,
                        name=names[key],
                        entry=name,
                        categories=said.counted(today, days),
                        since=date.fromordinal(said.since),
                        registered_on=date.fromordinal(said.registered) if said.registered else None,
                        counts=name == entry and not corrected,
                    )
                    break
                _, _, name = name.partition(".")

    def entries_of(self, feed: str) -> IndexFile | None:
        """What a feed of categories says by its generation in force."""
        return self._holdings.files_in_force(self._current.snapshot.estate).get(feed)

    def tell_correction(self, correction: Correction, version: int | None) -> CorrectionSummary:
        """A correction of that version, with who made it and what feeds say."""
        made = self._revision(version or 0)
        said = look_up(correction.host, self._holdings.index_in_force, {}).categories
        return CorrectionSummary(
            **dict(correction),
            by=made["by"] if made else None,
            at=moment(made["at"]) if made else None,
            feeds_say=() if said == (UNCATEGORISED,) else said,
            version=version or 0,
        )

    def _correction(self, snapshot: Snapshot, host: str | None) -> CorrectionSummary | None:
        found = next((correction for correction in snapshot.estate.corrections if correction.host == host), None)
        return self.tell_correction(found, snapshot.version("correction", found.host)) if found else None

    def _find_revision(self, number: int) -> sqlite3.Row | None:
        """Who made a revision, and when. What is committed never changes."""
        with self._store.reading() as connection:
            return revisions.last_changes(connection, [number]).get(number)

    def _rules(self, estate: Estate, url: str, host: str) -> Iterator[TouchingRule]:
        """The rules in force that match a visit, and those for other pages of its host."""
        now, matcher = moment(self._now()), self._foresight.matcher(estate)
        shown = matcher.show(Subject("url", url, url))
        places = {(matcher.ruleset_of(met), met.rule): False for met in matcher.meet(shown).rules()}
        places |= {(key, number): True for key, number in matcher.on_pages_of(host) if (key, number) not in places}
        putting: dict[Key, list[Assignment]] = {}
        for assignment in estate.assignments:
            if assignment.state is State.ACTIVE:
                putting.setdefault(assignment.ruleset, []).append(assignment)
        for (key, number), part in places.items():
            ruleset = estate.ruleset_by_key[key]
            rule = ruleset.rules[number - 1]
            yield TouchingRule(
                ruleset=key,
                kind=ruleset.kind,
                feed=ruleset.feed,
                number=number,
                selector=str(rule.selector),
                address_list=ruleset.address_list_of(number),
                action=rule.action,
                part=part,
                ended=has_ended(rule, now),
                assignments=tuple(
                    TouchingAssignment(
                        assignment=assignment.key,
                        targets=tuple(map(target_name, assignment.to)),
                        action=overridden(rule.action, assignment.action),
                        mandatory=assignment.mandatory,
                        sentence=sentences.assignment_sentence(assignment, ruleset),
                    )
                    for assignment in putting.get(key, ())
                ),
            )


def _is_at(host: str, hosts: tuple[str, ...]) -> bool:
    """Whether a host is one of those, or below one. The nearest counts, and a host is listed once."""
    return any(host == one or host.endswith("." + one) for one in hosts)
