"""Address lists: named lists of addresses on the web that rulesets include."""

from __future__ import annotations

import argparse
from typing import Any

from portero.cli import output
from portero.cli.command import CommandProblem, Commands, UsageProblem, add_change, read_bytes
from portero.cli.family import NounFamily, given_in
from portero.core import wording
from portero.core.nouns.address_list import AddressList
from portero.core.nouns.base import unknown_word
from portero.formats.address_lines import read_addresses

MOST_SHOWN = 200


def _values(options: argparse.Namespace, before: dict[str, Any]) -> dict[str, Any]:
    values = given_in(options, "name", "note")
    had = list(before.get("addresses", ()))
    new = [*(_of_file(options.file) if options.file else ()), *options.addresses]
    if options.replace and not new:
        raise UsageProblem("--replace takes the addresses that are to be there instead, by themselves or with --file")
    for address in options.take_out:
        if address not in had:
            raise CommandProblem(unknown_word("address", address, had) + f" in {options.key}")
    kept = [] if options.replace else [address for address in had if address not in options.take_out]
    return values | {"addresses": list(dict.fromkeys([*kept, *new]))}


def _of_file(name: str) -> list[str]:
    try:
        text = read_bytes(name).decode("utf-8-sig")
    except UnicodeDecodeError as problem:
        raise CommandProblem(f"{name} is no UTF-8 text, from byte {problem.start}") from problem
    found = read_addresses(text, name.casefold().endswith(".csv"))
    if not found:
        raise CommandProblem(f"{name} has no address in it; it takes one a line")
    return found


def _tell(found: Any) -> None:
    many = wording.counted(len(found.addresses), "address", "addresses")
    output.say(f"{found.name} ({found.key}), {many}, last changed in revision {found.version}")
    for address in found.addresses[:MOST_SHOWN]:
        output.say(address, indent=2)
    if len(found.addresses) > MOST_SHOWN:
        output.say(f"and {len(found.addresses) - MOST_SHOWN:,} more; --json has them all", indent=2)
    if found.rulesets:
        output.say(f"Included by {wording.joined(found.rulesets)}.")
    else:
        output.say(f"Nothing includes it yet: portero ruleset change RULESET --include {found.key}:block")


def register(commands: Commands) -> None:
    """Add this family's commands."""
    family = NounFamily(AddressList)
    verbs = family.declare(commands)
    example = "partner-sites tickets.example https://files.example/drop/"
    rows = family.list(
        ("ADDRESS LIST", "ADDRESSES", "INCLUDED BY", "WHAT IT HAS"),
        lambda one: (one.key, f"{len(one.addresses):,}", wording.joined(one.rulesets) or "–", one.sentence),
        f"There is no address list yet: portero address-list set {example}",
    )
    family.add_list(verbs, rows)
    family.add_show(verbs, family.show(_tell), "partner-sites")
    by_file = "portero address-list set partner-sites --file sites.csv --replace"
    put = family.add_set(verbs, family.set(_values, _tell), f"{example}\n  {by_file}")
    told = "a host with all below it, .host for that one alone, a URL, an IP address or range, or a site pattern"
    put.add_argument("addresses", nargs="*", metavar="ADDRESS", help=told)
    put.add_argument("--file", metavar="FILE", help="addresses from a file, one a line, or the first column of a .csv")
    put.add_argument("--replace", action="store_true", help="have these only; else they come to those that are there")
    put.add_argument("--take-out", action="append", default=[], metavar="ADDRESS", help="may be given again")
    put.add_argument("--name", help="name for people")
    put.add_argument("--note", help="a note")
    add_change(put)
    family.add_remove(verbs, family.remove(), "partner-sites")
