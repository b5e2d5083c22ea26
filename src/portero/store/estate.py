"""The estate's objects as they are now, each with the revision that last changed it."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import msgspec

from portero.core.nouns.estate import NOUNS, PARTS, Estate
from portero.core.nouns.revision import Change
from portero.store.database import StoreProblem

Versions = Mapping[str, Mapping[str, int]]
"""The revision that last changed each object, by noun and key; parts that there is one of go by their own name."""


def load_estate(connection: sqlite3.Connection) -> tuple[Estate, dict[str, dict[str, int]]]:
    """The whole estate at its newest revision, with its versions. StoreProblem where it holds a noun nobody knows."""
    parts: dict[str, Any] = {noun.list: [] for noun in NOUNS.values()}
    versions: dict[str, dict[str, int]] = {word: {} for word in (*NOUNS, *PARTS)}
    rows = connection.execute("SELECT noun, key, body, version FROM authored ORDER BY noun, position, key")
    for word, key, body, version in rows:
        noun = NOUNS.get(word)
        if noun is not None:
            parts[noun.list].append(noun.model.model_validate(json.loads(body)))
        elif word in PARTS:
            parts[word] = json.loads(body)
        else:
            raise StoreProblem(f"the store holds objects of a noun that this Portero does not know: {word} “{key}”")
        versions[word][key] = version
    return Estate(**parts), versions


def apply_changes(connection: sqlite3.Connection, revision: int, changes: Iterable[Change]) -> None:
    """Make of the objects what the changes say; what is new stands last in its list."""
    for change in changes:
        if change.after is None:
            connection.execute("DELETE FROM authored WHERE noun = ? AND key = ?", (change.noun, change.key))
            continue
        body = change.after[change.noun] if change.noun in PARTS else change.after
        connection.execute(
            "INSERT INTO authored (noun, key, body, version, position) VALUES (:noun, :key, :body, :version,"
            " (SELECT coalesce(max(position), 0) + 1 FROM authored WHERE noun = :noun))"
            " ON CONFLICT (noun, key) DO UPDATE SET body = excluded.body, version = excluded.version",
            {"noun": change.noun, "key": change.key, "body": msgspec.json.encode(body).decode(), "version": revision},
        )


def put_in_order(connection: sqlite3.Connection, noun: str, keys: Sequence[str]) -> None:
    """The order of a noun's objects in their list."""
    connection.executemany(
        "UPDATE authored SET position = ? WHERE noun = ? AND key = ?",
        [(place, noun, key) for place, key in enumerate(keys, 1)],
    )
