"""What needs a decision, most urgent first: gaps, findings, endings, stragglers, feeds."""

from __future__ import annotations

from collections.abc import Iterator
from heapq import nsmallest

from portero.core import sentences
from portero.core.nouns.epoch import EpochState
from portero.core.nouns.estate import Estate
from portero.core.nouns.finding import SEVERITIES, Finding, FindingKind, Findings, Severity
from portero.core.nouns.readiness import BlockerCode, BlockerCount
from portero.core.nouns.worklist import WorkItem, Worklist
from portero.core.sentences import runs as words
from portero.service.readiness import fleet_readiness
from portero.store import device_lists, feeds
from portero.store.database import Store
from portero.store.directory import waiting_directory
from portero.store.moments import moment
from portero.store.runs import list_runs

MOST_ITEMS = 60
_ENDS = (FindingKind.ENDING, FindingKind.ENDED)
_URGENT = (BlockerCode.LAYER_OFF, BlockerCode.CREDENTIAL_REVOKED, BlockerCode.LAYER_OBSERVING)
_TRIFLES = (BlockerCode.ZONE_MISSING, BlockerCode.CLOCK_OFF, BlockerCode.FACTS_STALE, BlockerCode.DUPLICATE_HOSTNAME)
_STRAGGLING = (BlockerCode.SILENT,)
LATE = 3600.0
"""Seconds after which a machine that has not taken its bundle is a straggler."""


def worklist(store: Store, estate: Estate, found: Findings, epoch: EpochState, now: float) -> Worklist:
    """What needs a decision now."""
    items = [
        *_ahead(epoch),
        *_gaps(store, estate, now),
        *_stragglers(store, now),
        *_runs(store, found.revision),
        *_feeds(store, estate),
        *_directory(store),
        *map(_of_finding, _most_urgent(found)),
    ]
    order = {"straggler": 0, "gap": 1, "run": 2, "feed": 3, "ending": 4, "finding": 5}
    items.sort(key=lambda item: (SEVERITIES.index(item.severity), order[item.kind], -(item.devices or 0)))
    return Worklist(revision=found.revision, items=tuple(items[:MOST_ITEMS]))


def _most_urgent(found: Findings) -> list[Finding]:
    """So many findings that are open as there can be items."""
    is_open = (item for item in found.items if item.is_open and item.kind is not FindingKind.BROAD)
    return nsmallest(
        MOST_ITEMS,
        is_open,
        key=lambda item: (SEVERITIES.index(item.severity), item.kind not in _ENDS, -(item.devices or 0)),
    )


def _ahead(epoch: EpochState) -> Iterator[WorkItem]:
    """Machines that hold what this service never had, and refuse it."""
    if epoch.problem:
        yield WorkItem(
            kind="straggler",
            severity=Severity.HIGH,
            sentence=epoch.problem + ".",
            devices=epoch.devices_ahead,
            next="Find out why, then begin another epoch: portero backup adopt.",
            link="/roll-out?state=failed",
        )


def _gaps(store: Store, estate: Estate, now: float) -> Iterator[WorkItem]:
    for blocker in fleet_readiness(store, estate, now, None, None).blockers:
        if blocker.code in _STRAGGLING:
            continue
        severity = (
            Severity.HIGH if blocker.code in _URGENT else Severity.LOW if blocker.code in _TRIFLES else Severity.MEDIUM
        )
        yield WorkItem(
            kind="gap",
            severity=severity,
            sentence=sentences.blocked_machines(blocker.code, blocker.layer, blocker.devices),
            devices=blocker.devices,
            next=blocker.remedy,
            link=_machines(blocker),
        )


def _machines(blocker_count: BlockerCount) -> str:
    return f"/fleet?blocker={blocker_count.code.value}" + (
        f"&layer={blocker_count.layer}" if blocker_count.layer else ""
    )


def _stragglers(store: Store, now: float) -> Iterator[WorkItem]:
    with store.reading() as connection:
        counts, late = device_lists.rollout_and_late(connection, now, LATE)
    for state, number, severity, todo in (
        ("failed", counts.failed, Severity.HIGH, "See why, machine by machine."),
        ("waiting", late, Severity.MEDIUM, "See which."),
        ("silent", counts.silent, Severity.MEDIUM, "See which."),
    ):
        if number:
            yield WorkItem(
                kind="straggler",
                severity=severity,
                sentence=sentences.straggling(state, number),
                devices=number,
                next=todo,
                link=f"/roll-out?state={state}",
            )


def _runs(store: Store, revision: int) -> Iterator[WorkItem]:
    """What the newest run that has ended found, and whether the estate was changed since."""
    with store.reading() as connection:
        newest = next((one for one in list_runs(connection, None, 5).items if one.state == "done"), None)
    if newest is not None and newest.failed:
        yield WorkItem(
            kind="run",
            severity=Severity.MEDIUM,
            sentence=words.run_failed(newest, revision),
            next="See which, and why." if newest.revision == revision else "Verify again, then see which, and why.",
            link=f"/verify/runs/{newest.id}",
            at=newest.at,
        )


def _feeds(store: Store, estate: Estate) -> Iterator[WorkItem]:
    """Feeds that wait to be looked at, and those that cannot be read."""
    with store.reading() as connection:
        known = feeds.statuses(connection)
    for feed in estate.feeds:
        status, name = known.get(feed.key), feed.name or feed.key
        if status is None:
            continue
        link = f"/controls/feeds/{feed.key}"
        if status.waiting is not None:
            told, todo = (
                sentences.feed_waits(name, status.waiting),
                "See what it changes, then take it or leave it out.",
            )
            yield WorkItem(kind="feed", severity=Severity.MEDIUM, sentence=told, next=todo, link=link)
        if status.poll is not None and status.poll.problem is not None:
            told, todo = sentences.feed_failed(name, status.poll.problem), "Mend its address or its credential."
            at = status.poll.at
            yield WorkItem(kind="feed", severity=Severity.MEDIUM, sentence=told, next=todo, link=link, at=at)


def _directory(store: Store) -> Iterator[WorkItem]:
    """A generation of the directory that waits to be looked at."""
    with store.reading() as connection:
        waiting = waiting_directory(connection)
    if waiting is not None:
        yield WorkItem(
            kind="feed",
            severity=Severity.MEDIUM,
            sentence=sentences.directory_waits(waiting),
            next="Find out why, then portero directory take, or drop.",
            link="/assignments",
            at=waiting.at,
        )


def _of_finding(finding: Finding) -> WorkItem:
    return WorkItem(
        kind="ending" if finding.kind in _ENDS else "finding",
        severity=finding.severity,
        sentence=finding.sentence,
        devices=finding.devices or None,
        next=finding.remedies[0].sentence
        if finding.remedies
        else "Look at it, and accept it with a reason or change it.",
        link=f"/verify/findings?finding={finding.id}",
        at=finding.at and moment(finding.at.timestamp()),
    )
