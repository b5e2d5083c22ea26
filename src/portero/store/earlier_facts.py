"""What devices told before, and the labels they had: kept as differences, each from what came after it.

Programs are too many for that, and who was signed in is nobody's business later: of both only the newest is known.
"""

from __future__ import annotations

import json
import sqlite3
from typing import Any, NamedTuple

from portero.core.nouns.device import Facts
from portero.formats.merge_patch import patch_between, patched

_NOT_KEPT = ("applications", "signed_in")


class FactsThen(NamedTuple):
    """What a device told last before a moment, but for what is not kept, which is that of now; and its labels then."""

    facts: Facts
    labels: dict[str, str]


def _told(connection: sqlite3.Connection, device: str) -> tuple[dict[str, Any], dict[str, str]]:
    row = connection.execute(
        "SELECT device_facts.document, device.labels FROM device_facts JOIN device ON device.id = device_facts.device"
        " WHERE device.id = ?",
        (device,),
    ).fetchone()
    return json.loads(row[0]), json.loads(row[1])


class Remembering:
    """Keeps what a device told, and the labels it had, before they are changed within a `with`."""

    def __init__(self, connection: sqlite3.Connection, device: str, now: float) -> None:
        self._connection, self._device, self._now = connection, device, now

    def __enter__(self) -> None:
        self._before = _told(self._connection, self._device)

    def __exit__(self, problem: type[BaseException] | None, *_more: object) -> None:
        if problem is not None:
            return
        facts, labels = (
            patch_between(_kept(after), _kept(before))
            for before, after in zip(self._before, _told(self._connection, self._device), strict=True)
        )
        if facts or labels:
            # one behind the other, whatever the clock says
            self._connection.execute(
                "INSERT INTO earlier_facts (device, at, facts, labels) SELECT :device, max(:now,"
                " coalesce((SELECT max(at) + 0.001 FROM earlier_facts WHERE device = :device), 0)), :facts, :labels",
                {"device": self._device, "now": self._now, "facts": json.dumps(facts), "labels": json.dumps(labels)},
            )


def _kept(document: dict[str, Any]) -> dict[str, Any]:
    return {name: value for name, value in document.items() if name not in _NOT_KEPT}


def facts_at(connection: sqlite3.Connection, device: str, at: float) -> FactsThen:
    """What a device had told by a moment, and its labels then; as far as that is kept."""
    facts, labels = _told(connection, device)
    rows = connection.execute(
        "SELECT facts, labels FROM earlier_facts WHERE device = ? AND at > ? ORDER BY at DESC", (device, at)
    )
    for row in rows:
        facts, labels = patched(facts, json.loads(row[0])), patched(labels, json.loads(row[1]))
    return FactsThen(Facts.model_validate(facts), labels)
