"""How devices come, change and go: joining, checking in, labels, retiring."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

from portero.core.nouns.check_in import LEAST_SILENCE_SECONDS, MISSED
from portero.core.nouns.device import Facts
from portero.store import catalogue
from portero.store.database import Writer
from portero.store.earlier_facts import Remembering
from portero.store.words import move_activity

# --- devices ---


def _fact_columns(facts: Facts) -> dict[str, Any]:
    """The columns that repeat facts."""
    layers = facts.layers
    return {
        "hostname": facts.hostname,
        "kind": facts.kind.value,
        "unit": facts.unit,
        "os_family": facts.os.family if facts.os else None,
        "os_version": facts.os.version if facts.os else None,
        "serial": facts.serial,
        "place": facts.place.value if facts.place else None,
        "zone": facts.zone,
        "filter_layer": layers.filter.value if layers.filter else None,
        "browser_layer": layers.browser.value if layers.browser else None,
        "startup_layer": layers.startup.value if layers.startup else None,
        "words": " ".join((facts.hostname, facts.unit or "", facts.serial or "")).lower(),
    }


def _keep_facts(connection: sqlite3.Connection, device: str, facts: Facts, now: float) -> None:
    connection.execute(
        "INSERT INTO device_facts (device, document) VALUES (?, ?)"
        " ON CONFLICT (device) DO UPDATE SET document = excluded.document",
        (device, facts.model_dump_json(exclude_none=True)),
    )
    catalogue.note_programs(connection, device, facts.applications, now)


def facts_of(connection: sqlite3.Connection, device: str) -> Facts:
    """What a device told last."""
    (document,) = connection.execute("SELECT document FROM device_facts WHERE device = ?", (device,)).fetchone()
    return Facts.model_validate_json(document)


def known_since(connection: sqlite3.Connection, device: str) -> float:
    """Since when a device is known."""
    return float(connection.execute("SELECT known_at FROM device WHERE id = ?", (device,)).fetchone()[0])


def applied_bundles(connection: sqlite3.Connection) -> dict[str, str | None]:
    """What each device says that it rules by, by its id."""
    return {row[0]: row[1] for row in connection.execute("SELECT id, applied_bundle FROM device")}


def _update(connection: sqlite3.Connection, device: str, columns: dict[str, Any]) -> None:
    assigned = ", ".join(f"{column} = :{column}" for column in columns)
    connection.execute(f"UPDATE device SET {assigned} WHERE id = :id", {**columns, "id": device})


def add_device(connection: sqlite3.Connection, id: str, facts: Facts, labels: dict[str, str], now: float) -> None:
    """A machine that is known and has not joined."""
    columns = {"id": id, "lifecycle": "invited", "labels": json.dumps(labels), "known_at": now, **_fact_columns(facts)}
    names, marks = ", ".join(columns), ", ".join(f":{column}" for column in columns)
    connection.execute(f"INSERT INTO device ({names}) VALUES ({marks})", columns)
    _keep_facts(connection, id, facts, now)


def note_joined(connection: sqlite3.Connection, device: str, facts: Facts, credential_hash: str, now: float) -> None:
    """The device has joined, for the first time or again."""
    with Remembering(connection, device, now):
        _note_joined(connection, device, facts, credential_hash, now)


def _note_joined(connection: sqlite3.Connection, device: str, facts: Facts, credential_hash: str, now: float) -> None:
    columns = {
        "lifecycle": "enrolled",
        "credential_hash": credential_hash,
        "revoked": 0,
        "joined_at": now,
        "last_heard": now,
        "silent_after": now + LEAST_SILENCE_SECONDS,
        "told_silent": 0,
        "facts_at": now,
        "applied_bundle": None,
        "applied_revision": None,
        "applied_at": None,
        **_fact_columns(facts),
    }
    _update(connection, device, columns)
    _keep_facts(connection, device, facts, now)


def note_facts(connection: sqlite3.Connection, device: str, facts: Facts, now: float) -> None:
    """The device has told its facts."""
    with Remembering(connection, device, now):
        _update(connection, device, {**_fact_columns(facts), "facts_at": now})
        _keep_facts(connection, device, facts, now)


def set_labels(connection: sqlite3.Connection, device: str, labels: dict[str, str], version: int, now: float) -> bool:
    """Other labels on a device that is as of this version; False where it is not any more."""
    with Remembering(connection, device, now):
        changed = connection.execute(
            "UPDATE device SET labels = ?, version = version + 1 WHERE id = ? AND version = ?",
            (json.dumps(labels), device, version),
        )
    return changed.rowcount > 0


def retire(connection: sqlite3.Connection, device: str, now: float) -> None:
    """The device is gone: in no group, and its credential is good for nothing. Its history stays."""
    catalogue.note_programs(connection, device, (), now)
    connection.execute(
        "UPDATE device SET lifecycle = 'retired', credential_hash = NULL, class = NULL, rejoin_of = NULL,"
        " version = version + 1 WHERE id = ?",
        (device,),
    )
    connection.execute("DELETE FROM obstacle WHERE device = ?", (device,))


def revoke_credential(connection: sqlite3.Connection, device: str) -> None:
    """The device's credential is refused from now on."""
    connection.execute(
        "UPDATE device SET credential_hash = NULL, revoked = 1, version = version + 1 WHERE id = ?", (device,)
    )


