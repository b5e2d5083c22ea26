"""What a command loads: nothing that it does not need; and the table from which it is understood beforehand."""

from __future__ import annotations

import argparse
import json
import os
import subprocess
import sys
from collections.abc import Iterator

import pytest

from portero.cli.families import parser_of
from portero.cli.table import parser_from, read_table, write_table

NEEDED_FOR_WORK = ("pydantic", "http.client", "urllib3", "rich", "portero.client")


def loaded(*arguments: str, **environment: str) -> tuple[str, list[str]]:
    """What a command says, and which of the modules needed for work it has loaded when it ends."""
    script = f"""
import sys
from portero.cli.main import run
sys.argv = {["portero", *arguments]!r}
try:
    run()
finally:
    print([name for name in {NEEDED_FOR_WORK!r} if name in sys.modules])
"""
    done = subprocess.run(
        [sys.executable, "-c", script], capture_output=True, text=True, env={**os.environ, **environment}, check=False
    )
    said, _, names = done.stdout.rstrip().rpartition("\n")
    return said + done.stderr, json.loads(names.replace("'", '"'))


@pytest.mark.parametrize(
    ("arguments", "told"),
    [
        (("--help",), "portero demo"),
        (("--version",), "portero 0.1.0"),
        (("ruleset", "create", "--help"), "--block WHAT"),
        (("rulset", "list"), "invalid choice: 'rulset'"),
        (("ruleset", "list", "--nonsense"), "unrecognized arguments: --nonsense"),
        (("rule", "add", "r", "host", "a.example", "--action", "stop"), "invalid choice: 'stop'"),
        (("revision", "show", "first"), "invalid int value: 'first'"),
    ],
)
def test_help_and_wrong_usage_load_neither_models_nor_the_network(arguments, told):
    said, names = loaded(*arguments)
    assert told in said
    assert names == []


def test_a_command_is_completed_without_models(tmp_path):
    line = "portero assignment pa"
    file = tmp_path / "completions"
    script = (
        "import sys; from portero.cli.main import run; sys.argv = ['portero']\n"
        f"import os; os.dup2(os.open({str(file)!r}, os.O_CREAT | os.O_WRONLY), 8)\n"
        "import os, atexit; ending = os._exit\n"
        f"os._exit = lambda code: (print([name for name in {NEEDED_FOR_WORK!r} if name in sys.modules]), "
        "sys.stdout.flush(), ending(code))\n"
        "run()"
    )
    environment = {"_ARGCOMPLETE": "1", "COMP_LINE": line, "COMP_POINT": str(len(line)), "_ARGCOMPLETE_IFS": "\n"}
    done = subprocess.run(
        [sys.executable, "-c", script], capture_output=True, text=True, env={**os.environ, **environment}, check=False
    )
    assert file.read_text().strip() == "pause", done.stderr
    assert done.stdout.strip() == "[]"


def commands(parser: argparse.ArgumentParser) -> Iterator[argparse.ArgumentParser]:
    """A parser and all below it."""
    yield parser
    for argument in parser._actions:
        if isinstance(argument, argparse._SubParsersAction):
            for child in argument.choices.values():
                yield from commands(child)


def test_the_table_says_what_the_families_declare(monkeypatch):
    monkeypatch.setenv("COLUMNS", "100")
    declared, table = parser_of(), read_table()
    assert json.loads(write_table(declared)) == table, "run make reference"
    words = {word for parser in commands(declared) for word in parser.prog.split()}
    told = [parser.format_help() for parser in commands(parser_from(table, words))]
    assert told == [parser.format_help() for parser in commands(declared)]
