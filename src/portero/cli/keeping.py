"""Commands of nouns whose objects are kept alike: list, show, set, remove."""

from __future__ import annotations

import argparse
from collections.abc import Callable, Sequence
from typing import Any

from portero.cli import output
from portero.cli.command import DONE, Commands, Context, add_change, add_csv, add_yes, confirmed, tell_removed
from portero.client import NotFound, Portero
from portero.client.authored import Kept
from portero.client.connection import fields_of
from portero.core.nouns.base import Noun


class Family:
    """The commands of one noun whose objects are kept alike: list, show, set, remove."""

    def __init__(self, word: str, model: type[Noun], part: Callable[[Portero], Kept[Any, Any]]) -> None:
        self.noun, self.model, self.part = word.replace("-", " "), model, part

    def list(self, columns: Sequence[str], row: Callable[[Any], Sequence[Any]], empty: str) -> Callable[[Context], int]:
        """A command that lists them; `row` gives an object's cells under the columns."""

        def run(context: Context) -> int:
            with context.client() as portero:
                found = list(self.part(portero).list(context.options.search))
            if context.options.json:
                output.print_json(found)
            elif context.options.csv:
                names = list(self.model.model_fields)
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
            options = context.options
            with context.client() as portero:
                part = self.part(portero)
                try:
                    seen = part.get(options.key)
                except NotFound:
                    seen = None
                before = fields_of(seen, self.model) if seen else {"key": options.key}
                wanted = self.model.model_validate(before | values(options, before))
                if seen is None:
                    made = part.create(wanted, reason=options.reason)
                else:
                    made = part.put(options.key, wanted, version=seen.version, reason=options.reason)
            self._told(context, made, tell)
            return DONE

        return run

    def remove(self) -> Callable[[Context], int]:
        """A command that removes one that nothing uses."""

        def run(context: Context) -> int:
            options = context.options
            with context.client() as portero:
                seen = self.part(portero).get(options.key)
                if not confirmed(options, f"Remove {self.noun} {options.key}?"):
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


def given_in(options: argparse.Namespace, *names: str) -> dict[str, Any]:
    """Those of the options that were given."""
    return {name: value for name in names if (value := getattr(options, name)) is not None}


# --- declaring ---


def add_list(noun: Commands, run: Callable[[Context], int], word: str) -> None:
    """The verb that lists a noun's objects."""
    made = noun.add("list", run, f"List {word}s.", f"portero {word.replace(' ', '-')} list")
    made.add_argument("--search", metavar="TEXT", help="only those in which the text stands")
    add_csv(made)


def add_show(noun: Commands, run: Callable[[Context], int], word: str, example: str) -> None:
    """The verb that shows one."""
    made = noun.add("show", run, f"Show one {word}.", f"portero {word.replace(' ', '-')} show {example}")
    made.add_argument("key", metavar="KEY")


def add_remove(noun: Commands, run: Callable[[Context], int], word: str, example: str) -> None:
    """The verb that removes one."""
    path = word.replace(" ", "-")
    made = noun.add("remove", run, f"Remove one {word} that nothing uses.", f"portero {path} remove {example}")
    made.add_argument("key", metavar="KEY")
    add_yes(made)
    add_change(made)