def note_event(
    connection: sqlite3.Connection, device: str, now: float, by: str, what: str, reason: str | None = None
) -> None:
    """Record what was done to a device."""
    connection.execute(
        "INSERT INTO device_event (device, at, by, what, reason) VALUES (?, ?, ?, ?, ?)",
        (device, now, by, what, reason),
    )


def add_labels(connection: sqlite3.Connection, device: str, labels: dict[str, str], now: float) -> None:
    """More labels on a device; those it has stay as they are."""
    had = json.loads(connection.execute("SELECT labels FROM device WHERE id = ?", (device,)).fetchone()[0])
    with Remembering(connection, device, now):
        connection.execute("UPDATE device SET labels = ? WHERE id = ?", (json.dumps({**labels, **had}), device))


# --- recognising ---


def is_known_serial(connection: sqlite3.Connection, serial: str) -> bool:
    """Whether a device that is not retired has this serial."""
    row = connection.execute("SELECT 1 FROM device WHERE serial = ? AND lifecycle <> 'retired'", (serial,)).fetchone()
    return row is not None


def invited_as(connection: sqlite3.Connection, hostname: str, serial: str | None) -> str | None:
    """The recorded machine that has not joined and is this one: by serial, else by hostname where one has none."""
    if serial:
        row = connection.execute(
            "SELECT id FROM device WHERE lifecycle = 'invited' AND serial = ? ORDER BY known_at, id", (serial,)
        ).fetchone()
        if row:
            return str(row[0])
    row = connection.execute(
        "SELECT id FROM device WHERE lifecycle = 'invited' AND hostname = ? AND (serial IS NULL OR ? IS NULL)"
        " ORDER BY known_at, id",
        (hostname, serial),
    ).fetchone()
    return str(row[0]) if row else None


def known_by_serial(connection: sqlite3.Connection, serial: str | None) -> str | None:
    """The device of that serial that joined before, the newest where there are several."""
    row = connection.execute(
        "SELECT id FROM device WHERE serial = ? AND joined_at IS NOT NULL AND rejoin_of IS NULL"
        " ORDER BY joined_at DESC LIMIT 1",
        (serial,),
    ).fetchone()
    return str(row[0]) if row else None


def set_rejoin(connection: sqlite3.Connection, device: str, of: str | None) -> None:
    """The device may be another one that joined before; None for one of which that has been answered."""
    connection.execute("UPDATE device SET rejoin_of = ?, version = version + 1 WHERE id = ?", (of, device))


def waits_to_be(connection: sqlite3.Connection, device: str, of: str) -> bool:
    """Whether it is still to be said that the device is that other one."""
    found = connection.execute("SELECT 1 FROM device WHERE id = ? AND rejoin_of = ?", (device, of))
    return found.fetchone() is not None


def take_up(connection: Writer, old: str, new: str, now: float) -> None:
    """The new device is the old one: it takes up the old one's id, labels, activity and events.

    Attempts that it reported as the new one follow the old one's in number, and so do all it will report.
    """
    with Remembering(connection, old, now):
        _take_up(connection, old, new, now)


