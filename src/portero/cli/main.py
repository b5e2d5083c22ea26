"""The command `portero`: understood here, from the table alone; run by the family that it is of."""

from __future__ import annotations

import os
import sys

from portero.cli.table import parser_from, read_table
from portero.core.nouns import building


def run(arguments: list[str] | None = None) -> int:
    """Run a command; returns its exit status. Nothing that a user can do ends in a traceback."""
    alone = arguments is None
    arguments = sys.argv[1:] if arguments is None else arguments
    completing = "_ARGCOMPLETE" in os.environ
    words = os.environ.get("COMP_LINE", "").split() if completing else arguments
    parser = parser_from(read_table(), words)
    if completing:
        import argcomplete

        argcomplete.autocomplete(parser)
    options = parser.parse_args(arguments)
    if alone:
        building.deferred = options.family != "serve"
    try:
        from portero.cli.running import run_command  # what a command needs is loaded once it is known which one

        return run_command(options.family, arguments)
    except KeyboardInterrupt:
        return 130


if __name__ == "__main__":
    sys.exit(run())
