"""What keeps a device's layers from really enforcing."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from datetime import UTC, datetime
from typing import NamedTuple

from portero.core import sentences
from portero.core.insight.site_lists import list_in_force
from portero.core.matching.members import Item, MemberFacts
from portero.core.nouns.assignment import State
from portero.core.nouns.browser_policy import PolicyFileState, TamperingKind
from portero.core.nouns.coverage import Control, CoverageTable, ListSupport
from portero.core.nouns.estate import Estate
from portero.core.nouns.layer import LAYERS, LayerMode, LayerName
from portero.core.nouns.readiness import ORDER, Blocker, BlockerCode, LayerReadiness, Readiness
from portero.core.nouns.versions import is_older
from portero.core.resolving.enforcement import overriding
from portero.core.resolving.policy import SiteList
from portero.core.wording import counted

NOT_IN_THE_WAY = frozenset(
    (
        BlockerCode.ZONE_MISSING,
        BlockerCode.CLOCK_OFF,
        BlockerCode.FACTS_STALE,
        BlockerCode.DUPLICATE_HOSTNAME,
        BlockerCode.REJOIN_WAITING,
        BlockerCode.LIST_TRUNCATED,
        BlockerCode.PATTERN_CHANGED,
        BlockerCode.RESTART_NEEDED,
        BlockerCode.TAMPERED,
    )
)
"""What should be mended but keeps no layer from enforcing."""

_CONTROL: dict[LayerName, Control] = {"filter": "filter", "browser": "site-list", "startup": "startup"}


class Obstacle(NamedTuple):
    """A blocker before it is put into words: what, of which layer, about what in particular."""

    code: BlockerCode
    layer: LayerName | None = None
    about: str | None = None

    @property
    def rank(self) -> int:
        """Its place in the order of mending."""
        return ORDER[self.code]


def obstacles(
    facts: MemberFacts, modes: Mapping[LayerName, LayerMode], coverage: CoverageTable, sites: SiteList | None = None
) -> tuple[Obstacle, ...]:
    """What a device's own facts put in the way of the layers that are meant to enforce, in the order of mending; with
    what its browsers make of its site list, where it has one.

    What depends on time or on other devices (silent, stale, doubled) is not among them.
    """
    meant = [layer for layer in LAYERS if modes[layer] is LayerMode.ENFORCING]
    found = [obstacle for layer in meant for obstacle in _of_layer(layer, facts, coverage)]
    if "browser" in meant:
        found += _of_browsers(facts, coverage, sites)
    if facts.zone is None:
        found.append(Obstacle(BlockerCode.ZONE_MISSING))
    if facts.clock_ahead is not None:
        found.append(Obstacle(BlockerCode.CLOCK_OFF, about=sentences.clock_off_by(facts.clock_ahead)))
    return tuple(sorted(found, key=lambda obstacle: obstacle.rank))


def _of_layer(layer: LayerName, facts: MemberFacts, coverage: CoverageTable) -> Iterator[Obstacle]:
    state = getattr(facts.layers, layer)
    if state is None:
        yield Obstacle(BlockerCode.LAYER_NOT_REPORTED, layer)
    elif state == LayerMode.OFF:
        yield Obstacle(BlockerCode.LAYER_OFF, layer)
    elif state == LayerMode.OBSERVING:
        yield Obstacle(BlockerCode.LAYER_OBSERVING, layer)
    row = coverage.row(_CONTROL[layer], None, facts.platform)
    version = getattr(facts.layer_versions, layer)
    if row and is_older(version, row.layer_from):
        yield Obstacle(BlockerCode.LAYER_TOO_OLD, layer, f"{version}, and {row.layer_from} is needed")
    if row and facts.os and is_older(facts.os.version, row.platform_from):
        about = f"{facts.os.family} {facts.os.version}, and {row.platform_from} is needed"
        yield Obstacle(BlockerCode.PLATFORM_TOO_OLD, layer, about)


def _of_browsers(facts: MemberFacts, coverage: CoverageTable, sites: SiteList | None) -> Iterator[Obstacle]:
    for browser in facts.browsers:
        row = coverage.row("site-list", browser.name, facts.platform)
        if row is None or not coverage.governs(browser.name, browser.managed, facts.platform):
            yield Obstacle(BlockerCode.BROWSER_UNMANAGED, "browser", _named(browser))
        elif is_older(browser.version, row.browser_from):
            about = f"{_named(browser)}, and {row.browser_from} is needed"
            yield Obstacle(BlockerCode.BROWSER_TOO_OLD, "browser", about)
        else:
            yield from _of_policy(browser)
            if sites is not None:
                yield from _of_list(
                    browser, sites, coverage.list_support(browser.name, facts.platform, browser.version)
                )


def _of_policy(browser: Item) -> Iterator[Obstacle]:
    """What is the matter with the policy file of a managed browser."""
    policy = browser.policy
    if policy is None:
        return
    if policy.state == PolicyFileState.UNWRITTEN:
        about = f"{_named(browser)} ({policy.problem or policy.file})"
        yield Obstacle(BlockerCode.POLICY_UNWRITTEN, "browser", about)
    if by := overriding(policy):
        yield Obstacle(BlockerCode.POLICY_OVERRIDDEN, "browser", f"{_named(browser)} ({by})")
    if policy.restart_needed:
        yield Obstacle(BlockerCode.RESTART_NEEDED, "browser", _named(browser))
    if policy.tampering is not None:
        words = sentences.tampered_how(TamperingKind(policy.tampering.what))
        yield Obstacle(BlockerCode.TAMPERED, "browser", f"{_named(browser)} ({words})")


def _of_list(browser: Item, sites: SiteList, support: ListSupport) -> Iterator[Obstacle]:
    """What a browser does not take of its list, or takes as something else."""
    if sites.is_handed_whole(support):
        return
    handed = sites.handed(support._replace(policy_file=None))
    changed = sum(not one.is_slight for one in handed.said_otherwise.values())
    if handed.cut:
        about = f"{_named(browser)}, {len(handed.cut):,} of {counted(len(sites.patterns), 'pattern')}"
        yield Obstacle(BlockerCode.LIST_TRUNCATED, "browser", about)
    if changed:
        yield Obstacle(BlockerCode.PATTERN_CHANGED, "browser", f"{_named(browser)}, {counted(changed, 'pattern')}")


class SiteLists:
    """The site list of each kind of machine under one estate: of all site assignments that are active, whenever and
    wherever they hold.
    """

    def __init__(self, estate: Estate) -> None:
        rulesets = {ruleset.key for ruleset in estate.rulesets if ruleset.kind == "site"}
        own = [
            one.model_copy(update=_ALWAYS)
            for one in estate.assignments
            if one.ruleset in rulesets and one.state is State.ACTIVE
        ]
        self._estate = estate.replacing(assignments=tuple(own)) if own else None
        self._groups = {key for one in own for key in one.groups}
        self._names = {name for one in own for name in one.named_devices}
        self._known: dict[object, SiteList] = {}

    def of(self, groups: Iterable[str], names: Iterable[str]) -> SiteList | None:
        """That of a device in these groups, given strongest first, known by these names; None where it has none."""
        if self._estate is None:
            return None
        own = tuple(key for key in groups if key in self._groups)
        alone = tuple(name for name in names if name in self._names)
        if not own and not alone:
            return None
        found = self._known.get((own, alone))
        if found is None:
            found = self._known[own, alone] = list_in_force(self._estate, own, alone, _BEFORE_ANY_END)
        return found


_ALWAYS = {"schedule": None, "starts": None, "ends": None, "place": "anywhere", "until_restart": False}
_BEFORE_ANY_END = datetime(1970, 1, 1, tzinfo=UTC)


def _named(browser: Item) -> str:
    return f"{browser.name} {browser.version or ''}".strip()


def modes_of(estate: Estate, groups: Iterable[str]) -> dict[LayerName, LayerMode]:
    """What each layer should do on devices in these groups, given strongest first."""
    return {layer: estate.mode_of(layer, groups) for layer in LAYERS}


def blocker(obstacle: Obstacle) -> Blocker:
    """The obstacle in words."""
    words = sentences.blocker(obstacle.code, obstacle.layer, obstacle.about)
    return Blocker(code=obstacle.code, layer=obstacle.layer, about=obstacle.about, **words._asdict())


def readiness(
    estate: Estate,
    facts: MemberFacts,
    groups: tuple[str, ...],
    more: Iterable[Obstacle] = (),
    joined: bool = True,
    names: Iterable[str] = (),
) -> Readiness:
    """A device's readiness. `more` are the obstacles that do not lie in its facts; one that never joined told none.
    By `names` assignments may mean it alone.
    """
    modes = modes_of(estate, groups)
    sites = SiteLists(estate).of(groups, names)
    own = obstacles(facts, modes, estate.coverage_table, sites) if joined else ()
    found = sorted([*more, *own], key=lambda obstacle: obstacle.rank)
    hindered = {obstacle.layer for obstacle in found if obstacle.code not in NOT_IN_THE_WAY}
    layers = []
    for layer in LAYERS:
        state = getattr(facts.layers, layer)
        layers.append(
            LayerReadiness(
                layer=layer,
                meant=modes[layer],
                meant_by=estate.mode_given_by(layer, groups),
                reported=LayerMode(state) if state else None,
                version=getattr(facts.layer_versions, layer),
                enforces=modes[layer] is LayerMode.ENFORCING and not hindered & {layer, None},
            )
        )
    return Readiness(layers=tuple(layers), blockers=tuple(blocker(obstacle) for obstacle in found))
