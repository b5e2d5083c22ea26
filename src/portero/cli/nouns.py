"""The commands of every noun that administrators author: list, show, set, remove.

Nouns with more to say have a module of their own, made of the same parts; all others are registered here.
"""

from __future__ import annotations

import argparse
from collections.abc import Callable, Sequence
from typing import Any

import yaml

from portero.cli import output
from portero.cli.command import (
    DONE,
    Commands,
    Context,
    UsageProblem,
    add_change,
    add_csv,
    add_yes,
    confirmed,
    tell_removed,
)
from portero.client import NotFound, Portero
from portero.client.collection import Collection
from portero.client.connection import fields_of
from portero.core.nouns.estate import NOUNS
from portero.core.nouns.registry import AuthoredNoun
from portero.formats.estate_document import write_object


class Family:
    """The commands of one noun."""

    def __init__(self, word: str) -> None:
        self.noun = NOUNS[word]

    def part(self, portero: Portero) -> Collection[Any, Any, Any]:
        """The noun's objects."""
        found: Collection[Any, Any, Any] = getattr(portero, self.noun.list)
        return found

    def list(self, columns: Sequence[str], row: Callable[[Any], Sequence[Any]], empty: str) -> Callable[[Context], int]:
        """A command that lists them; `row` gives an object's cells under the columns."""

        def run(context: Context) -> int:
            with context.client() as portero:
                found = list(self.part(portero).list(context.options.search))
            if context.options.json:
                output.print_json(found)
            elif context.options.csv:
                names = list(self.noun.model.model_fields)
                output.print_csv(names, ([getattr(one, name) for name in names] for one in found))
            elif not found:
                output.say(empty)
            else:
                output.print_table(columns, [row(one) for one in found])
            return DONE

        return run

    def show(self, tell: Callable[[Any], None]) -> Callable[[Context], int]:
        """A command that shows one."""

        def run(context: Context) -> int:
            with context.client() as portero:
                found = self.part(portero).get(context.options.key)
            self._told(context, found, tell)
            return DONE

        return run

    def set(
        self, values: Callable[[argparse.Namespace, dict[str, Any]], dict[str, Any]], tell: Callable[[Any], None]
    ) -> Callable[[Context], int]:
        """A command that makes one, or changes what its options name; `values` gives those, knowing what was there."""

        def run(context: Context) -> int:
            options, model = context.options, self.noun.model
            with context.client() as portero:
                part = self.part(portero)
                try:
                    seen = part.get(options.key)
                except NotFound:
                    seen = None
                before = fields_of(seen, model) if seen else {self.noun.key: options.key}
                wanted = model.model_validate(before | values(options, before))
                if seen is None:
                    made = part.create(wanted, reason=options.reason)
                else:
                    made = part.put(wanted, version=seen.version, reason=options.reason)
            self._told(context, made, tell)
            return DONE

        return run

    def remove(self) -> Callable[[Context], int]:
        """A command that removes one that nothing uses."""

        def run(context: Context) -> int:
            options = context.options
            with context.client() as portero:
                seen = self.part(portero).get(options.key)
                if not confirmed(options, f"Remove {self.noun.one} {options.key}?"):
                    return DONE
                self.part(portero).remove(options.key, version=seen.version, reason=options.reason)
            tell_removed(context, options.key)
            return DONE

        return run

    @staticmethod
    def _told(context: Context, found: Any, tell: Callable[[Any], None]) -> None:
        if context.options.json:
            output.print_json(found)
        else:
            tell(found)

    # --- declaring ---

    def declare(self, commands: Commands) -> Commands:
        """The noun among the commands."""
        return commands.noun(self.noun.command, self.noun.about, of=self.noun.word)

    def add_list(self, verbs: Commands, run: Callable[[Context], int]) -> None:
        """The verb that lists them."""
        made = verbs.add("list", run, f"List {self.noun.plural}.", f"portero {self.noun.command} list")
        made.add_argument("--search", metavar="TEXT", help="only those in which the text stands")
        add_csv(made)

    def add_show(self, verbs: Commands, run: Callable[[Context], int], example: str) -> None:
        """The verb that shows one."""
        made = verbs.add("show", run, f"Show one {self.noun.one}.", f"portero {self.noun.command} show {example}")
        made.add_argument("key", metavar="KEY")

    def add_set(self, verbs: Commands, run: Callable[[Context], int], example: str) -> argparse.ArgumentParser:
        """The verb that makes one, or changes it."""
        told = f"Make {self.noun.a}, or change the one of that key."
        made = verbs.add("set", run, told, f"portero {self.noun.command} set {example}")
        made.add_argument("key", metavar="KEY")
        return made

    def add_remove(self, verbs: Commands, run: Callable[[Context], int], example: str) -> None:
        """The verb that removes one."""
        made = verbs.add(
            "remove",
            run,
            f"Remove one {self.noun.one} that nothing uses.",
            f"portero {self.noun.command} remove {example}",
        )
        made.add_argument("key", metavar="KEY")
        add_yes(made)
        add_change(made)


def given_in(options: argparse.Namespace, *names: str) -> dict[str, Any]:
    """Those of the options that were given."""
    return {name: value for name in names if (value := getattr(options, name)) is not None}


# --- nouns that have no commands of their own ---


def _values(options: argparse.Namespace, _before: dict[str, Any]) -> dict[str, Any]:
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


def _teller(noun: AuthoredNoun) -> Callable[[Any], None]:
    def tell(one: Any) -> None:
        print(write_object(fields_of(one, noun.model)), end="")

    return tell


def _register_alike(commands: Commands, noun: AuthoredNoun) -> None:
    family = Family(noun.word)
    verbs, tell = family.declare(commands), _teller(noun)
    rows = family.list(
        (noun.word.upper(), "NAME"),
        lambda one: (noun.key_of(one), getattr(one, "name", None) or ""),
        f"There is no {noun.one} yet: portero {noun.command} set KEY FIELD=VALUE",
    )
    family.add_list(verbs, rows)
    family.add_show(verbs, family.show(tell), "KEY")
    put = family.add_set(verbs, family.set(_values, tell), "KEY name=Morning")
    put.add_argument(
        "fields", nargs="*", metavar="FIELD=VALUE", help="a field of the document, its value as YAML; the others stay"
    )
    add_change(put)
    family.add_remove(verbs, family.remove(), "KEY")


def register(commands: Commands) -> None:
    """Add the commands of all nouns that have none yet."""
    for word, noun in NOUNS.items():
        if word not in commands.nouns:
            _register_alike(commands, noun)
