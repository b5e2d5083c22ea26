"""What keeps a device's layers from really enforcing."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import NamedTuple

from portero.core import sentences
from portero.core.matching.members import Item, MemberFacts
from portero.core.nouns.browser_policy import PolicyFileState, TamperingKind
from portero.core.nouns.coverage import Control, CoverageTable, Reach
from portero.core.nouns.estate import Estate
from portero.core.nouns.layer import LAYERS, LayerMode, LayerName
from portero.core.nouns.readiness import ORDER, Blocker, BlockerCode, LayerReadiness, Readiness
from portero.core.nouns.versions import is_older
from portero.core.resolving.enforcement import overriding

NOT_IN_THE_WAY = frozenset(
    (
        BlockerCode.ZONE_MISSING,
        BlockerCode.FACTS_STALE,
        BlockerCode.DUPLICATE_HOSTNAME,
        BlockerCode.REJOIN_WAITING,
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
    facts: MemberFacts, modes: Mapping[LayerName, LayerMode], coverage: CoverageTable
) -> tuple[Obstacle, ...]:
    """What a device's own facts put in the way of the layers that are meant to enforce, in the order of mending.

    What depends on time or on other devices (silent, stale, doubled) is not among them.
    """
    meant = [layer for layer in LAYERS if modes[layer] is LayerMode.ENFORCING]
    found = [obstacle for layer in meant for obstacle in _of_layer(layer, facts, coverage)]
    if "browser" in meant:
        found += _of_browsers(facts, coverage)
    if facts.zone is None:
        found.append(Obstacle(BlockerCode.ZONE_MISSING))
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


def _of_browsers(facts: MemberFacts, coverage: CoverageTable) -> Iterator[Obstacle]:
    for browser in facts.browsers:
        row = coverage.row("site-list", browser.name, facts.platform)
        if not browser.managed or row is None or row.http is Reach.NONE:
            yield Obstacle(BlockerCode.BROWSER_UNMANAGED, "browser", _named(browser))
        elif is_older(browser.version, row.browser_from):
            about = f"{_named(browser)}, and {row.browser_from} is needed"
            yield Obstacle(BlockerCode.BROWSER_TOO_OLD, "browser", about)
        else:
            yield from _of_policy(browser)


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
    estate: Estate, facts: MemberFacts, groups: tuple[str, ...], more: Iterable[Obstacle] = (), joined: bool = True
) -> Readiness:
    """A device's readiness. `more` are the obstacles that do not lie in its facts; one that never joined told none."""
    modes = modes_of(estate, groups)
    own = obstacles(facts, modes, estate.coverage_table) if joined else ()
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
