"""Explain an attempt: intended by the newest policy, effective on the machine as it is, with every reason."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import NamedTuple

from portero.core import sentences
from portero.core.browsers.handing import UNLIMITED
from portero.core.matching.applications import Started
from portero.core.matching.categories import EMPTY_INDEX, CategoryIndex, Entry, look_up
from portero.core.matching.searches import searched
from portero.core.nouns.action import Verdict
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.caveat import Caveat, CaveatCode
from portero.core.nouns.coverage import Reach
from portero.core.nouns.device import Application, Place
from portero.core.nouns.layer import Layer
from portero.core.nouns.urls import Visit, address_of, normal_address, parse_visit
from portero.core.nouns.verdict import (
    Effective,
    Explanation,
    Intended,
    LayerVerdict,
    gap_between,
    strictest,
)
from portero.core.resolving.deciding import Visited, weigh_start
from portero.core.resolving.enforcement import (
    Machine,
    Path,
    effective_browser,
    effective_filter,
    effective_startup,
    intended_layer,
    list_caveats,
    list_support,
    machine_caveats,
    reach_of,
)
from portero.core.resolving.ladder import Contender
from portero.core.resolving.policy import Frame, Policy
from portero.core.resolving.situations import OFF_SITE, Situation
from portero.core.resolving.telling import matching_visit, startup_layer, teller_of


class Case(NamedTuple):
    """An attempt with all that is known beside the policy. Its `at` is given."""

    attempt: Attempt
    categories: CategoryIndex
    machine: Machine
    user_groups: frozenset[str] = frozenset()
    """Folded keys of the user groups that the person is in."""

    @property
    def place(self) -> Place | None:
        """Where the device is: as the attempt says, else as the device reports."""
        return self.attempt.place or self.machine.place

    @property
    def by_own_clock(self) -> Case:
        """The same, at the moment that the machine's own clock tells."""
        if not self.machine.clock_ahead or self.attempt.at is None:
            return self
        return self._replace(attempt=self.attempt.model_copy(update={"at": self.machine.clock(self.attempt.at)}))

    @property
    def situation(self) -> Situation:
        """Who asks, when and where."""
        attempt, machine = self.attempt, self.machine
        assert attempt.at is not None
        return Situation(
            at=attempt.at,
            user=attempt.user.casefold() if attempt.user else None,
            user_groups=self.user_groups if attempt.user else frozenset(),
            place=self.place.value if self.place else OFF_SITE,
            zone=machine.zone,
            last_start=machine.last_start,
            applied=machine.since,
            is_server=machine.is_server,
        )


class _Look(NamedTuple):
    """A visit as one policy sees it: what is in play, what rules look at, and what they say of the whole page."""

    policy: Policy
    frame: Frame
    entry: Entry
    visited: Visited
    sites: LayerVerdict
    filter: LayerVerdict


class _Sayings(NamedTuple):
    """What is said about an attempt: by each layer, and with which caveats."""

    layers: list[LayerVerdict]
    caveats: list[Caveat]

    def verdict(self) -> Verdict:
        return strictest(tuple(layer.verdict for layer in self.layers))


def explain(
    policy: Policy,
    case: Case,
    *,
    whole: Policy | None = None,
    revision: int | None = None,
    bundle: str | None = None,
    applied_bundle: str | None = None,
) -> Explanation:
    """The whole answer to an attempt: intended by `policy` (the newest), effective by the device's machine.

    With `whole`, a policy that has drafts and paused assignments in it too, also what was left aside. BadUrl where
    the attempt's URL is none that a browser would visit.
    """
    attempt, entry, host = case.attempt, None, None
    if attempt.url is not None:
        look = _look(policy, case, parse_visit(attempt.url))
        entry, host = look.entry, look.visited.visit.host
        intended = _intended_visit(look, case, whole)
        effective = _effective_visit(look, case, intended)
    else:
        intended = _intended_start(policy, case, whole)
        effective = _effective_start(policy, case)
    meant, really = intended.verdict(), effective.verdict()
    return Explanation(
        id=attempt.id,
        attempt=attempt,
        host=host,
        categories=entry.categories if entry else (),
        category_entry=entry.host if entry else None,
        intended=Intended(verdict=meant, layers=tuple(intended.layers)),
        effective=Effective(verdict=really, layers=tuple(effective.layers), caveats=tuple(effective.caveats)),
        gap=gap_between(meant, really),
        revision=revision,
        bundle=bundle,
        applied_bundle=applied_bundle,
    )


# --- visits ---


def _look(policy: Policy, case: Case, visit: Visit) -> _Look:
    attempt = case.attempt
    entry = categories_of(policy, case.categories, visit.host)
    visited = Visited(
        visit,
        entry.categories,
        normal_address(attempt.address) if attempt.address else address_of(visit.host),
        attempt.search_term if attempt.search_term is not None else searched(visit, policy.search_pages),
        attempt.media_type,
    )
    frame, teller = policy.frame(case.situation), teller_of(policy)
    whole = list_support(case.machine, attempt.browser)._replace(limit=UNLIMITED)
    return _Look(policy, frame, entry, visited, teller.sites(frame, visit, whole), teller.filter(frame, visited))


