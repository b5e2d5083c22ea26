"""Where a change will not hold, and when it will have taken hold."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from math import ceil

from portero.core import sentences
from portero.core.insight.readiness import NOT_IN_THE_WAY, Obstacle
from portero.core.matching.members import Member, Shared
from portero.core.nouns.coverage import CoverageTable, Reach
from portero.core.nouns.device import Lifecycle
from portero.core.nouns.layer import Layer
from portero.core.nouns.preview import Hindrance, TakingHold, VerdictChange
from portero.core.nouns.readiness import BlockerCode
from portero.core.nouns.urls import UrlPattern

FEW = 12
_PARTS = (("half", 0.5), ("most", 0.9), ("all", 1.0))
"""Of how many machines it is told when they will have fetched something."""
_ABSENT = {Lifecycle.INVITED: BlockerCode.NEVER_JOINED, Lifecycle.SILENT: BlockerCode.SILENT}


def hindrances(
    tightened: Mapping[Layer, Mapping[str, Member]],
    hidden_content: Iterable[str],
    obstacles_of: Callable[[Member], Iterable[Obstacle]],
    coverage: CoverageTable,
) -> tuple[Hindrance, ...]:
    """Why what is stopped on these machines, by layer, will not really be stopped; on the most machines first.

    `hidden_content` are the codes of what of a visit does not show over https, where some rule looks at it.
    """
    found: dict[tuple[str, str | None], list[str]] = defaultdict(list)
    seen: set[str] = set()
    for layer, members in tightened.items():
        for member in members.values():
            absent = _ABSENT.get(Lifecycle(member.lifecycle))
            if absent is not None:
                if member.id not in seen:
                    found[absent, None].append(member.facts.hostname)
                seen.add(member.id)
                continue
            codes = {
                obstacle.code
                for obstacle in obstacles_of(member)
                if obstacle.layer == layer and obstacle.code not in NOT_IN_THE_WAY
            }
            for code in codes:
                found[code, layer.value].append(member.facts.hostname)
    codes_hidden = list(hidden_content)
    if codes_hidden:
        shows_hosts = host_only(coverage)
        names = [member.facts.hostname for member in tightened.get(Layer.FILTER, {}).values() if shows_hosts(member)]
        for hidden in codes_hidden if names else ():
            found[hidden, Layer.FILTER.value] = names
    told = [_told(code, layer, names) for (code, layer), names in found.items()]
    return tuple(sorted(told, key=lambda hindrance: (-hindrance.devices, hindrance.code, hindrance.layer or "")))


def host_only(coverage: CoverageTable) -> Callable[[Member], bool]:
    """Tells whether some browser of a machine shows the filter only the host over https."""

    known: dict[tuple[Shared | None, str | None], bool] = {}

    def shows(member: Member) -> bool:
        key = (member.browsers, member.facts.platform)
        found = known.get(key)
        if found is None:
            names = [browser.name for browser in member.facts.browsers]
            reaches = [coverage.reach("filter", name, key[1], "https") for name in names]
            found = known[key] = Reach.HOST in reaches
        return found

    return shows


def hidden_content(verdicts: Iterable[VerdictChange]) -> Iterator[str]:
    """The codes of what of a visit does not show over https, where what is stopped hangs on it."""
    stopped = [verdict for verdict in verdicts if verdict.effect in ("stopped", "warned")]
    urls = [verdict.subject.removeprefix("url ") for verdict in stopped if verdict.subject.startswith("url ")]
    if any(not UrlPattern.read(url, exact=False).is_whole_host for url in urls):
        yield "path-hidden"
    if any(verdict.subject.startswith(("search_term ", "media_type ")) for verdict in stopped):
        yield "content-hidden"


def _told(code: str, layer: str | None, names: Sequence[str]) -> Hindrance:
    if code in ("path-hidden", "content-hidden"):
        detail, remedy = sentences.hidden(code, len(names))
    else:
        detail = sentences.blocked_machines(BlockerCode(code), layer, len(names))
        remedy = sentences.blocker(BlockerCode(code), layer).remedy
    return Hindrance(
        code=code,
        layer=Layer(layer) if layer else None,
        devices=len(names),
        detail=detail,
        remedy=remedy,
        examples=tuple(sorted(names)[:FEW]),
    )


def taking_hold(rhythms: Iterable[tuple[float, float | None] | None], now: float) -> TakingHold:
    """When machines will have fetched something. Each is given with when it was last heard of and its usual interval
    in seconds; None for one that is silent, or never heard of.
    """
    waits, unheard, devices = [], 0, 0
    for rhythm in rhythms:
        devices += 1
        if rhythm is None or rhythm[1] is None:
            unheard += 1
        else:
            last, interval = rhythm[0], rhythm[1]
            waits.append(max(0.0, last + interval - now))
    waits.sort()
    quantiles = {name: waits[max(0, ceil(len(waits) * part) - 1)] for name, part in _PARTS} if waits else {}
    return TakingHold(
        devices=devices,
        unheard=unheard,
        sentence=sentences.taking_hold(devices, quantiles.get("most"), unheard),
        **quantiles,
    )
