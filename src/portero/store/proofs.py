"""Proofs of changes, kept with their revisions."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence

from pydantic import TypeAdapter

from portero.core.nouns.probe_set import ProbeSet
from portero.core.nouns.proof import Proof

_SETS = TypeAdapter(tuple[ProbeSet, ...])


def add_proof(connection: sqlite3.Connection, proof: Proof, sets: Sequence[ProbeSet]) -> None:
    """Keep the proof of a change with the probes that are to be tried again."""
    written = _SETS.dump_json(tuple(sets), exclude_defaults=True).decode()
    connection.execute(
        "INSERT INTO proof (revision, state, sets, document) VALUES (?, ?, ?, ?)",
        (proof.revision, proof.state, written, proof.model_dump_json(exclude_defaults=True)),
    )


def write_proof(connection: sqlite3.Connection, proof: Proof) -> None:
    """Keep what has come of a proof."""
    connection.execute(
        "UPDATE proof SET state = ?, document = ? WHERE revision = ?",
        (proof.state, proof.model_dump_json(exclude_defaults=True), proof.revision),
    )


def get_proof(connection: sqlite3.Connection, revision: int) -> Proof | None:
    """The proof of a change, if it has one."""
    row = connection.execute("SELECT document FROM proof WHERE revision = ?", (revision,)).fetchone()
    return Proof.model_validate_json(row[0]) if row else None


def waiting_proofs(connection: sqlite3.Connection) -> list[tuple[Proof, tuple[ProbeSet, ...]]]:
    """Those that wait for their probes to come out, with the probes."""
    rows = connection.execute("SELECT document, sets FROM proof WHERE state = 'waiting' ORDER BY revision").fetchall()
    return [(Proof.model_validate_json(row[0]), _SETS.validate_json(row[1])) for row in rows]