def _path(case: Case, visit: Visit) -> Path:
    return Path(case.place, case.attempt.browser, visit.scheme)


def _intended_visit(look: _Look, case: Case, whole: Policy | None) -> _Sayings:
    visit, policy = look.visited.visit, look.policy
    layers = [look.sites, look.filter]
    if whole is not None:
        layers = _with_aside(layers, _look(whole, case, visit), case)
    path = _path(case, visit)
    said = [intended_layer(policy, layer, case.machine, path) for layer in layers]
    browser = _browser_program(case)
    if browser is not None:
        layer, _ = _startup(policy, look.frame, browser, case)
        layer = intended_layer(policy, layer, case.machine, path)
        if layer.verdict is Verdict.BLOCK:
            said.append(layer)
    return _Sayings(said, [])


def matching(policy: Policy, case: Case) -> Iterator[Contender]:
    """Every rule of a policy that matches an attempt, in play or not. BadUrl."""
    if case.attempt.start is not None:
        frame, program = policy.frame(case.situation), _started(policy, case.attempt.start, case.machine)
        yield from weigh_start(frame, program).contenders
        return
    assert case.attempt.url is not None
    look = _look(policy, case, parse_visit(case.attempt.url))
    yield from teller_of(policy).matching_sites(look.visited.visit)
    yield from matching_visit(look.frame, look.visited)


def _with_aside(layers: list[LayerVerdict], look: _Look, case: Case) -> list[LayerVerdict]:
    """The browser's and the filter's layer with the rules that would match and do not count now."""
    situation, teller = case.situation, teller_of(look.policy)
    of_sites = teller.matching_sites(look.visited.visit)
    of_filter = matching_visit(look.frame, look.visited)
    return [
        layer.model_copy(update={"left_aside": teller.left_aside(look.frame, contenders, situation)})
        for layer, contenders in zip(layers, (of_sites, of_filter), strict=True)
    ]


_OF_THE_INDEX = ("index", "none")
"""Where categories come from that may be others on a machine with another index."""


def _effective_visit(meant: _Look, case: Case, intended: _Sayings) -> _Sayings:
    machine, applied, visit = case.machine, case.machine.applied, meant.visited.visit
    caveats = machine_caveats(machine)
    if applied is None:
        why = caveats[0].detail
        return _Sayings([_nothing(layer.layer, why) for layer in intended.layers[:2]], caveats)
    if not machine.index_current and applied.categories and meant.entry.source in _OF_THE_INDEX:
        stale = sentences.caveat(CaveatCode.STALE_INDEX, Layer.FILTER) if machine.has_index else sentences.no_index()
        caveats.append(stale)
    own = case.by_own_clock
    if not machine.has_index:
        own = own._replace(categories=EMPTY_INDEX)
    is_as_meant = applied is meant.policy and machine.has_index and own is case
    look = meant if is_as_meant else _look(applied, own, visit)
    if own.attempt is not case.attempt:
        timely = _look(applied, own._replace(attempt=case.attempt), visit)
        caveats += _clock_caveats(machine, (timely.sites, timely.filter), (look.sites, look.filter))
    case = own
    policy, frame, path = meant.policy, look.frame, _path(case, visit)
    handed = _handed(look, case)
    sites, more = effective_browser(policy, applied, handed, bool(frame.site_list.patterns), machine, path)
    caveats += more
    if sites is handed and path.browser is not None:
        support = list_support(machine, path.browser)
        caveats += list_caveats(frame.site_list, support, visit, path.browser)
    filtered = look.filter
    if _depends_on_page(look) and reach_of("filter", machine, path) is Reach.HOST:
        seen = look.visited.by_host()
        filtered = teller_of(applied).filter(frame, seen)
        caveats += _hidden(frame, look.visited, seen)
    filtered, more = effective_filter(policy, applied, filtered, machine, path)
    caveats += more
    caveats += _missing_facts(Layer.FILTER, applied, case, lambda: matching_visit(frame, look.visited))
    if path.browser and machine.browsers and machine.browser(path.browser) is None:
        caveats.append(sentences.browser_missing(path.browser, [browser.name for browser in machine.browsers]))
    said = [sites, filtered]
    browser = _browser_program(case)
    if browser is not None:
        layer, missing = _startup(applied, frame, browser, case)
        layer, more = effective_startup(policy, applied, layer, machine)
        if layer.verdict is Verdict.BLOCK:
            said.append(layer)
        if len(intended.layers) > len(said[:2]) or layer.verdict is Verdict.BLOCK:
            caveats += [*more, *_missing_fields(missing)]
    return _Sayings(said, caveats)


def _clock_caveats(machine: Machine, timely: Sequence[LayerVerdict], own: Sequence[LayerVerdict]) -> list[Caveat]:
    """The caveat of a clock by which layers say something else than by the right one."""
    told = zip(timely, own, strict=True)
    differs = any(
        (one.verdict, one.winner, one.logged) != (other.verdict, other.winner, other.logged) for one, other in told
    )
    return [sentences.clock_off(machine.clock_ahead or 0)] if differs else []


