"""`make bench`: decisions, explanations, batches and compiling, beside what cannot be avoided."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable

import ada_url

from bench.estates import make_estate, make_index, make_traffic, skewed
from bench.fleet import membership_rows, store_rows
from bench.measuring import Row, each, in_turns, print_rows, whole
from portero.core.matching.categories import MemoryIndex
from portero.core.nouns.urls import parse_visit
from portero.core.nouns.estate import Estate
from portero.core.resolving.bundles import compile_bundle
from portero.core.resolving.deciding import Policy, decide
from portero.core.resolving.explaining import HostRulings, categories_of, explain_filter
from portero.formats.bundles import Manifest, key_to_text, new_signing_key, pack_bundle, sign_manifest

_PARTS = ("href", "protocol", "hostname")


def a_class(estate: Estate) -> tuple[str, ...]:
    """A class in twelve of the groups, as a well-grouped machine is."""
    return (*estate.group_order[: len(estate.groups) : max(1, len(estate.groups) // 12)], "whole-fleet")


def decider(index: MemoryIndex, estate: Estate) -> Callable[[str], object]:
    """A bare decision on a URL, with no memo."""
    policy = Policy(compile_bundle(estate, a_class(estate)))
    return lambda url: decide(policy, categories_of(policy, index, parse_visit(url).host).categories)


def decision_rows(index: MemoryIndex, estate: Estate, visits: int, rounds: int) -> list[Row]:
    """One decision, one explanation, a batch, each beside its floor."""
    policy = Policy(compile_bundle(estate, a_class(estate)))
    urls = make_traffic(index, visits)
    hosts = [parse_visit(url).host for url in urls]

    def explained(url: str) -> object:
        return explain_filter(policy, categories_of(policy, index, parse_visit(url).host).categories)

    def parse(url: str) -> object:
        return ada_url.parse_url(url, attributes=_PARTS)

    many = skewed(urls, visits * 10)

    def parse_all() -> None:
        for url in many:
            ada_url.parse_url(url, attributes=_PARTS)

    def batch() -> None:
        rulings = HostRulings(policy, index)
        for url in many:
            rulings.of(parse_visit(url).host)

    parsed, looked_up, decided, told = in_turns(
        rounds, each(parse, urls), each(index.get, hosts), each(decider(index, estate), urls), each(explained, urls)
    )
    parsed_all, batched = in_turns(rounds, whole(parse_all, len(many)), whole(batch, len(many)))
    return [
        Row("floor: parse a URL", parsed),
        Row("floor: look a host up", looked_up),
        Row("one visit decision", decided, parsed.median + looked_up.median, goal=2, steady=3),
        Row("the same with its explanation", told, decided.median, goal=6),
        Row("batch, skewed traffic, memo by host", batched, parsed_all.median, goal=1.2),
    ]


def growth_row(small: tuple[MemoryIndex, Estate], large: tuple[MemoryIndex, Estate], visits: int) -> Row:
    """A decision on the larger estate and index, beside one on the smaller."""
    measurements = [each(decider(*side), make_traffic(side[0], visits)) for side in (small, large)]
    before, after = in_turns(3, *measurements)
    return Row("decision when everything is four times as big", after, before.median, goal=1.5)


def compile_rows(estate: Estate, classes: int, rounds: int) -> list[Row]:
    """Compile, pack and sign classes; beside serialising their rules alone."""
    keys = estate.group_order
    sets = [(*keys[n % len(keys) :: 23][:10], "whole-fleet") for n in range(classes)]
    key = key_to_text(new_signing_key())

    def publish(groups: tuple[str, ...]) -> None:
        packed = pack_bundle(compile_bundle(estate, groups))
        sign_manifest(Manifest(1, packed.digest, packed.size, 1, "2026-01-01T00:00:00Z", "sha256:0"), key)

    bundles = [compile_bundle(estate, groups) for groups in sets]
    packing, publishing = in_turns(rounds, each(pack_bundle, bundles), each(publish, sets))
    return [Row("compile, pack and sign a class (floor: pack)", publishing, packing.median)]


def main() -> int:
    """Measure and print; exits with 1 where a goal is not met."""
    parser = argparse.ArgumentParser(prog="bench", description=__doc__)
    parser.add_argument("--quick", action="store_true", help="smaller sizes, under a minute")
    options = parser.parse_args()
    hosts, visits, rounds = (200_000, 2_000, 3) if options.quick else (1_000_000, 10_000, 5)
    estate = make_estate(groups=200, assignments=1_000)
    index = make_index(hosts)
    rows = decision_rows(index, estate, visits, rounds)
    rows.append(growth_row((make_index(hosts // 4), make_estate(50, 250)), (index, estate), visits))
    rows += compile_rows(estate, 50 if options.quick else 300, rounds)
    machines = 20_000 if options.quick else 100_000
    rows += membership_rows(machines, rounds)
    rows += store_rows(machines, rounds)
    print(f"{hosts:,} hosts, 1,000 assignments, 200 groups; one core. Ratios are to the floor of the same run.\n")
    print_rows(rows)
    return 1 if any(row.met == "NOT MET" for row in rows) else 0


if __name__ == "__main__":
    sys.exit(main())
