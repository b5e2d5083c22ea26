"""All that is known of a host, put together."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from datetime import date

from portero.core import sentences
from portero.core.insight.effects.subjects import Subject
from portero.core.insight.indicators import has_ended
from portero.core.matching.categories import look_up
from portero.core.matching.feed_entries import FeedEntry
from portero.core.nouns.action import overridden
from portero.core.nouns.assignment import Assignment, State, target_name
from portero.core.nouns.base import Key
from portero.core.nouns.estate import Correction
from portero.core.nouns.lookup import (
    CorrectionSummary,
    FeedSays,
    HostLookup,
    ServiceNamed,
    TestHost,
    TouchingAssignment,
    TouchingRule,
)
from portero.core.nouns.taxonomy import UNCATEGORISED
from portero.core.nouns.urls import parse_visit
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.service.desk import Desk
from portero.store import activities, estates
from portero.store.estates import moment


def look_up_host(desk: Desk, asked: str) -> HostLookup:
    """What is known of a host or a URL. BadUrl."""
    visit, estate = parse_visit(asked), desk.snapshot.estate
    host = visit.host
    entry = look_up(host, desk.index, {one.host: one.categories for one in estate.corrections})
    with desk.store.reading() as connection:
        seen = activities.sightings(connection, host)
        correction = _correction(desk, connection, entry.host) if entry.source == "correction" else None
    service = next((one for one in estate.services if _is_at(host, one.hosts)), None)
    bare = visit.url in (f"http://{host}/", f"https://{host}/")
    return HostLookup(
        host=host,
        url=None if bare else visit.url,
        categories=entry.categories,
        entry=entry.host,
        source=entry.source,
        feeds=tuple(feeds_on(desk, host, entry.host if entry.source != "none" else None, entry.source == "correction")),
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
        rules=tuple(_rules(desk, visit.url, host)),
    )


def _is_at(host: str, hosts: tuple[str, ...]) -> bool:
    """Whether a host is one of those, or below one. The nearest counts, and a host is listed once."""
    return any(host == one or host.endswith("." + one) for one in hosts)


def feeds_on(desk: Desk, host: str, entry: str | None, corrected: bool) -> Iterator[FeedSays]:
    """The nearest entry at or above a host in each feed; whether it is the one that counts."""
    names = {one.key: one.name or one.key for one in desk.snapshot.estate.feeds}
    today, days = moment(desk.now()).date().toordinal(), desk.snapshot.estate.settings.newly_registered_days
    for key, file in desk.holdings.files_in_force(desk.snapshot.estate).items():
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


# --- corrections ---


def _correction(desk: Desk, connection: sqlite3.Connection, host: str | None) -> CorrectionSummary | None:
    found = next((one for one in desk.snapshot.estate.corrections if one.host == host), None)
    return next(_summaries(desk, connection, [found]), None) if found else None


def corrections(desk: Desk) -> list[CorrectionSummary]:
    """All corrections, with who made each and what feeds say."""
    with desk.store.reading() as connection:
        return list(_summaries(desk, connection, desk.snapshot.estate.corrections))


def _summaries(
    desk: Desk, connection: sqlite3.Connection, listed: list[Correction] | tuple[Correction, ...]
) -> Iterator[CorrectionSummary]:
    made = estates.last_made(connection, "correction", [one.host for one in listed])
    for one in listed:
        version, by, at = made.get(one.host, (0, None, None))
        said = look_up(one.host, desk.index, {}).categories
        yield CorrectionSummary(
            **dict(one), by=by, at=moment(at), feeds_say=() if said == (UNCATEGORISED,) else said, version=version
        )


# --- rules ---


def _rules(desk: Desk, url: str, host: str) -> Iterator[TouchingRule]:
    """The rules in force that match a visit, and those for other pages of its host."""
    estate, now = desk.snapshot.estate, moment(desk.now())
    cutter = desk.foresight.cutter(estate)
    shown = cutter.show(Subject("url", url, url))
    others, indicators, sites = cutter.contests(shown)
    met = dict.fromkeys((*indicators, *(one for contest in others for one in contest), *sites))
    places = {(one.ruleset, one.rule): False for one in met}
    places |= {(key, number): True for key, number in cutter.on_pages_of(host) if (key, number) not in places}
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
            action=rule.action,
            part=part,
            ended=has_ended(rule, now),
            assignments=tuple(
                TouchingAssignment(
                    assignment=one.key,
                    targets=tuple(map(target_name, one.to)),
                    action=overridden(rule.action, one.action),
                    mandatory=one.mandatory,
                    sentence=sentences.assignment_sentence(one, ruleset),
                )
                for one in putting.get(key, ())
            ),
        )
