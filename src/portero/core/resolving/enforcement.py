"""What the machine makes of its policy: layer modes, gateways, how far a layer reaches, and the caveats of that."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import datetime, timedelta
from ipaddress import ip_network
from typing import NamedTuple

from portero.core import sentences
from portero.core.matching.members import PolicyFacts
from portero.core.matching.membership_conditions import is_within
from portero.core.nouns.action import Action, Verdict
from portero.core.nouns.browser_policy import BrowserPolicy, PolicyFileState
from portero.core.nouns.caveat import Caveat, CaveatCode
from portero.core.nouns.coverage import Control, CoverageTable, ListSupport, Reach
from portero.core.nouns.device import Browser, Facts, Kind, Lifecycle, Place
from portero.core.nouns.layer import Layer, LayerMode, Layers, LayerVersions
from portero.core.nouns.urls import Visit
from portero.core.nouns.verdict import LayerVerdict
from portero.core.nouns.versions import is_older
from portero.core.resolving.bundles import Bundle
from portero.core.resolving.deciding import SiteOutcome
from portero.core.resolving.policy import Policy, SiteList
from portero.core.wording import joined

SHIPPED_TABLE = CoverageTable()
_STRENGTH = (LayerMode.OFF, LayerMode.OBSERVING, LayerMode.ENFORCING)


class Machine(NamedTuple):
    """What is known of a device besides its policy: all that can keep the intended verdict from holding."""

    lifecycle: Lifecycle = Lifecycle.ENROLLED
    layers: Layers = Layers(filter=LayerMode.ENFORCING)
    """What its layers do, as it reports."""
    layer_versions: LayerVersions = LayerVersions()
    addresses: tuple[str, ...] = ()
    is_server: bool = False
    platform: str | None = None
    platform_version: str | None = None
    place: Place | None = None
    zone: str | None = None
    last_start: float | None = None
    clock_ahead: int | None = None
    """Seconds that its clock is ahead of the right one."""
    browsers: tuple[Browser, ...] = ()
    applied: Policy | None = None
    current: bool = True
    """Whether the applied bundle is the newest."""
    index_current: bool = True
    """Whether the category index that it holds is the newest, as far as that is known."""
    has_index: bool = True
    """Whether it has a category index that it can use; without one no host has a category there."""
    since: Mapping[str, float] = {}
    """Since when it has applied the assignments that hold until restart, by key."""
    coverage: CoverageTable = SHIPPED_TABLE
    catalogue: Mapping[str, frozenset[str]] = {}
    """Categories of known products."""

    @classmethod
    def of(cls, facts: Facts, **more: object) -> Machine:
        """The machine of a device with these facts."""
        return cls(
            layers=facts.layers,
            layer_versions=facts.layer_versions,
            addresses=facts.addresses,
            is_server=facts.kind is Kind.SERVER,
            platform=facts.os.family if facts.os else None,
            platform_version=facts.os.version if facts.os else None,
            place=facts.place,
            zone=facts.zone,
            last_start=facts.last_start.timestamp() if facts.last_start else None,
            clock_ahead=facts.clock_ahead,
            browsers=facts.browsers,
            **more,  # type: ignore[arg-type]
        )

    def clock(self, at: datetime) -> datetime:
        """What its own clock says at a moment."""
        try:
            return at + timedelta(seconds=self.clock_ahead or 0)
        except OverflowError:
            return at

    def browser(self, name: str | None) -> Browser | None:
        """The installed browser of a name."""
        folded = (name or "").casefold()
        return next((browser for browser in self.browsers if browser.name.casefold() == folded), None)


class Path(NamedTuple):
    """The way a visit takes: where the machine is, with which browser, over which scheme."""

    place: Place | None = None
    browser: str | None = None
    scheme: str = "http"


def list_support(machine: Machine, browser: str | None) -> ListSupport:
    """What a browser of the machine makes of site lists; of none in particular what Chromium makes of them."""
    installed = machine.browser(browser)
    return machine.coverage.list_support(browser, machine.platform, installed.version if installed else None)


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
        recorded = (layer.winner, *(contender for contender in recorded if contender != layer.winner))
    return LayerVerdict(
        layer=layer.layer,
        verdict=Verdict.ALLOW,
        why=why,
        logged=recorded if mode is LayerMode.OBSERVING else (),
        left_aside=layer.left_aside,
        note=layer.note if mode is LayerMode.OBSERVING else None,
    )


def intended_layer(policy: Policy, layer: LayerVerdict, machine: Machine, path: Path) -> LayerVerdict:
    """What the estate means a layer to say, given what its rules say."""
    if layer.layer is Layer.FILTER:
        gateway = gateway_of(policy.bundle, path.place, machine.addresses)
        if gateway:
            return in_mode(layer, LayerMode.OFF, sentences.left_to_gateway(gateway))
    if policy.bundle.layers[layer.layer] == LayerMode.ENFORCING:
        return layer
    mode = LayerMode(policy.bundle.layers[layer.layer])
    return in_mode(layer, mode, sentences.meant_to(mode, layer))


def machine_caveats(machine: Machine) -> list[Caveat]:
    """The caveats of the machine as a whole."""
    codes = []
    if machine.lifecycle is Lifecycle.INVITED:
        codes.append(CaveatCode.NOT_ENROLLED)
    elif machine.applied is None:
        codes.append(CaveatCode.NEVER_APPLIED)
    elif not machine.current:
        codes.append(CaveatCode.STALE_BUNDLE)
    if machine.lifecycle is Lifecycle.SILENT:
        codes.append(CaveatCode.SILENT)
    return [sentences.caveat(code) for code in codes]


_NOT_ENFORCED = {
    (Layer.FILTER, LayerMode.OFF): CaveatCode.FILTER_OFF,
    (Layer.FILTER, LayerMode.OBSERVING): CaveatCode.FILTER_OBSERVING,
    (Layer.STARTUP, LayerMode.OFF): CaveatCode.STARTUP_OFF,
    (Layer.STARTUP, LayerMode.OBSERVING): CaveatCode.STARTUP_OBSERVING,
    (Layer.BROWSER, LayerMode.OFF): CaveatCode.BROWSER_UNMANAGED,
    (Layer.BROWSER, LayerMode.OBSERVING): CaveatCode.BROWSER_UNMANAGED,
}


def _mode_caveats(layer: Layer, meant: LayerMode, reported: LayerMode | None) -> list[Caveat]:
    if meant is not LayerMode.ENFORCING:
        return []
    if reported is None:
        return [sentences.layer_not_reported(layer)]
    code = _NOT_ENFORCED.get((layer, reported))
    return [sentences.caveat(code, layer)] if code else []


_CONTROLS: dict[Layer, Control] = {Layer.FILTER: "filter", Layer.BROWSER: "site-list", Layer.STARTUP: "startup"}


def _held_back(
    policy: Policy, applied: Policy, layer: LayerVerdict, machine: Machine, browser: str | None = None
) -> tuple[LayerVerdict, LayerMode, list[Caveat]]:
    """The layer in the mode in which the machine really has it, and the caveats of that. One that is older than the
    coverage table relies on is taken to do nothing.
    """
    name, reported = layer.layer, machine.layers.mode(layer.layer)
    meant, too_old = LayerMode(policy.bundle.layers[name]), _too_old(name, machine, browser)
    if applied is policy and reported is meant is LayerMode.ENFORCING and too_old is None:
        return layer, reported, []
    caveats = _mode_caveats(name, meant, reported)
    told = LayerMode(applied.bundle.layers[name])
    mode = weaker(told, reported or told)
    if too_old is not None and mode is not LayerMode.OFF:
        return in_mode(layer, LayerMode.OFF, too_old.detail), LayerMode.OFF, [*caveats, too_old]
    return in_mode(layer, mode, sentences.does(name, mode)), mode, caveats


def _too_old(layer: Layer, machine: Machine, browser: str | None) -> Caveat | None:
    """The caveat of a layer, or of a system below it, whose version the coverage table says nothing of."""
    row = machine.coverage.row(_CONTROLS[layer], browser, machine.platform)
    version = getattr(machine.layer_versions, layer.value)
    if row is not None and is_older(version, row.layer_from):
        return sentences.layer_too_old(layer, version, row.layer_from or "")
    if row is not None and is_older(machine.platform_version, row.platform_from):
        platform = f"{machine.platform} {machine.platform_version}"
        return sentences.platform_too_old(layer, platform, row.platform_from or "")
    return None


def _browser_too_old(control: Control, machine: Machine, path: Path) -> Caveat | None:
    """The same of the browser itself."""
    row, browser = machine.coverage.row(control, path.browser, machine.platform), machine.browser(path.browser)
    if row is None or browser is None or not is_older(browser.version, row.browser_from):
        return None
    layer = Layer.BROWSER if control == "site-list" else Layer.FILTER
    return sentences.browser_too_old(layer, f"{browser.name} {browser.version}", row.browser_from or "")


def effective_filter(
    policy: Policy, applied: Policy, layer: LayerVerdict, machine: Machine, path: Path
) -> tuple[LayerVerdict, list[Caveat]]:
    """What the machine's filter really says, given what the rules of its applied bundle say; and why it differs."""
    gateway = gateway_of(applied.bundle, path.place, machine.addresses)
    if gateway:
        caveat = sentences.caveat(CaveatCode.TRUSTED_GATEWAY, Layer.FILTER)
        return in_mode(layer, LayerMode.OFF, sentences.left_to_gateway(gateway)), [caveat]
    layer, mode, caveats = _held_back(policy, applied, layer, machine, path.browser)
    reach, too_old = reach_of("filter", machine, path), _browser_too_old("filter", machine, path)
    if mode is LayerMode.ENFORCING and (too_old is not None or reach is Reach.NONE):
        caveats.append(too_old or sentences.not_reached(path.browser, path.scheme))
        layer = in_mode(layer, LayerMode.OFF, caveats[-1].detail)
    if reach is Reach.HOST and layer.verdict is not Verdict.ALLOW:
        caveats.append(sentences.caveat(CaveatCode.NOTICE_HIDDEN, Layer.FILTER))
    return layer, caveats


