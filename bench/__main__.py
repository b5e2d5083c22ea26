"""`make bench`: decisions, explanations, batches and compiling, beside what cannot be avoided."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Callable

import ada_url

from bench.activity import activity_rows
from bench.batches import batch_rows
from bench.cedar import cedar_rows
from bench.content import index_rows, indicator_rows
from bench.estates import make_estate, make_index, make_situations, make_traffic
from bench.fleet import membership_rows, store_rows
from bench.foresight import foresight_rows
from bench.growth import growth_rows
from bench.guard import guard_rows
from bench.measuring import Figure, Row, each, in_turns, print_rows, whole
from bench.opening import opening_rows
from bench.pages import page_rows
from bench.programs import catalogue_rows, inventory_rows
from bench.publishing import group_rows, publishing_rows
from bench.pushes import push_rows
from bench.site_lists import site_list_rows
from bench.starting import starting_rows
from bench.verifying import observed_rows, verifying_rows
from bench.wire import wire_rows
from portero.core.insight.differences import differences
from portero.core.insight.effects.touching import touched_groups
from portero.core.matching.categories import MemoryIndex
from portero.core.matching.searches import searched
from portero.core.nouns.estate import Estate
from portero.core.nouns.urls import address_of, parse_visit
from portero.core.resolving.compiling import compile_bundle
from portero.core.resolving.deciding import Visited, decide
from portero.core.resolving.explaining import categories_of
from portero.core.resolving.policy import Policy
from portero.core.resolving.situations import Situation
from portero.core.resolving.telling import teller_of
from portero.formats.bundles import pack_bundle
from portero.formats.manifests import Manifest, key_to_text, new_signing_key, sign_manifest


def a_class(estate: Estate) -> tuple[str, ...]:
    """A class in twelve of the groups, as a well-grouped machine is."""
    return (*estate.group_order[: len(estate.groups) : max(1, len(estate.groups) // 12)], "whole-fleet")


Tried = tuple[str, Situation]


def visited(policy: Policy, index: MemoryIndex, url: str) -> Visited:
    """A visit with all that rules look at, read anew."""
    visit = parse_visit(url)
    entry = categories_of(policy, index, visit.host)
    return Visited(visit, entry.categories, address_of(visit.host), searched(visit, policy.search_pages))


def decider(index: MemoryIndex, estate: Estate) -> Callable[[Tried], object]:
    """A bare decision on a URL in a situation: nothing of a visit is remembered."""
    policy = Policy(compile_bundle(estate, a_class(estate)))
    return lambda tried: decide(policy.frame(tried[1]), visited(policy, index, tried[0]))


def with_situations(urls: list[str]) -> list[Tried]:
    """Each URL visited by somebody, at some time."""
    return list(zip(urls, make_situations(len(urls)), strict=True))


def decision_rows(index: MemoryIndex, estate: Estate, visits: int, rounds: int) -> list[Row]:
    """One decision, one explanation, a batch, each beside its floor."""
    policy = Policy(compile_bundle(estate, a_class(estate)))
    teller = teller_of(policy)
    urls = make_traffic(index, visits)
    hosts, tried = [parse_visit(url).host for url in urls], with_situations(urls)

    def explained(tried: Tried) -> object:
        return teller.filter(policy.frame(tried[1]), visited(policy, index, tried[0]))

    def explained_anew(tried: Tried) -> object:
        teller.forget()
        return explained(tried)

    def parse(url: str) -> object:
        return ada_url.normalize_url(url)

    parsed, looked_up, decided, told = in_turns(
        rounds, each(parse, urls), each(index.get, hosts), each(decider(index, estate), tried), each(explained, tried)
    )
    beside, anew = in_turns(rounds, each(decider(index, estate), tried), each(explained_anew, tried))
    return [
        Row("floor: parse a URL", parsed),
        Row("floor: look a host up", looked_up),
        Row("one visit decision", decided, parsed.median + looked_up.median, goal=5, aim=4, steady=8),
        Row("its explanation, remembered", told, decided.median, goal=3),
        Row("its explanation, not remembered", anew, beside.median, goal=7, aim=6),
    ]


def growth_row(what: str, small: tuple[MemoryIndex, Estate], large: tuple[MemoryIndex, Estate], visits: int) -> Row:
    """A decision on the larger estate and index, beside one on the smaller."""
    measurements = [each(decider(*side), with_situations(make_traffic(side[0], visits))) for side in (small, large)]
    before, after = in_turns(3, *measurements)
    return Row(what, after, before.median, goal=1.5)


def compile_rows(estate: Estate, classes: int, rounds: int) -> list[Row]:
    """Compile, pack and sign classes, beside serialising their rules alone; and what one changed assignment costs."""
    keys = estate.group_order
    sets = [(*keys[n % len(keys) :: 23][:10], "whole-fleet") for n in range(classes)]
    key = key_to_text(new_signing_key())

    def publish(groups: tuple[str, ...], of: Estate = estate) -> None:
        packed = pack_bundle(compile_bundle(of, groups))
        sign_manifest(Manifest(1, packed.digest, packed.size, 1, "2026-01-01T00:00:00Z", "sha256:0"), key)

    first = estate.assignments[0]
    changed = first.model_copy(update={"mandatory": not first.mandatory})

    def one_changed() -> None:
        after = estate.replacing(assignments=(changed, *estate.assignments[1:]))
        touched = touched_groups(estate, after, tuple(differences(estate, after)))
        for groups in sets:
            if touched is None or not touched.isdisjoint(groups):
                publish(groups, after)

    bundles = [compile_bundle(estate, groups) for groups in sets]
    packing, publishing = in_turns(rounds, each(pack_bundle, bundles), each(publish, sets))
    own = [one for one in sets if not set(first.groups).isdisjoint(one)]
    its_own, incremental = in_turns(2, whole(lambda: [publish(one) for one in own], 1), whole(one_changed, 1))
    what = f"one changed assignment to its bundles (floor: its {len(own)} of {classes} classes)"
    return [
        Row("compile, pack and sign a class (floor: pack)", publishing, packing.median),
        Row(what, incremental, its_own.median, goal=1.5),
    ]


def main() -> int:
    """Measure and print; exits with 1 where a goal is not met."""
    parser = argparse.ArgumentParser(prog="bench", description=__doc__)
    parser.add_argument("--quick", action="store_true", help="smaller sizes, under three minutes")
    options = parser.parse_args()
    hosts, visits, rounds = (200_000, 2_000, 3) if options.quick else (1_000_000, 10_000, 5)
    indicators = 4_000 if options.quick else 20_000
    estate = make_estate(200, 1_000, indicators)
    index = make_index(hosts)
    rows: list[Row | Figure] = list(decision_rows(index, estate, visits, rounds))
    batch = (10_000, 100_000) if options.quick else (200_000, 1_000_000)
    rows += batch_rows(index, estate, *batch, rounds)
    small = make_index(hosts // 4), make_estate(50, 250, indicators // 4)
    rows.append(growth_row("decision when everything is four times as big", small, (index, estate), visits))
    more = index, make_estate(200, 1_000, indicators * 5)
    rows.append(growth_row("decision with five times the indicators", (index, estate), more, visits))
    rows += compile_rows(make_estate(200, 1_000), 100 if options.quick else 400, rounds)
    rows += publishing_rows((100, 300) if options.quick else (374, 5_000), indicators, rounds)
    rows += wire_rows(rounds, *((3_000, 300) if options.quick else (20_000, 2_000)))
    rows += activity_rows(300 if options.quick else 2_000)
    rows += site_list_rows(rounds)
    rows += cedar_rows(2_000 if options.quick else 4_000)
    machines = 20_000 if options.quick else 100_000
    rows += membership_rows(machines, rounds)
    rows += store_rows(machines, rounds)
    rows += group_rows(machines, indicators, rounds)
    rows += page_rows(machines, rounds)
    rows += opening_rows(machines, rounds)
    rows += foresight_rows(machines, indicators, 2 if options.quick else 3)
    rows += verifying_rows(machines, 8 if options.quick else 100)
    rows += observed_rows(200 if options.quick else 1_000, 10)
    rows += growth_rows(*((1, 1_000) if options.quick else (2, 2_000)))
    rows += index_rows(*((40_000, 160_000) if options.quick else (1_000_000, 5_000_000)), rounds)
    rows += inventory_rows(600 if options.quick else 3_000)
    rows += catalogue_rows(2_000 if options.quick else 20_000, rounds)
    rows += guard_rows(300 if options.quick else 1_000, rounds)
    rows += push_rows(100 if options.quick else 1_000)
    rows += starting_rows(8 if options.quick else 20)
    rows += indicator_rows((4_000, 20_000) if options.quick else (20_000, 100_000), rounds)
    print(f"{hosts:,} hosts, {indicators:,} indicators, 1,000 assignments, 200 groups; one core.")
    busy = ", ".join(f"{load:.1f}" for load in os.getloadavg())
    print(f"Ratios are to the floor of the same run. The machine's load over 1, 5 and 15 minutes is {busy}.\n")
    print_rows(rows)
    return 1 if any(row.met == "NOT MET" for row in rows) else 0


if __name__ == "__main__":
    sys.exit(main())
