"""Tables: columns wrap at words, names are never broken, and what goes into a pipe is not cut."""

from __future__ import annotations

import re
import sys

import pytest

from portero.cli import output

NAME = "quick-category-eastquay-desk-01--eastquay-desk-01-and-more"
SENTENCE = "On whole-fleet, mandatory: blocks Sexual content, all of Danger and all of Hurtful and unlawful."


@pytest.fixture
def table(capsys, monkeypatch):
    """Prints a table of names and sentences; returns its lines."""

    def printed(*rows, columns=None, terminal=False, wide=False):
        monkeypatch.setattr(sys.stdout, "isatty", lambda: terminal)
        if columns is None:
            monkeypatch.delenv("COLUMNS", raising=False)
        else:
            monkeypatch.setenv("COLUMNS", str(columns))
        output.be_wide(wide)
        try:
            output.print_table(("NAME", "MACHINES", "WHAT IT DOES"), rows, right=(1,))
        finally:
            output.be_wide(False)
        return re.sub(r"\x1b\[[0-9;]*m", "", capsys.readouterr().out).splitlines()

    return printed


def test_sentences_wrap_at_words_and_names_stay_whole(table):
    lines = table((NAME, "246", SENTENCE), ("short", "1", "Short."))
    assert lines[1].startswith(NAME)
    assert " ".join(line[70:].strip() for line in lines[1:-1]) == SENTENCE
    assert max(map(len, lines)) <= 100
    assert lines[-1].split() == ["short", "1", "Short."]


def test_what_goes_into_a_pipe_is_as_long_as_its_names(table):
    long = "h" * 300
    lines = table((long, "1", SENTENCE), columns=60)
    assert lines[1].startswith(long)
    assert "…" not in "".join(lines)


def test_a_name_too_long_for_a_terminal_ends_with_an_ellipsis(table):
    lines = table((NAME, "246", "blocks.a-long-name-of-something.example"), columns=60, terminal=True)
    assert len(lines) == 2, "nothing is broken over lines"
    assert max(map(len, lines)) <= 60
    name, devices, does = lines[1].split()
    assert (name[-1], devices, does[-1]) == ("…", "246", "…")
    assert NAME.startswith(name[:-1])


def test_wide_wraps_nothing(table):
    lines = table((NAME, "246", SENTENCE * 3), columns=40, wide=True)
    assert len(lines) == 2
    assert lines[1].endswith(SENTENCE * 3)


def test_what_machines_tell_does_nothing_to_a_terminal(table, capsys):
    hostile = "Viewer\x1b]0;owned\x07\x1b[2J\x9b31m"
    (_, line) = table((hostile, "1", "said\r"))
    assert line.startswith("Viewer\\x1b]0;owned\\x07\\x1b[2J\\x9b31m")
    output.say(hostile)
    output.note(hostile)
    told = capsys.readouterr()
    assert not set(told.out + told.err) & set("\x1b\x07\x9b\r")
