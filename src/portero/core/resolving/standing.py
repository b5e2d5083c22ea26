"""What the machine makes of its policy: layer modes, gateways, how far a layer reaches, and the caveats of that."""

from __future__ import annotations

from collections.abc import Iterable
from ipaddress import ip_network
from typing import NamedTuple

from portero.core import sentences
from portero.core.matching.conditions import is_within
from portero.core.nouns.action import Action, Verdict
from portero.core.nouns.coverage import CoverageTable, Reach
from portero.core.nouns.device import Facts, LayerMode, Layers, Lifecycle, Place
from portero.core.nouns.verdict import Caveat, CaveatCode, Layer, LayerVerdict
from portero.core.resolving.bundles import Bundle
from portero.core.resolving.deciding import Policy

SHIPPED_TABLE = CoverageTable()
_STRENGTH = (LayerMode.OFF, LayerMode.OBSERVING, LayerMode.ENFORCING)


class Standing(NamedTuple):
    """What is known of a device besides its policy: all that can keep the intended verdict from holding."""

    lifecycle: Lifecycle = Lifecycle.ENROLLED
    layers: Layers = Layers(filter=LayerMode.ENFORCING)
    """What its layers do, as it reports."""
    addresses: tuple[str, ...] = ()
    platform: str | None = None
    applied: Policy | None = None
    current: bool = True
    """Whether the applied bundle is the newest."""
    coverage: CoverageTable = SHIPPED_TABLE

    @classmethod
    def of(cls, facts: Facts, **more: object) -> Standing:
        """The standing of a device with these facts."""
        platform = facts.os.family if facts.os else None
        return cls(layers=facts.layers, addresses=facts.addresses, platform=platform, **more)  # type: ignore[arg-type]


class Path(NamedTuple):
    """The way a visit takes: where the machine is, with which browser, over which scheme."""

    place: Place | None = None
    browser: str | None = None
    scheme: str = "http"


def weaker(*modes: LayerMode) -> LayerMode:
    """The mode that does least."""
    return min(modes, key=_STRENGTH.index)


def gateway_of(bundle: Bundle, place: Place | None, addresses: Iterable[str]) -> str | None:
    """The gateway network to which a machine there leaves its filtering, or None."""
    if place is not Place.ON_SITE:
        return None
    for network in bundle.gateway_networks:
        parsed = ip_network(network)
        if any(is_within(address, parsed) for address in addresses):
            return network
    return None


def in_mode(layer: LayerVerdict, mode: LayerMode, why: str) -> LayerVerdict:
    """The layer as it is in a mode: as it stands; with what would decide only recorded; or with nothing."""
    if mode is LayerMode.ENFORCING:
        return layer
    recorded = layer.logged
    if layer.winner is not None and layer.winner.action is not Action.ALLOW:
        recorded = (layer.winner, *(one for one in recorded if one != layer.winner))
    return LayerVerdict(
        layer=layer.layer,
        verdict=Verdict.ALLOW,
        why=why,
        logged=recorded if mode is LayerMode.OBSERVING else (),
    )


def intended_filter(policy: Policy, layer: LayerVerdict, standing: Standing, path: Path) -> LayerVerdict:
    """What the estate means the filter to say, given what its rules say."""
    gateway = gateway_of(policy.bundle, path.place, standing.addresses)
    if gateway:
        return in_mode(layer, LayerMode.OFF, sentences.left_to_gateway(gateway))
    mode = LayerMode(policy.bundle.layers["filter"])
    return in_mode(layer, mode, sentences.meant_to(mode, layer))


def standing_caveats(standing: Standing) -> list[Caveat]:
    """The caveats of the machine as a whole."""
    codes = []
    if standing.lifecycle is Lifecycle.INVITED:
        codes.append(CaveatCode.NOT_ENROLLED)
    elif standing.applied is None:
        codes.append(CaveatCode.NEVER_APPLIED)
    elif not standing.current:
        codes.append(CaveatCode.STALE_BUNDLE)
    if standing.lifecycle is Lifecycle.SILENT:
        codes.append(CaveatCode.SILENT)
    return [sentences.caveat(code) for code in codes]


_NOT_ENFORCED = {LayerMode.OFF: CaveatCode.FILTER_OFF, LayerMode.OBSERVING: CaveatCode.FILTER_OBSERVING}


def _filter_caveats(meant: LayerMode, reported: LayerMode | None) -> list[Caveat]:
    if meant is not LayerMode.ENFORCING:
        return []
    if reported is None:
        return [sentences.caveat(CaveatCode.FACT_MISSING, Layer.FILTER)]
    code = _NOT_ENFORCED.get(reported)
    return [sentences.caveat(code, Layer.FILTER)] if code else []


def effective_filter(
    policy: Policy, layer: LayerVerdict | None, standing: Standing, path: Path
) -> tuple[LayerVerdict, list[Caveat]]:
    """What the machine's filter really says, given what the rules of its applied bundle say; and why it differs."""
    caveats = standing_caveats(standing)
    if standing.applied is None or layer is None:
        return LayerVerdict(layer=Layer.FILTER, verdict=Verdict.ALLOW, why=caveats[0].detail), caveats
    gateway = gateway_of(standing.applied.bundle, path.place, standing.addresses)
    if gateway:
        caveats.append(sentences.caveat(CaveatCode.TRUSTED_GATEWAY, Layer.FILTER))
        return in_mode(layer, LayerMode.OFF, sentences.left_to_gateway(gateway)), caveats
    caveats += _filter_caveats(LayerMode(policy.bundle.layers["filter"]), standing.layers.filter)
    told = LayerMode(standing.applied.bundle.layers["filter"])
    mode = weaker(told, standing.layers.filter or told)
    layer = in_mode(layer, mode, sentences.does(mode))
    reach = standing.coverage.reach("filter", path.browser, standing.platform, path.scheme)
    if reach is Reach.NONE and mode is LayerMode.ENFORCING:
        caveats.append(sentences.not_reached(path.browser, path.scheme))
        layer = in_mode(layer, LayerMode.OFF, caveats[-1].detail)
    if reach is Reach.HOST and layer.verdict is not Verdict.ALLOW:
        caveats.append(sentences.caveat(CaveatCode.NOTICE_HIDDEN, Layer.FILTER))
    return layer, caveats
