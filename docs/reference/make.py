"""Write what is generated: the OpenAPI description, the command line's help, the table of commands."""

from __future__ import annotations

import argparse
import json
import os
from collections.abc import Iterator
from pathlib import Path

HERE = Path(__file__).parent
TABLE = HERE.parents[1] / "src/portero/cli/commands.json"


def openapi() -> str:
    """The OpenAPI description as the service gives it."""
    from portero.service.app import create_app

    return json.dumps(create_app().openapi(), indent=1, ensure_ascii=False) + "\n"


def _commands(parser: argparse.ArgumentParser) -> Iterator[argparse.ArgumentParser]:
    nested = [action for action in parser._actions if isinstance(action, argparse._SubParsersAction)]
    if not nested:
        yield parser
    for action in nested:
        for child in action.choices.values():
            yield from _commands(child)


def command_line() -> str:
    """The help of every command, as one page."""
    from portero.cli.families import parser_of as portero
    from portero.endpoint.main import parser as endpoint

    parts = ["# The command line\n", "Written by `make reference`; do not edit.\n"]
    for top in (portero(), endpoint()):
        parts.append(f"## {top.prog}\n\n```text\n{top.format_help().rstrip()}\n```\n")
        for command in _commands(top):
            parts.append(f"### {command.prog}\n\n```text\n{command.format_help().rstrip()}\n```\n")
    return "\n".join(parts)


def table() -> str:
    """All commands as data, from which `portero` is understood before a family is loaded."""
    from portero.cli.families import parser_of
    from portero.cli.table import write_table

    return write_table(parser_of())


def main() -> None:
    """Write the pages, and the table of commands."""
    os.environ["COLUMNS"] = "100"
    (HERE / "openapi.json").write_text(openapi())
    home = str(Path.home())
    (HERE / "command-line.md").write_text(command_line().replace(home, "~"))
    TABLE.write_text(table())


if __name__ == "__main__":
    main()
