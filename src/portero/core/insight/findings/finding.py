"""All findings of an estate: what contests show, and what shows by itself; the most urgent first."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from typing import NamedTuple

from portero.core.insight.effects.world import World
from portero.core.insight.findings.alone import Alone
from portero.core.insight.findings.contests import hold_contests
from portero.core.insight.findings.lacking import Lacking
from portero.core.insight.findings.lists import BrowserLists
from portero.core.insight.findings.met import Met
from portero.core.insight.findings.presence import Presence
from portero.core.insight.findings.undone import Undone
from portero.core.insight.findings.unenforceable import Unenforceable
from portero.core.matching.members import Member
from portero.core.nouns.estate import Estate
from portero.core.nouns.finding import SEVERITIES, Finding


class Found(NamedTuple):
    """The findings, with their machines."""

    items: tuple[Finding, ...]
    devices: Mapping[str, Collection[Member]]
    """All devices that each finding is about, by its id."""


def find_all(estate: Estate, world: World, known_people: Collection[str] = ()) -> Found:
    """Every finding of the estate, the most urgent first, then on the most machines."""
    alone = Alone(estate, world, known_people)
    told = [*alone.find(), *Undone(estate, world, alone.puts).find(), *BrowserLists(estate, world).find()]
    told += Unenforceable(estate, world, alone.puts).find()
    told += [*Lacking(estate, world).find(), *Presence(estate, world).find()]
    told += Met(estate, world, alone.puts, hold_contests(estate, world, world.matcher(estate))).find()
    told.sort(key=lambda put: (SEVERITIES.index(put.finding.severity), -put.finding.devices, put.finding.id))
    items = tuple(put.finding for put in told)
    return Found(items, {put.finding.id: put.devices for put in told})
