"""Generated estates with their fleet, as previews and findings look at them; and changed ones."""

from __future__ import annotations

from datetime import datetime
from typing import NamedTuple

from made_estates import BASE, INDEX, Maker
from portero.core.insight.effects.matcher import Matcher
from portero.core.insight.effects.subjects import ELSEWHERE
from portero.core.insight.effects.world import World
from portero.core.insight.offline import OfflineEstate
from portero.core.matching.applications import catalogue_of
from portero.core.matching.categories import MemoryIndex
from portero.core.matching.members import Member, facts_from
from portero.core.matching.membership import Membership
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.estate import Estate, FactsDocument
from portero.core.nouns.layer import LayerMode

# search terms and media types are looked at on a page of which nothing else is known, not even a category
HOSTS = MemoryIndex({**INDEX, ELSEWHERE: ()})


class Fleet(NamedTuple):
    """A facts document as a fleet."""

    document: FactsDocument
    members: list[Member]

    @classmethod
    def of(cls, facts: dict) -> Fleet:
        document = FactsDocument.model_validate(facts)
        return cls(
            document, [Member(device.hostname, facts_from(device), device.labels) for device in document.devices]
        )

    def groups(self, estate: Estate, now: datetime = BASE) -> dict[str, tuple[str, ...]]:
        membership = Membership(estate.groups, estate.group_order)
        return {member.id: membership.groups_of(member, now) for member in self.members}

    def world(self, estate: Estate, now: datetime = BASE) -> World:
        groups = self.groups(estate, now)
        programs = [application for device in self.document.devices for application in device.applications]
        return World(
            members=self.members,
            groups=lambda id: groups.get(id, ()),
            directory=self.document.directory,
            programs=lambda: programs,
            catalogue=catalogue_of(programs),
            now=now,
            matcher=lambda one: Matcher(one, HOSTS, catalogue_of(programs)),
        )

    def offline(self, estate: Estate) -> OfflineEstate:
        return OfflineEstate(estate, self.document, HOSTS, BASE)


def word(offline: OfflineEstate, attempt: dict) -> str:
    """The intended verdict of an attempt; `log` where it is let through and recorded."""
    intended = offline.explain(Attempt.model_validate(attempt)).intended
    logged = any(layer.logged for layer in intended.layers)
    return "log" if intended.verdict == "allow" and logged else intended.verdict.value


def made(seed: int) -> tuple[Maker, Estate, Fleet]:
    """A generated estate with its fleet; no machine has ever restarted."""
    maker = Maker(seed)
    estate, facts = Estate.model_validate(maker.estate()), maker.facts()
    for device in facts["devices"]:
        device.pop("last_start", None)
    assert not list(estate.faults())
    return maker, estate, Fleet.of(facts)


def changed(maker: Maker, estate: Estate, seed: int) -> Estate:
    """The estate with one or two parts as another generated one has them, as far as they fit."""
    other = Estate.model_validate(Maker(seed).estate())
    rng = maker.rng
    parts: dict = {}
    for part in rng.sample(
        ["rulesets", "assignments", "groups", "precedence", "schedules", "corrections", "sets", "purposes"], 2
    ):
        name = {"sets": "application_sets", "purposes": "application_corrections"}.get(part, part)
        if name == "assignments":
            few = list(estate.assignments)
            rng.shuffle(few)
            parts[name] = tuple(few[: max(1, len(few) - 2)])
        else:
            parts[name] = getattr(other, name)
    after = estate.replacing(**parts)
    if rng.random() < 0.3:
        layers = estate.settings.layers.model_copy(update={"filter": LayerMode.OBSERVING})
        after = after.replacing(settings=estate.settings.model_copy(update={"layers": layers}))
    return after if not list(after.faults()) else estate.replacing(assignments=estate.assignments[1:])