def effective_startup(
    policy: Policy, applied: Policy, layer: LayerVerdict, machine: Machine
) -> tuple[LayerVerdict, list[Caveat]]:
    """What the machine's startup layer really says; and why it differs."""
    layer, _, caveats = _held_back(policy, applied, layer, machine)
    row = machine.coverage.row("startup", None, machine.platform)
    if layer.verdict is not Verdict.ALLOW and row is not None and row.passed_by:
        caveats.append(sentences.passed_by(row.passed_by))
    return layer, caveats


def effective_browser(
    policy: Policy, applied: Policy, layer: LayerVerdict, in_play: bool, machine: Machine, path: Path
) -> tuple[LayerVerdict, list[Caveat]]:
    """What the browser really makes of its site list; and why it differs. Without a list there is nothing to hold."""
    if not in_play:
        return layer, []
    layer, mode, caveats = _held_back(policy, applied, layer, machine, path.browser)
    if path.browser is not None and mode is LayerMode.ENFORCING:
        browser = machine.browser(path.browser)
        unmanaged = browser is None or not browser.managed
        if unmanaged or reach_of("site-list", machine, path) is Reach.NONE:
            caveats.append(sentences.unmanaged(path.browser))
            layer = in_mode(layer, LayerMode.OFF, caveats[-1].detail)
        elif (too_old := _browser_too_old("site-list", machine, path)) is not None:
            caveats.append(too_old)
            layer = in_mode(layer, LayerMode.OFF, too_old.detail)
        elif browser is not None and browser.policy is not None:
            found, holds = _policy_caveats(path.browser, browser.policy)
            caveats += found
            layer = layer if holds else in_mode(layer, LayerMode.OFF, found[0].detail)
    return layer, caveats