def _take_up(connection: Writer, old: str, new: str, now: float) -> None:
    offset = move_activity(connection, old, new)
    connection.execute(
        "INSERT INTO visit_count (device, hour, host, visits) SELECT ?, hour, host, visits FROM visit_count"
        " WHERE device = ? ON CONFLICT (device, hour, host) DO UPDATE SET visits = visits + excluded.visits",
        (old, new),
    )
    connection.execute("DELETE FROM visit_count WHERE device = ?", (new,))
    connection.execute(
        "INSERT INTO host_seen (host, device, first, last, visits) SELECT host, ?, first, last, visits FROM host_seen"
        " WHERE device = ? ON CONFLICT (host, device) DO UPDATE SET first = min(first, excluded.first),"
        " last = max(last, excluded.last), visits = visits + excluded.visits",
        (old, new),
    )
    connection.execute("DELETE FROM host_seen WHERE device = ?", (new,))
    connection.execute("UPDATE device_event SET device = ? WHERE device = ?", (old, new))
    row = dict(connection.execute("SELECT * FROM device WHERE id = ?", (new,)).fetchone())
    labels = json.loads(connection.execute("SELECT labels FROM device WHERE id = ?", (old,)).fetchone()[0])
    connection.execute(
        "UPDATE device_facts SET document = (SELECT document FROM device_facts WHERE device = ?) WHERE device = ?",
        (new, old),
    )
    catalogue.note_programs(connection, new, (), now)
    catalogue.note_programs(connection, old, facts_of(connection, old).applications, now)
    connection.execute("UPDATE device SET rejoin_of = ? WHERE rejoin_of = ?", (old, new))
    connection.execute("DELETE FROM device WHERE id = ?", (new,))
    connection.execute("DELETE FROM device_overlay WHERE device IN (?, ?)", (old, new))
    kept = ("id", "known_at", "version", "labels", "rejoin_of", "class", "keeps_name", "overlay", "seq_offset")
    columns = {name: row[name] for name in row if name not in kept}
    columns |= {"seq_offset": offset, "labels": json.dumps({**json.loads(row["labels"]), **labels})}
    _update(connection, old, columns)
    connection.execute("UPDATE device SET version = version + 1 WHERE id = ?", (old,))


def namesakes(connection: sqlite3.Connection, hostname: str) -> list[sqlite3.Row]:
    """Id and `keeps_name` of all devices of a hostname, the one that had it first before the others."""
    return connection.execute(
        "SELECT id, keeps_name FROM device WHERE hostname = ? AND lifecycle <> 'retired'"
        " ORDER BY coalesce(joined_at, known_at), id",
        (hostname,),
    ).fetchall()


def set_keeps_name(connection: sqlite3.Connection, device: str, keeps: bool) -> None:
    """Whether pins by hostname are meant for this device."""
    connection.execute("UPDATE device SET keeps_name = ? WHERE id = ?", (int(keeps), device))


# --- evaluating ---

_MEMBER = (
    "SELECT device.id, device.labels, device.lifecycle, device.told_silent, device.keeps_name, device.class,"
    " device_facts.document FROM device JOIN device_facts ON device_facts.device = device.id"
)


def member_rows(connection: sqlite3.Connection, id: str | None = None) -> list[sqlite3.Row]:
    """What decides the groups of every device that is not retired, or of one."""
    if id is None:
        return connection.execute(f"{_MEMBER} WHERE device.lifecycle <> 'retired'").fetchall()
    return connection.execute(f"{_MEMBER} WHERE device.id = ?", (id,)).fetchall()


def set_class(connection: sqlite3.Connection, device: str, class_id: int | None, recheck_at: float | None) -> None:
    """The class a device is in, and when time alone may next change that."""
    connection.execute("UPDATE device SET class = ?, recheck_at = ? WHERE id = ?", (class_id, recheck_at, device))


def due(connection: sqlite3.Connection, now: float) -> list[str]:
    """Devices whose groups time alone may have changed by now."""
    return [row[0] for row in connection.execute("SELECT id FROM device WHERE recheck_at <= ?", (now,))]


def fall_silent(connection: sqlite3.Connection, now: float) -> list[str]:
    """Devices that have become silent since this was asked last."""
    rows = connection.execute(
        "UPDATE device SET told_silent = 1 WHERE told_silent = 0 AND silent_after < ? AND lifecycle = 'enrolled'"
        " RETURNING id",
        (now,),
    )
    return [row[0] for row in rows.fetchall()]


# --- checking in ---


REGISTERED = ("class", "credential_hash", "revoked", "lifecycle", "told_silent", "overlay", "seq_offset")
"""The columns of a device of which something is in `KnownDevice`, but for what it says itself."""


@dataclass(frozen=True, slots=True)
class KnownDevice:
    """What the device routes need to know of a device."""

    id: str
    class_id: int
    told_silent: bool
    last_heard: float
    usual_interval: float | None
    applied_bundle: str | None
    applied_revision: int | None
    applied_epoch: int
    applied_index: str | None
    seq_offset: int


