"""What an application set catches on the fleet as it is now, and what an edit of it takes in and lets go."""

from __future__ import annotations

import sqlite3
from collections import defaultdict
from collections.abc import Callable, Collection, Mapping

from portero.core import sentences
from portero.core.matching.applications import SetTest, Started, catalogue_of
from portero.core.nouns.application_set import ApplicationSet
from portero.core.nouns.catalogue import CatalogueEntry, Catch, CaughtProgram
from portero.core.nouns.device import Application
from portero.core.nouns.estate import Estate
from portero.store import catalogue, starts
from portero.store.moments import moment
from portero.store.revisions import last_made
from portero.store.starts import ProgramUse

MOST_TOLD = 500
MOST_PEOPLE = 100
Versions = Mapping[int, tuple[CatalogueEntry, Application]]


def catch_of(
    connection: sqlite3.Connection, edited: ApplicationSet, estate: Estate, now: float, shown: Callable[[str], str]
) -> Catch:
    """What a set holds, saved or not: it is compared with the estate's of its key. `shown` is how a person is named."""
    sets, corrected = estate.application_set_by_key, estate.corrected_programs
    versions = catalogue.installed_versions(connection, corrected)
    categories = catalogue_of(application for _, application in versions.values())
    held = _held(edited, {**sets, edited.key: edited}, versions, categories, corrected)
    before = _held(sets[edited.key], sets, versions, categories, corrected) if edited.key in sets else set()
    machines = catalogue.machines_with(connection, held | before)
    recent = starts.since(now)

    def caught_of(some: Collection[int]) -> list[CaughtProgram]:
        return _caught(some, versions, machines, lambda own: starts.use_of(connection, own, recent))

    caught, use = caught_of(held), starts.use_of(connection, held, recent)
    written = last_made(connection, "application set", [edited.key]).get(edited.key) if before else None
    since = written[2] if written else None
    came = held & before & catalogue.versions_since(connection, since) if since is not None else set()
    devices = len(set().union(*(machines.get(version, set()) for version in held)))
    return Catch(
        programs=tuple(caught[:MOST_TOLD]),
        devices=devices,
        people=tuple(sorted(map(shown, use.people))[:MOST_PEOPLE]),
        people_in_all=len(use.people),
        adds=tuple(caught_of(held - before)[:MOST_TOLD]),
        releases=tuple(caught_of(before - held)[:MOST_TOLD]),
        came=tuple(caught_of(came)[:MOST_TOLD]),
        written_at=moment(since) if since is not None else None,
        sentence=sentences.catch([(one.name, one.devices) for one in caught], devices, len(use.people)),
    )


def started_programs(
    connection: sqlite3.Connection, estate: Estate, devices: Collection[str], since: float
) -> list[CaughtProgram]:
    """The programs of the catalogue that were started on some machines since a moment: on how many of these, and by how
    many people anywhere.
    """
    versions = catalogue.installed_versions(connection, estate.corrected_programs)
    started = starts.started_on(connection, devices, since) & versions.keys()
    machines = {version: had & set(devices) for version, had in catalogue.machines_with(connection, started).items()}

    def use_of(own: Collection[int]) -> ProgramUse:
        use = starts.use_of(connection, own, since)
        return use._replace(devices=use.devices & set(devices))

    return _caught(started, versions, machines, use_of)


def _held(
    one: ApplicationSet,
    sets: Mapping[str, ApplicationSet],
    versions: Versions,
    categories: Mapping[str, frozenset[str]],
    corrected: Mapping[str, str],
) -> set[int]:
    test = SetTest(one, sets)
    return {
        id
        for id, (_, application) in versions.items()
        if test.fit(Started.of(application, categories, corrected)).narrowness is not None
    }


def _caught(
    held: Collection[int],
    versions: Versions,
    machines: Mapping[int, set[str]],
    use_of: Callable[[Collection[int]], ProgramUse],
) -> list[CaughtProgram]:
    """Versions by their programs, those on most machines first."""
    by_program: dict[int, list[int]] = defaultdict(list)
    for version in sorted(held):
        by_program[versions[version][0].id].append(version)
    found = []
    for own in by_program.values():
        entry = versions[own[0]][0]
        use = use_of(own)
        told = dict.fromkeys(number for id in own if (number := versions[id][1].version) is not None)
        found.append(
            CaughtProgram(
                id=entry.id,
                name=entry.name,
                vendor=entry.vendor,
                category=entry.category,
                versions=tuple(told),
                devices=len(set().union(*(machines.get(version, set()) for version in own))),
                people=len(use.people),
                started_on=len(use.devices),
                condition=entry.condition,
            )
        )
    return sorted(found, key=lambda one: (-one.devices, one.name.casefold()))
