"""The commands of nouns that have no family of their own."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from typing import Any

import yaml

from portero.cli.command import Commands, UsageProblem, add_change
from portero.cli.family import NounFamily
from portero.client.connection import fields_of
from portero.core.nouns.estate import NOUNS
from portero.core.nouns.registry import AuthoredNoun
from portero.formats.estate_document import write_object


def values_of(options: argparse.Namespace, _before: dict[str, Any]) -> dict[str, Any]:
    """`FIELD=VALUE` as the document has it."""
    values: dict[str, Any] = {}
    for text in options.fields:
        name, sign, value = text.partition("=")
        try:
            read = yaml.safe_load(value)
        except yaml.YAMLError as problem:
            raise UsageProblem(f"“{value[:60]}” does not read as YAML; put it in quotes") from problem
        if not sign:
            raise UsageProblem(f"“{text[:60]}” is no field; write it as in name=Morning")
        values[name] = read
    return values


def teller_of(noun: AuthoredNoun) -> Callable[[Any], None]:
    """Tells an object as its document has it."""

    def tell(found: Any) -> None:
        print(write_object(fields_of(found, noun.model)), end="")

    return tell


def add_fields(parser: argparse.ArgumentParser) -> None:
    """The arguments that `values_of` reads."""
    parser.add_argument(
        "fields", nargs="*", metavar="FIELD=VALUE", help="a field of the document, its value as YAML; the others stay"
    )


def _register_alike(commands: Commands, noun: AuthoredNoun) -> None:
    family = NounFamily(noun.model)
    verbs, tell = family.declare(commands), teller_of(noun)
    rows = family.list(
        (noun.word.upper(), "NAME"),
        lambda found: (noun.key_of(found), getattr(found, "name", None) or ""),
        f"There is no {noun.one} yet: portero {noun.command} set KEY FIELD=VALUE",
    )
    family.add_list(verbs, rows)
    family.add_show(verbs, family.show(tell), "KEY")
    put = family.add_set(verbs, family.set(values_of, tell), "KEY name=Morning")
    add_fields(put)
    add_change(put)
    family.add_remove(verbs, family.remove(), "KEY")


def register(commands: Commands) -> None:
    """Add the commands of all nouns that have none yet."""
    for word, noun in NOUNS.items():
        if word not in commands.nouns:
            _register_alike(commands, noun)
