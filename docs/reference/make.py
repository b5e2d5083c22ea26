"""Write what is generated: the OpenAPI description, the command line's help, the table of commands, and the page of the
ways in which a block does not hold, which is made of the tests that show each.
"""

from __future__ import annotations

import argparse
import json
import os
import sys
from collections.abc import Iterator
from pathlib import Path

HERE = Path(__file__).parent
ROOT = HERE.parents[1]
TABLE = ROOT / "src/portero/cli/commands.json"
WAYS = ROOT / "docs/explanation/why-does-it-not-hold.md"


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


_HEAD = """# Why does it not hold?

Written by `make reference` of the tests that show each way; do not edit.

You block something, walk to a machine, and it opens. `portero why MACHINE URL`, the machine's page and **Verify →
Why?** in the console look through every way in which that can be, in the order below, and say which of them it is:
what is mended alone, tried on the machine's own policy, and leads to what you expected, is the cause. `portero verify`
counts the same causes over the whole fleet.

Two ways are not in the table. **A right is lacking** (2): whoever may not make the mending change is told which role
it needs, and who can give it. **A group is not worked out yet** (14) cannot be: groups are worked out with each change
and each report, in the same transaction; what waits is delivery. What nobody can see from here, such as an endpoint
that lies, takes trying it at the machine.

| | way | told as | on a machine like this | the next step |
|---|---|---|---|---|
"""


def ways() -> str:
    """The page of the ways in which a block does not hold, each with what is told of it in its test's small estate."""
    sys.path[:0] = [str(ROOT / "tests/core"), str(ROOT / "tests")]
    from ways import WAYS as ALL

    from portero.core.insight.whys import why

    rows = []
    for way in ALL:
        cause = next(one for one in why(way.question()).causes if one.code is way.code)
        cells = (str(way.number), way.title, f"`{way.code}`", cause.detail, cause.remedy)
        rows.append("| " + " | ".join(cell.replace("|", "\\|") for cell in cells) + " |")
    return _HEAD + "\n".join(rows) + "\n"


def main() -> None:
    """Write the pages, and the table of commands."""
    os.environ["COLUMNS"] = "100"
    (HERE / "openapi.json").write_text(openapi())
    home = str(Path.home())
    (HERE / "command-line.md").write_text(command_line().replace(home, "~"))
    TABLE.write_text(table())
    WAYS.write_text(ways())


if __name__ == "__main__":
    main()
