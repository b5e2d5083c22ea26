"""Guesses at secrets that were wrong, by who made them: kept, so that a restart forgives nothing."""

from __future__ import annotations

import sqlite3
from collections.abc import Collection
from typing import NamedTuple

FORGOTTEN_SECONDS = 86_400.0
"""After so long without another, a guesser is forgotten."""
MOST_KEPT = 200_000


class Guesses(NamedTuple):
    """How often somebody was wrong, and when last."""

    number: int
    last: float


def of(connection: sqlite3.Connection, guessers: Collection[str], now: float) -> dict[str, Guesses]:
    """The wrong guesses of each of these who made some lately."""
    marks = ", ".join("?" * len(guessers))
    rows = connection.execute(
        f"SELECT guesser, number, last FROM guess WHERE guesser IN ({marks}) AND last > ?",
        (*guessers, now - FORGOTTEN_SECONDS),
    )
    return {row["guesser"]: Guesses(row["number"], row["last"]) for row in rows}


def note(connection: sqlite3.Connection, guessers: Collection[str], now: float) -> None:
    """Each of these was wrong once more."""
    connection.executemany(
        "INSERT INTO guess (guesser, number, last) VALUES (?, 1, ?) ON CONFLICT (guesser) DO UPDATE SET"
        " number = iif(last > ?, number, 0) + 1, last = excluded.last",
        [(guesser, now, now - FORGOTTEN_SECONDS) for guesser in guessers],
    )


def take_back(connection: sqlite3.Connection, guessers: Collection[str]) -> None:
    """One guess of each of these was none after all."""
    connection.executemany(
        "UPDATE guess SET number = max(0, number - 1) WHERE guesser = ?", [(guesser,) for guesser in guessers]
    )


def forgive(connection: sqlite3.Connection, guesser: str) -> None:
    """None of this one's guesses counts any more."""
    connection.execute("UPDATE guess SET number = 0 WHERE guesser = ?", (guesser,))


def forget(connection: sqlite3.Connection, now: float) -> None:
    """Drop those who have not guessed for long; and the oldest, where there are too many."""
    connection.execute("DELETE FROM guess WHERE last <= ?", (now - FORGOTTEN_SECONDS,))
    connection.execute(
        "DELETE FROM guess WHERE guesser IN (SELECT guesser FROM guess ORDER BY last DESC LIMIT -1 OFFSET ?)",
        (MOST_KEPT,),
    )


def forgive_name(connection: sqlite3.Connection, name: str) -> None:
    """No guess at a name counts any more, from wherever."""
    connection.execute(
        "UPDATE guess SET number = 0 WHERE guesser = ? OR guesser GLOB ?", (f"at {name}", f"at {name} from *")
    )
