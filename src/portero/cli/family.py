"""The commands that all nouns which administrators author have: list, show, set, remove. Families are made of them."""

from __future__ import annotations

import argparse
from collections.abc import Callable, Sequence
from typing import Any

from portero.cli import output
from portero.cli.command import (
    DONE,
    Commands,
    Context,
    add_change,
    add_csv,
    add_yes,
    confirmed,
    present,
    tell_removed,
)
from portero.client import NotFound, Portero
from portero.client.collection import Collection
from portero.client.connection import fields_of
from portero.core.nouns.registry import Authored, noun_of


class NounFamily:
    """The commands of one noun."""

    def __init__(self, model: type[Authored]) -> None:
        self.noun = noun_of(model)

    def part(self, portero: Portero) -> Collection[Any, Any, Any]:
        """The noun's objects."""
        found: Collection[Any, Any, Any] = getattr(portero, self.noun.list)
        return found

    def list(self, columns: Sequence[str], row: Callable[[Any], Sequence[Any]], empty: str) -> Callable[[Context], int]:
        """A command that lists them; `row` gives an object's cells under the columns."""

        def run(context: Context) -> int:
            with context.client() as portero:
                found = list(self.part(portero).list(context.options.search))
            names = list(self.noun.model.model_fields)

            def tell() -> None:
                if not found:
                    output.say(empty)
                else:
                    output.print_table(columns, [row(item) for item in found])

            return present(
                context, found, tell, csv=(names, ([getattr(item, name) for name in names] for item in found))
            )

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
                if before.get("name") == options.key:
                    # what has no name is shown by its key; written down, that would be a change
                    del before["name"]
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
        present(context, found, lambda: tell(found))

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