def overriding(policy: BrowserPolicy | PolicyFacts) -> str | None:
    """What counts before the endpoint's own policy file, in words; None where that one counts."""
    if policy.state in (PolicyFileState.FOREIGN, PolicyFileState.CONTESTED):
        return sentences.policy_not_own(PolicyFileState(policy.state), policy.file)
    return joined(policy.overridden_by) or None


def _policy_caveats(name: str, policy: BrowserPolicy) -> tuple[list[Caveat], bool]:
    """What is the matter with a browser's policy file; and whether what Portero wrote is what counts."""
    caveats = []
    if policy.state is PolicyFileState.UNWRITTEN:
        caveats.append(sentences.policy_unwritten(name, policy.file, policy.problem))
    if by := overriding(policy):
        caveats.append(sentences.policy_overridden(name, by))
    holds = not caveats
    if policy.restart_needed:
        caveats.append(sentences.restart_needed(name))
    if policy.tampering is not None:
        caveats.append(sentences.tampered(name, policy.file, policy.tampering))
    return caveats, holds


def list_caveats(merged: SiteList, support: ListSupport, visit: Visit, browser: str) -> list[Caveat]:
    """What keeps a site list from holding in a browser as it is meant: what is cut off, and what of this visit's
    patterns it cannot say.
    """
    if merged.is_handed_whole(support):
        return []
    handed, caveats = merged.handed(support), []
    if handed.cut:
        cut = [str(merged.patterns[place][0]) for place in handed.cut]
        whole, kept = len(merged.patterns), len(merged.patterns) - len(handed.needless)
        caveats.append(sentences.list_truncated(whole, kept, cut, support.limit, browser))
    meant, really = list(merged.matching(visit)), [merged.patterns[place] for place in handed.matching(visit)]
    differs = SiteOutcome.of(meant).allows is not SiteOutcome.of(really).allows
    for pattern, _ in dict.fromkeys((*really, *meant)):
        changed = handed.changed.get(merged.place(pattern))
        if changed is not None and (differs or not changed.is_slight):
            caveats.append(sentences.pattern_changed(str(pattern), changed, support.family))
    return caveats


def reach_of(control: Control, machine: Machine, path: Path) -> Reach:
    """How much of a visit a control gets hold of on this machine."""
    return machine.coverage.reach(control, path.browser, machine.platform, path.scheme)