def by_credential(connection: sqlite3.Connection, credential_hash: str) -> KnownDevice | None:
    """The device with that credential."""
    row = connection.execute(
        "SELECT * FROM device WHERE credential_hash = ? AND class IS NOT NULL", (credential_hash,)
    ).fetchone()
    if row is None:
        return None
    return KnownDevice(
        row["id"],
        row["class"],
        bool(row["told_silent"]),
        row["last_heard"],
        row["usual_interval"],
        row["applied_bundle"],
        row["applied_revision"],
        row["applied_epoch"],
        row["applied_index"],
        row["seq_offset"],
    )


@dataclass(frozen=True, slots=True)
class Wanted:
    """The bundle a device should have."""

    digest: str
    revision: int
    manifest: str


def own_of(connection: sqlite3.Connection, device: str) -> Wanted | None:
    """The overlay that the device should have on top of its class's bundle; None where there is none."""
    row = connection.execute(
        "SELECT digest, revision, manifest FROM device_overlay WHERE device = ?", (device,)
    ).fetchone()
    return Wanted(*row) if row else None


def given_of(connection: sqlite3.Connection, device: str) -> str:
    """The bundle or overlay that the device was given last and has applied. What it says that it holds is not enough:
    it may say anything.
    """
    row = connection.execute("SELECT given_bundle FROM device WHERE id = ?", (device,)).fetchone()
    return (row[0] or "") if row else ""


def note_all_heard(connection: sqlite3.Connection, heard: Iterable[tuple[str, float, float | None, float]]) -> None:
    """Devices have checked in: when, their usual interval, and after how many seconds each was asked to do so again."""
    connection.executemany(
        "UPDATE device SET last_heard = ?, usual_interval = ?, silent_after = ? WHERE id = ?",
        [
            (now, usual, now + max(MISSED * max(usual or 0.0, asked), LEAST_SILENCE_SECONDS), device)
            for device, now, usual, asked in heard
        ],
    )


def note_not_silent(connection: sqlite3.Connection, device: str) -> None:
    """A device that had fallen silent is there again."""
    connection.execute("UPDATE device SET told_silent = 0 WHERE id = ?", (device,))


def note_applied(connection: sqlite3.Connection, device: str, digest: str, age: tuple[int, int], now: float) -> None:
    """The device says that it has applied this bundle, as of an epoch and a revision."""
    connection.execute(
        "UPDATE device SET applied_bundle = :digest, applied_epoch = :epoch, applied_revision = :revision,"
        " applied_at = :now, apply_problem = NULL, apply_failed_at = NULL, given_bundle = iif(:digest = coalesce("
        "device.overlay, (SELECT class.digest FROM class WHERE class.id = device.class)), :digest, given_bundle)"
        " WHERE id = :device",
        {"digest": digest, "epoch": age[0], "revision": age[1], "now": now, "device": device},
    )


class Applied(NamedTuple):
    """What a device says that has nothing to say but that it has applied something."""

    device: str
    digest: str
    epoch: int
    revision: int
    usual_interval: float | None
    asked: float
    """Seconds after which it was asked to check in again."""


def note_all_applied(connection: sqlite3.Connection, applied: Sequence[Applied], now: float) -> None:
    """Many devices say that they have applied something. One statement, however many: between statements others take
    their turn.
    """
    told = [
        (*one[:5], now + max(MISSED * max(one.usual_interval or 0.0, one.asked), LEAST_SILENCE_SECONDS))
        for one in applied
    ]
    connection.execute(
        "UPDATE device SET applied_bundle = told.digest, applied_epoch = told.epoch, applied_revision = told.revision,"
        " applied_at = :now, apply_problem = NULL, apply_failed_at = NULL, last_heard = :now,"
        " usual_interval = told.usual, silent_after = told.silent_after,"
        " given_bundle = iif(told.digest = coalesce(device.overlay,"
        " (SELECT class.digest FROM class WHERE class.id = device.class)), told.digest, given_bundle)"
        " FROM (SELECT value ->> 0 AS id, value ->> 1 AS digest, value ->> 2 AS epoch, value ->> 3 AS revision,"
        " value ->> 4 AS usual, value ->> 5 AS silent_after FROM json_each(:told)) AS told WHERE device.id = told.id",
        {"told": json.dumps(told), "now": now},
    )


def note_index(connection: sqlite3.Connection, device: str, digest: str) -> None:
    """The device has this category index in use; none, where it is empty."""
    connection.execute(
        "UPDATE device SET applied_index = ?, apply_problem = iif(? = '', apply_problem, NULL) WHERE id = ?",
        (digest, digest, device),
    )


def note_failed(connection: sqlite3.Connection, device: str, problem: str, now: float) -> None:
    """The device says that it could not apply its bundle."""
    connection.execute("UPDATE device SET apply_problem = ?, apply_failed_at = ? WHERE id = ?", (problem, now, device))
