"""The audit trail as JSON Lines, each line chained to the one before by its digest.

A line is a JSON object. Its `digest` is the SHA-256 of the object without it, written as RFC 8785 has it; `previous` is
the digest of the line before.
"""

from __future__ import annotations

import json
from collections.abc import Iterable
from typing import Any, NamedTuple

from portero.core.digests import digest_of

MEDIA_TYPE = "application/jsonl"
MOST_LINE = 20_000


class BrokenTrail(ValueError):
    """The trail is not what was written; the message says from which entry on."""


class Looked(NamedTuple):
    """What was looked through: how many entries, and the numbers of the first and the newest with its digest."""

    entries: int
    first: int
    newest: int
    digest: str


def written(entry: dict[str, Any]) -> str:
    """An entry without its digest, as its digest is made of it. It holds whole numbers, texts and nothing deeper."""
    return json.dumps(entry, sort_keys=True, separators=(",", ":"), ensure_ascii=False)


def digest_of_entry(text: str) -> str:
    """The digest of an entry as it was written."""
    return digest_of(text.encode("utf-8", "surrogatepass"))


def line_of(text: str, digest: str) -> str:
    """The line of an entry as it was written, with its digest and no end of line."""
    return f'{text[:-1]},"digest":"{digest}"}}'


def look_through(lines: Iterable[str | bytes]) -> Looked | None:
    """Look whole lines through, from whatever entry on; None where there are none. BrokenTrail."""
    entries, first, number, digest = 0, 0, 0, ""
    for line in lines:
        entry = _read(line, entries + 1)
        told, previous = entry.pop("digest"), entry.get("previous")
        if digest_of_entry(written(entry)) != told:
            raise BrokenTrail(f"entry {entry['number']} was changed: its digest is another one")
        if not entries:
            first = entry["number"]
            if first == 1 and previous is not None:
                raise BrokenTrail("entry 1 names one before it")
        elif (entry["number"], previous) != (number + 1, digest):
            raise BrokenTrail(f"after entry {number} comes {entry['number']}, which does not follow it")
        entries, number, digest = entries + 1, entry["number"], told
    return Looked(entries, first, number, digest) if entries else None


def _each_once(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    made = dict(pairs)
    if len(made) < len(pairs):
        raise ValueError
    return made


def _read(line: str | bytes, place: int) -> dict[str, Any]:
    try:
        if len(line) > MOST_LINE:
            raise ValueError
        entry = json.loads(line, object_pairs_hook=_each_once)
        if isinstance(entry["number"], int) and isinstance(entry["digest"], str):
            return dict(entry)
    except (ValueError, TypeError, KeyError, RecursionError):
        pass
    raise BrokenTrail(f"line {place} is no entry of an audit trail")