def _handed(look: _Look, case: Case) -> LayerVerdict:
    """What the browser makes of as much of the site list as it takes."""
    browser, merged = case.attempt.browser, look.frame.site_list
    support = list_support(case.machine, browser)
    if browser is None or len(merged.patterns) <= support.limit:
        return look.sites
    return teller_of(look.policy).sites(look.frame, look.visited.visit, support)


def _depends_on_page(look: _Look) -> bool:
    """Whether some rule looks at more of the visit than its host."""
    policy, visited = look.policy, look.visited
    by_content = (visited.searched and policy.terms) or (visited.media_type and policy.media)
    return bool(by_content) or policy.indicators.looks_at_pages(visited.visit.host)


def _hidden(frame: Frame, visited: Visited, seen: Visited) -> list[Caveat]:
    """What the filter cannot see where only the host is shown to it, though rules in play look at it."""
    policy, visit = frame.policy, visited.visit
    by_host = set(map(id, policy.indicators.met_by(visit, visited.address, page=False)))
    urls = [indicator for indicator in policy.indicators.met_by(visit, visited.address) if id(indicator) not in by_host]
    caveats = []
    if any(map(frame.counts, urls)):
        caveats.append(sentences.caveat(CaveatCode.PATH_HIDDEN, Layer.FILTER))
    matching = {id(indicator): indicator for indicator in matching_visit(frame, visited)}
    for indicator in (*matching_visit(frame, seen), *urls):
        matching.pop(id(indicator), None)
    if any(map(frame.counts, matching.values())):
        caveats.append(sentences.caveat(CaveatCode.CONTENT_HIDDEN, Layer.FILTER))
    return caveats


def _missing_facts(
    layer: Layer, policy: Policy, case: Case, matching: Callable[[], Iterable[Contender]]
) -> list[Caveat]:
    """A caveat where it hangs on facts that are not reported whether a matching rule counts."""
    known = {"zone": case.machine.zone, "place": case.place, "last_start": case.machine.last_start}
    absent = [name for name, value in known.items() if value is None]
    if not absent or not policy.gates.some_need(absent):
        return []
    needed = {name for contender in matching() for name in policy.gates.facts_needed(contender.assignment)}
    missing = [name for name in absent if name in needed]
    return [sentences.facts_missing(layer, missing)] if missing else []


def _nothing(layer: Layer, why: str) -> LayerVerdict:
    return LayerVerdict(layer=layer, verdict=Verdict.ALLOW, why=why)


# --- starts ---


def _browser_program(case: Case) -> Application | None:
    """The program that the attempt's browser is, where the device reports it."""
    browser = case.machine.browser(case.attempt.browser) if case.attempt.browser else None
    return browser.application if browser else None


def _started(policy: Policy, program: Application, machine: Machine) -> Started:
    return Started.of(program, machine.catalogue, policy.bundle.application_corrections)


def _startup(policy: Policy, frame: Frame, program: Application, case: Case) -> tuple[LayerVerdict, frozenset[str]]:
    started = _started(policy, program, case.machine)
    return startup_layer(policy, frame, program, started, case.situation.user)


def _intended_start(policy: Policy, case: Case, whole: Policy | None) -> _Sayings:
    assert case.attempt.start is not None
    program, situation = case.attempt.start, case.situation
    layer, _ = _startup(policy, policy.frame(situation), program, case)
    if whole is not None:
        frame = whole.frame(situation)
        contenders = weigh_start(frame, _started(whole, program, case.machine)).contenders
        aside = teller_of(whole).left_aside(frame, contenders, situation)
        layer = layer.model_copy(update={"left_aside": aside})
    return _Sayings([intended_layer(policy, layer, case.machine, Path())], [])


def _effective_start(policy: Policy, case: Case) -> _Sayings:
    assert case.attempt.start is not None
    machine, applied, program = case.machine, case.machine.applied, case.attempt.start
    caveats = machine_caveats(machine)
    if applied is None:
        return _Sayings([_nothing(Layer.STARTUP, caveats[0].detail)], caveats)
    own = case.by_own_clock
    frame = applied.frame(own.situation)
    layer, missing = _startup(applied, frame, program, own)
    if own is not case:
        timely, _ = _startup(applied, applied.frame(case.situation), program, case)
        caveats += _clock_caveats(machine, (timely,), (layer,))
    layer, more = effective_startup(policy, applied, layer, machine)
    started = _started(applied, program, machine)
    facts = _missing_facts(Layer.STARTUP, applied, case, lambda: weigh_start(frame, started).contenders)
    return _Sayings([layer], [*caveats, *more, *_missing_fields(missing), *facts])


def _missing_fields(missing: frozenset[str]) -> list[Caveat]:
    return [sentences.fields_missing(sorted(missing))] if missing else []


# --- a host's categories ---


def categories_of(policy: Policy, index: CategoryIndex, host: str) -> Entry:
    """The host's entry as this policy's corrections and the index give it."""
    return look_up(host, index, policy.bundle.corrections)
