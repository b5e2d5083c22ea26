"""Every device on every occasion, one by one: slow, and with nothing between it and how machines decide."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime
from itertools import product
from typing import NamedTuple

from portero.core.insight.effects.circumstances import ON_SITE, Calendar, Circumstance, people_of
from portero.core.insight.effects.world import World
from portero.core.matching.classes import names_of
from portero.core.matching.members import Member
from portero.core.matching.membership_conditions import is_within
from portero.core.matching.windows import Windows
from portero.core.nouns.device import Kind
from portero.core.nouns.estate import Estate
from portero.core.resolving.compiling import compile_bundle
from portero.core.resolving.policy import Frame, Policy
from portero.core.resolving.situations import OFF_SITE


class Look(NamedTuple):
    """A circumstance, and what it comes to under each state of the estate."""

    circumstance: Circumstance
    frames: tuple[Frame, ...]
    to_gateway: tuple[bool, ...]


class Looked(NamedTuple):
    """A device, and every look at it."""

    member: Member
    policies: tuple[Policy, ...]
    looks: list[Look]


def every_device(estates: Sequence[Estate], worlds: Sequence[World], now: datetime) -> Iterator[Looked]:
    """Every device of a fleet under some states of the estate, each with the world that has its groups."""
    world = worlds[0]
    schedules = [(one.key, Windows.of(one)) for estate in estates for one in estate.schedules]
    calendar = Calendar(schedules, {at for estate in estates for at in instants_of(estate)}, now)
    people = people_of(estates, world.directory)
    for member in world.members:
        policies = tuple(
            Policy(compile_bundle(estate, one.groups(member.id), names_of(member)))
            for estate, one in zip(estates, worlds, strict=True)
        )
        yield Looked(member, policies, list(_looks(member, policies, estates, calendar, people)))


def _looks(member, policies, estates, calendar, people) -> Iterator[Look]:
    zone, is_server = member.facts.zone, member.facts.kind == Kind.SERVER
    behind = tuple(
        any(
            is_within(address, network)
            for network in estate.settings.gateway_networks
            for address in member.facts.addresses
        )
        for estate in estates
    )
    lasting = {one.key for policy in policies for one in policy.bundle.assignments if one.until_restart}
    ways = product(calendar.moments(zone), people, (OFF_SITE, ON_SITE), (False, True))
    for moment, person, place, restarted in ways:
        circumstance = Circumstance(moment, person, place, restarted, is_server)
        frames = tuple(policy.frame(circumstance.situation(zone, lasting)) for policy in policies)
        yield Look(circumstance, frames, tuple(place == ON_SITE and one for one in behind))


def instants_of(estate: Estate) -> Iterator[datetime]:
    """When something of an estate begins or ends."""
    for assignment in estate.assignments:
        yield from (at for at in (assignment.starts, assignment.ends) if at is not None)
        if assignment.hold_back is not None:
            yield from (one.at + assignment.hold_back for one in assignment.came)
    for ruleset in estate.rulesets:
        yield from (rule.valid_until for rule in ruleset.rules if rule.valid_until is not None)
