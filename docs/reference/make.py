"""Write the generated reference: the OpenAPI description, and the command line's help."""

from __future__ import annotations

import argparse
import json
import os
from collections.abc import Iterator
from pathlib import Path

HERE = Path(__file__).parent


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
    from portero.cli.main import parser as portero
    from portero.endpoint.main import parser as endpoint

    parts = ["# The command line\n", "Written by `make reference`; do not edit.\n"]
    for top in (portero(), endpoint()):
        parts.append(f"## {top.prog}\n\n```text\n{top.format_help().rstrip()}\n```\n")
        for command in _commands(top):
            parts.append(f"### {command.prog}\n\n```text\n{command.format_help().rstrip()}\n```\n")
    return "\n".join(parts)


def main() -> None:
    """Write both pages."""
    os.environ["COLUMNS"] = "100"
    (HERE / "openapi.json").write_text(openapi())
    home = str(Path.home())
    (HERE / "command-line.md").write_text(command_line().replace(home, "~"))


if __name__ == "__main__":
    main()
