"""Rules in bulk: read from a file, weighed against what there is, searched, counted, cleaned up."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Literal, NamedTuple

from portero.core import sentences, wording
from portero.core.insight import indicators
from portero.core.insight.capacity import heaviest, loads
from portero.core.matching.indicators import IndicatorTable
from portero.core.nouns.estate import Estate
from portero.core.nouns.feed import BadLine
from portero.core.nouns.indicator import (
    CapacityUse,
    CleanUp,
    CleanUpItem,
    FoundIndicator,
    Hit,
    ImportReport,
    SetAside,
)
from portero.core.nouns.rule import SELECTORS, Rule
from portero.core.nouns.ruleset import MAX_RULES, Ruleset
from portero.core.nouns.selector import Selector
from portero.core.nouns.urls import Visit, address_of, parse_visit
from portero.formats.feed_files import BadFeed, RefusedLine
from portero.formats.rules_csv import read_rules
from portero.formats.stix import Defaults, LeftOut, StixRule, objects_of, read_objects
from portero.service.fleet import FleetKeeper
from portero.service.problems import Refusal
from portero.service.state import Current
from portero.store import activity, sightings
from portero.store import indicators as kept
from portero.store.database import Store
from portero.store.moments import moment

MOST_TOLD = 100
RECENT = timedelta(days=30)
MOST_URLS = 20_000
COUNT_SECONDS = 3600.0
"""How often indicators are counted, for the forecast."""
Format = Literal["csv", "stix"]


@dataclass
class Parcel:
    """What a file brings: rules with their lines, what was refused, what was kept aside."""

    rules: list[tuple[int, Rule]] = field(default_factory=list)
    files: list[Rule] = field(default_factory=list)
    """Rules for programs, which came among those for visits."""
    refused: list[RefusedLine] = field(default_factory=list)
    asides: list[LeftOut] = field(default_factory=list)
    duplicates: int = 0


def read_parcel(data: bytes, format: Format, ruleset: Ruleset, action: str | None, now: datetime) -> Parcel:
    """Read a file of rules that are meant for a ruleset. Refusal where the file as a whole is none."""
    parcel, seen = Parcel(), set[Selector]()
    try:
        for line, read in _csv(data, action) if format == "csv" else _stix(data, action, now):
            if isinstance(read, RefusedLine):
                parcel.refused.append(read)
            elif isinstance(read, LeftOut):
                parcel.asides.append(read)
            elif read.selector in seen:
                parcel.duplicates += 1
            else:
                seen.add(read.selector)
                _sort_in(parcel, line, read, ruleset)
    except BadFeed as problem:
        raise Refusal("bad-request", wording.as_sentence(str(problem))) from problem
    if len(parcel.rules) > MAX_RULES:
        raise Refusal("too-large", f"A ruleset holds {MAX_RULES:,} rules at most, and the file has more.")
    return parcel


def _csv(data: bytes, action: str | None) -> Iterator[tuple[int, Rule | RefusedLine]]:
    for read in read_rules([data], action):
        yield (read.number, read) if isinstance(read, RefusedLine) else read


def _stix(data: bytes, action: str | None, now: datetime) -> Iterator[tuple[int, Rule | LeftOut]]:
    defaults = Defaults(action or "block", now, may_allow=True)
    for number, read in enumerate(read_objects(objects_of(data), defaults), start=1):
        yield number, read.rule if isinstance(read, StixRule) else read


def _sort_in(parcel: Parcel, line: int, rule: Rule, ruleset: Ruleset) -> None:
    kind = rule.selector.kind
    if kind in SELECTORS[ruleset.kind]:
        parcel.rules.append((line, rule))
    elif kind == "sha256" and ruleset.kind == "indicator":
        parcel.files.append(rule)
    else:
        takes = ", ".join(SELECTORS[ruleset.kind])
        parcel.refused.append(
            RefusedLine(line, f"“{ruleset.key}” is of kind {ruleset.kind} and takes {takes}, not {kind}")
        )


def files_key(ruleset: str) -> str:
    """The key of the startup ruleset to which hashes of files go that came with indicators."""
    return f"{ruleset[:58]}-files"


def put_in(estate: Estate, ruleset: Ruleset, parcel: Parcel, replace: bool) -> Estate:
    """The estate with the rules in its ruleset, and hashes of files in a startup ruleset of the same name. Refusal."""
    made = merged(ruleset, [rule for _, rule in parcel.rules], replace)
    rulesets = [made if one.key == ruleset.key else one for one in estate.rulesets]
    if parcel.files:
        key = files_key(ruleset.key)
        had = estate.ruleset_by_key.get(key)
        if had is not None and had.kind != "startup":
            raise Refusal("invalid", f"Hashes of files go to the startup ruleset “{key}”, and that is another kind.")
        name = ruleset.name or ruleset.key
        files = merged(had or Ruleset(key=key, name=name, kind="startup"), parcel.files, replace)
        rulesets = [files if one.key == key else one for one in rulesets] if had else [*rulesets, files]
    return estate.replacing(rulesets=tuple(rulesets))


def merged(ruleset: Ruleset, rules: Sequence[Rule], replace: bool = False) -> Ruleset:
    """The ruleset with rules in place of those for the same, new ones at its end; to `replace` leaves nothing else."""
    new = {rule.selector: rule for rule in rules}
    if replace:
        kept_rules: Iterable[Rule] = new.values()
    else:
        kept_rules = [new.pop(rule.selector, rule) for rule in ruleset.rules]
        kept_rules = [*kept_rules, *new.values()]
    return _with_rules(ruleset, tuple(kept_rules))


def without(ruleset: Ruleset, gone: set[str]) -> Ruleset:
    """The ruleset without the rules of these selectors, as lists show them."""
    return _with_rules(ruleset, tuple(rule for rule in ruleset.rules if str(rule.selector) not in gone))


def _with_rules(ruleset: Ruleset, rules: tuple[Rule, ...]) -> Ruleset:
    if len(rules) > MAX_RULES:
        raise Refusal("too-large", f"A ruleset holds {MAX_RULES:,} rules at most; “{ruleset.key}” would have more.")
    return ruleset.model_copy(update={"rules": rules})


class IndicatorsKeeper:
    """Weighs, counts and cleans up what rulesets hold."""

    def __init__(self, store: Store, current: Current, fleet: FleetKeeper, clock: Callable[[], float]) -> None:
        self._store, self._current, self._fleet, self._now = store, current, fleet, clock
        self._counted_at = 0.0
        self._can_go: _CanGo | None = None

    def weigh(self, ruleset: Ruleset, parcel: Parcel, replace: bool, is_kept: bool) -> ImportReport:
        """What putting a parcel in comes to, against the estate without it."""
        estate, now = self._current.snapshot.estate, moment(self._now())
        there = {rule.selector: rule for rule in ruleset.rules}
        rules = [rule for _, rule in parcel.rules]
        new = [rule for rule in rules if rule.selector not in there]
        changed = [rule for rule in rules if rule.selector in there and there[rule.selector] != rule]
        number, told = indicators.overlaps(parcel.rules, estate, MOST_TOLD) if ruleset.kind == "indicator" else (0, [])
        hits = _Hits(self._store, rules, now - RECENT) if ruleset.kind == "indicator" else None
        after = put_in(estate, ruleset, parcel, replace)
        return ImportReport(
            ruleset=ruleset.key,
            rules=len(rules),
            new=len(new),
            changed=len(changed),
            unchanged=len(rules) - len(new) - len(changed),
            duplicates=parcel.duplicates,
            ended=sum(indicators.has_ended(rule, now) for rule in rules),
            removed=len(there.keys() - {rule.selector for rule in rules}) if replace else 0,
            overlapping=number,
            overlaps=tuple(told),
            refused=len(parcel.refused),
            refused_lines=tuple(BadLine(line=line.number, problem=line.problem) for line in parcel.refused[:MOST_TOLD]),
            aside=tuple(
                SetAside(name=aside.name, problem=aside.problem, at=now, document=aside.document)
                for aside in parcel.asides[:MOST_TOLD]
            ),
            set_aside=len(parcel.asides),
            files_ruleset=files_key(ruleset.key) if parcel.files else None,
            files=len(parcel.files),
            hits=tuple(hits.found[:MOST_TOLD]) if hits else (),
            hit_hosts=len(hits.found) if hits else 0,
            hit_devices=hits.devices if hits else 0,
            hit_visits=sum(hit.visits for hit in hits.found) if hits else 0,
            most=heaviest(after, self._fleet.members.combinations()).indicators,
            capacity=estate.settings.indicator_capacity,
            kept=is_kept,
        )

    # --- how many ---

    def capacity(self) -> CapacityUse:
        """What machines carry of what they may, how that grows, and when it is full."""
        estate, now = self._current.snapshot.estate, moment(self._now())
        fleet = self._fleet.members
        all_loads = loads(estate, fleet.combinations())
        most = max(all_loads, key=lambda load: load.indicators, default=None)
        groups = most.groups if most else ()
        full = {load.groups for load in all_loads if most and load.indicators == most.indicators}
        today = now.date().toordinal()
        with self._store.reading() as connection:
            days = kept.counts(connection, today - RECENT.days)
        carried = most.indicators if most else 0
        grows = _growth([*days, (today, carried)])
        left = estate.settings.indicator_capacity - carried
        full_in = left / grows if grows is not None and grows > 0 and left > 0 else (0.0 if left <= 0 else None)
        ending = sum(
            1
            for ruleset in estate.rulesets
            if ruleset.kind == "indicator"
            for rule in ruleset.rules
            if rule.valid_until is not None and now < rule.valid_until <= now + RECENT
        )
        return CapacityUse(
            capacity=estate.settings.indicator_capacity,
            most=carried,
            by_hand=most.by_hand if most else 0,
            by_feed=most.by_feed if most else 0,
            groups=groups,
            devices=sum(fleet.groups_of(member.id) in full for member in fleet),
            ending=ending,
            a_day=grows,
            full_in_days=full_in,
            sentence=sentences.capacity(carried, estate.settings.indicator_capacity, grows, full_in),
        )

    def count_hourly(self) -> None:
        """Count them once an hour, for the forecast."""
        if self._now() - self._counted_at > COUNT_SECONDS:
            self._counted_at = self._now()
            self.count()

    def count(self) -> None:
        """Keep how many there are today, on the machines that have most and in all by origin."""
        estate = self._current.snapshot.estate
        most = heaviest(estate, self._fleet.members.combinations()).indicators
        own = [ruleset for ruleset in estate.rulesets if ruleset.kind == "indicator"]
        hand, feed = (
            sum(len(ruleset.rules) for ruleset in own if (ruleset.feed is not None) is fed) for fed in (False, True)
        )
        with self._store.writing() as connection:
            kept.note_count(connection, moment(self._now()).date().toordinal(), most, hand, feed)

    # --- cleaning up ---

    def clean_up(self, reasons: Sequence[str], ruleset: str | None) -> tuple[CleanUp, list[CleanUpItem]]:
        """What can go for these reasons, the first thousand told; and all that is written by hand."""
        estate = self._current.snapshot.estate
        found = [
            item for item in self._what_can_go(estate) if item.reason in reasons and ruleset in (None, item.ruleset)
        ]
        own = [item for item in found if estate.ruleset_by_key[item.ruleset].feed is None]
        counts = {
            reason: sum(item.reason == reason for item in own) for reason in ("ended", "duplicate", "overshadowed")
        }
        return CleanUp(items=tuple(own[:1000]), **counts, from_feeds=len(found) - len(own)), own

    def _what_can_go(self, estate: Estate) -> Sequence[CleanUpItem]:
        """All that can go: looked for once, until the estate is another or something more has ended."""
        now = moment(self._now())
        known = self._can_go
        if known is None or known.estate is not estate or now >= known.until:
            ends = (rule.valid_until for one in estate.rulesets for rule in one.rules if rule.valid_until is not None)
            until = min((end for end in ends if end > now), default=datetime.max.replace(tzinfo=UTC))
            known = self._can_go = _CanGo(estate, until, tuple(indicators.clean_up(estate, now)))
        return known.items


class _CanGo(NamedTuple):
    """What can go of an estate until something more ends."""

    estate: Estate
    until: datetime
    items: Sequence[CleanUpItem]


class _Hits:
    """The hosts of recent activity that some of the rules would meet. Visits to test hosts are left out."""

    def __init__(self, store: Store, rules: Sequence[Rule], since: datetime) -> None:
        self._table: IndicatorTable[Rule] = IndicatorTable({})
        for rule in rules:
            if rule.selector.kind in indicators.PLACED:
                self._table.add(rule.selector, rule)
        after = since.timestamp()
        with store.reading() as connection:
            seen = dict(sightings.hosts_since(connection, after))
            met: dict[str, Rule] = {}
            for host in seen:
                if (found := self._met(Visit(f"http://{host}/", "http", host))) is not None:
                    met[host] = found
            pages = [host for host in seen if host not in met and self._table.looks_at_pages(host)]
            for url, host in activity.urls_since(connection, pages, after, MOST_URLS):
                if (found := self._met(parse_visit(url))) is not None:
                    met.setdefault(host, found)
            self.devices = sightings.devices_that_saw(connection, met.keys(), after)
        self.found = [
            Hit(
                host=host,
                selector=str(rule.selector),
                action=rule.action.value,
                devices=seen[host].devices,
                visits=seen[host].visits,
                last=moment(seen[host].last),
            )
            for host, rule in met.items()
        ]
        self.found.sort(key=lambda hit: (-hit.devices, -hit.visits, hit.host))

    def _met(self, visit: Visit) -> Rule | None:
        return next(iter(self._table.met_by(visit, address_of(visit.host))), None)


def found_in(ruleset: Ruleset, place: int, now: datetime, assigned: bool) -> FoundIndicator:
    """One rule as lists show it."""
    rule = ruleset.rules[place]
    return FoundIndicator(
        ruleset=ruleset.key,
        feed=ruleset.feed,
        number=place + 1,
        rule=rule,
        selector=str(rule.selector),
        address_list=ruleset.address_list_of(place + 1),
        assigned=assigned,
        ended=indicators.has_ended(rule, now),
    )


def _growth(days: Sequence[tuple[int, int]]) -> float | None:
    """How many more there are each day, from the first day to the last; None where that is not known yet."""
    (first, had), (last, have) = days[0], days[-1]
    return (have - had) / (last - first) if last > first else None
