"""All commands as data, so that help, completion and wrong usage load neither models nor the network.

`commands.json` is made of what the families declare (`make reference`); a test keeps it true.
"""

from __future__ import annotations

import argparse
import json
from collections.abc import Collection
from pathlib import Path
from typing import Any

_FILE = Path(__file__).with_name("commands.json")
_YES_OR_NO = "yes or no"
_TYPES = {"int": int}
"""Types that argparse checks. All else is taken as it is written; the family checks it when it runs."""


def described(parser: argparse.ArgumentParser) -> dict[str, Any]:
    """A parser as data: what it says of itself, its arguments, its commands."""
    titles = {id(argument): group.title for group in parser._action_groups[2:] for argument in group._group_actions}
    rivals = {
        id(argument): number
        for number, group in enumerate(parser._mutually_exclusive_groups)
        for argument in group._group_actions
    }
    found: dict[str, Any] = {"description": parser.description, "epilog": parser.epilog}
    if "family" in parser._defaults:
        found["family"] = parser._defaults["family"]
    found["arguments"] = [
        _argument(argument, titles.get(id(argument)), rivals.get(id(argument)))
        for argument in parser._actions
        if not isinstance(argument, argparse._HelpAction | argparse._SubParsersAction)
    ]
    found["one_of"] = [group.required for group in parser._mutually_exclusive_groups]
    for argument in parser._actions:
        if isinstance(argument, argparse._SubParsersAction):
            helps = {choice.dest: choice.help for choice in argument._choices_actions}
            found["title"] = titles.get(id(argument))
            found["commands"] = {
                name: {"help": helps[name], **described(child)} for name, child in argument.choices.items()
            }
    return found


def _argument(argument: argparse.Action, group: str | None, one_of: int | None) -> dict[str, Any]:
    if isinstance(argument, argparse._VersionAction):
        return {"names": argument.option_strings, "action": "version", "version": argument.version}
    found: dict[str, Any] = {"names": argument.option_strings or [argument.dest], "help": argument.help}
    if isinstance(argument, argparse._StoreTrueAction):
        found["action"] = "store_true"
    elif isinstance(argument, argparse._AppendAction):
        found["action"] = "append"
    elif isinstance(argument, argparse.BooleanOptionalAction):
        # it adds the names that say no by itself
        found["names"] = [name for name in argument.option_strings if not name.startswith("--no-")]
        found["action"] = _YES_OR_NO
    told = {
        "group": group,
        "one_of": one_of,
        "nargs": argument.nargs if argument.nargs != 0 else None,
        "choices": list(argument.choices) if argument.choices else None,
        "metavar": argument.metavar,
        "required": (argument.required and bool(argument.option_strings)) or None,
        "type": getattr(argument.type, "__name__", None) if argument.type in _TYPES.values() else None,
    }
    return found | {name: value for name, value in told.items() if value is not None}


def read_table() -> dict[str, Any]:
    """The table that ships with the command."""
    table: dict[str, Any] = json.loads(_FILE.read_bytes())
    return table


def write_table(parser: argparse.ArgumentParser) -> str:
    """The table of a parser, as it is kept."""
    return json.dumps(described(parser), indent=1, ensure_ascii=False) + "\n"


def parser_from(
    table: dict[str, Any], words: Collection[str], parser: argparse.ArgumentParser | None = None
) -> argparse.ArgumentParser:
    """The parser that a table describes. Of commands, those whose name is among `words` are complete; of the others
    there is the name and what they are for.
    """
    parser = parser or argparse.ArgumentParser(prog="portero")
    parser.description, parser.epilog = table["description"], table["epilog"]
    parser.formatter_class = argparse.RawDescriptionHelpFormatter
    if "family" in table:
        parser.set_defaults(family=table["family"])
    one_of = [parser.add_mutually_exclusive_group(required=required) for required in table["one_of"]]
    groups: dict[str, argparse._ArgumentGroup] = {}
    for argument in table["arguments"]:
        keywords = {name: value for name, value in argument.items() if name not in ("names", "group", "one_of")}
        if keywords.get("action") == _YES_OR_NO:
            keywords["action"] = argparse.BooleanOptionalAction
        if "type" in keywords:
            keywords["type"] = _TYPES[keywords["type"]]
        title = argument.get("group")
        if title is not None and title not in groups:
            groups[title] = parser.add_argument_group(title)
        place = one_of[argument["one_of"]] if "one_of" in argument else groups[title] if title else parser
        place.add_argument(*argument["names"], **keywords)
    if "commands" in table:
        parsers = parser.add_subparsers(title=table["title"], metavar="COMMAND", required=True)
        for name, command in table["commands"].items():
            child = parsers.add_parser(name, help=command["help"])
            if name in words:
                parser_from(command, words, child)
    return parser
