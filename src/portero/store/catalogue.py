"""The catalogue: every program of the fleet, its versions, and which machine has which. Kept up as facts come."""

from __future__ import annotations

import json
import sqlite3
from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from portero.core.nouns.application_set import ApplicationCondition
from portero.core.nouns.catalogue import CatalogueEntry, CatalogueVersion, ProgramPurpose
from portero.core.nouns.device import Application
from portero.store.moments import moment
from portero.store.paging import Query, Rows, like_pattern, page

NEW_SECONDS = 7 * 86_400.0
"""A program, or a version, is new for so long."""
_VERSION_FIELDS = ("version", "file", "path", "signer", "certificate", "sha256")
MOST_VERSIONS = 200
_PURPOSE = "coalesce(program.category, program.known_category)"
"""What a program is for: as machines tell, else as a feed does."""
Corrected = Mapping[str, str]
"""What products are for as it was corrected, by product, folded."""
_IS_CORRECTED = (
    "(json_extract(program.identity, '$[0]') = 'product'"
    " AND json_extract(program.identity, '$[1]') IN (SELECT value FROM json_each(:{name})))"
)


def _identity(application: Application) -> tuple[str, str, str | None] | None:
    """What a program is known by, what it is called, and its vendor. None where nothing names it."""
    name = application.product or application.file
    if name is None:
        return None
    vendor = application.vendor if application.product else None
    kind = "product" if application.product else "file"
    return json.dumps([kind, name.casefold(), (vendor or "").casefold()]), name, vendor


def _fields(identity: str, application: Application) -> str:
    own = {name: value for name in _VERSION_FIELDS if (value := getattr(application, name)) is not None}
    return json.dumps([identity, own], sort_keys=True)


# --- kept up ---


def note_programs(connection: sqlite3.Connection, device: str, programs: Iterable[Application], now: float) -> None:
    """These are the device's programs now."""
    before = {row[0] for row in connection.execute("SELECT version FROM installed WHERE device = ?", (device,))}
    after = _versions(connection, programs, now)
    if after == before:
        return
    programs_before, programs_after = (_programs_of(connection, some) for some in (before, after))
    connection.executemany(
        "DELETE FROM installed WHERE device = ? AND version = ?", [(device, version) for version in before - after]
    )
    connection.executemany(
        "INSERT INTO installed (device, version) VALUES (?, ?)", [(device, v) for v in after - before]
    )
    for table, fewer, more in (
        ("program_version", before - after, after - before),
        ("program", programs_before - programs_after, programs_after - programs_before),
    ):
        for step, ids in ((-1, fewer), (1, more)):
            connection.executemany(f"UPDATE {table} SET devices = devices + ? WHERE id = ?", [(step, id) for id in ids])
    connection.executemany(
        "UPDATE program SET gone_at = CASE WHEN devices = 0 THEN ? END WHERE id = ?",
        [(now, id) for id in programs_before ^ programs_after],
    )


def version_id(connection: sqlite3.Connection, application: Application, now: float) -> int | None:
    """The number of a version that was started, put in where nobody has told of it; None where nothing names it."""
    found = next(iter(_versions(connection, (application,), now)), None)
    connection.execute(
        "UPDATE program SET gone_at = ? WHERE id = (SELECT program FROM program_version WHERE id = ?)"
        " AND devices = 0 AND gone_at IS NULL",
        (now, found),
    )
    return found


def _versions(connection: sqlite3.Connection, programs: Iterable[Application], now: float) -> set[int]:
    """The ids of the versions that these programs are; those that are new are put in."""
    found = set()
    for application in programs:
        known = _identity(application)
        if known is None:
            continue
        fields = _fields(known[0], application)
        row = connection.execute("SELECT id FROM program_version WHERE fields = ?", (fields,)).fetchone()
        found.add(row[0] if row else _new_version(connection, known, fields, application, now))
    return found


def _new_version(
    connection: sqlite3.Connection,
    known: tuple[str, str, str | None],
    fields: str,
    application: Application,
    now: float,
) -> int:
    identity, name, vendor = known
    words = " ".join(filter(None, (name, vendor, application.category))).lower()
    connection.execute(
        "INSERT INTO program (identity, name, vendor, category, first, words) VALUES (?, ?, ?, ?, ?, ?)"
        " ON CONFLICT (identity) DO UPDATE SET category = coalesce(category, excluded.category),"
        # one that only a feed named is first seen now
        " first = CASE WHEN versions = 0 THEN excluded.first ELSE first END",
        (identity, name, vendor, application.category, now, words),
    )
    (program,) = connection.execute("SELECT id FROM program WHERE identity = ?", (identity,)).fetchone()
    same = connection.execute(
        "SELECT 1 FROM program_version WHERE program = ? AND json_extract(fields, '$[1].version') IS ? LIMIT 1",
        (program, application.version),
    ).fetchone()
    connection.execute(
        "UPDATE program SET versions = versions + ?, newest = ? WHERE id = ?",
        (0 if same else 1, application.version, program),
    )
    made = connection.execute(
        "INSERT INTO program_version (program, fields, first) VALUES (?, ?, ?)", (program, fields, now)
    )
    assert made.lastrowid is not None
    return made.lastrowid


def _programs_of(connection: sqlite3.Connection, versions: set[int]) -> set[int]:
    rows = connection.execute(
        "SELECT DISTINCT program FROM program_version WHERE id IN (SELECT value FROM json_each(?))",
        (json.dumps(sorted(versions)),),
    )
    return {row[0] for row in rows}


def note_known(connection: sqlite3.Connection, feed: str, programs: Iterable[Application], now: float) -> None:
    """These are the programs that a feed names now, whether a machine has them or not."""
    connection.execute("UPDATE program SET known_by = NULL, known_category = NULL WHERE known_by = ?", (feed,))
    for application in programs:
        known = _identity(application)
        if known is None:
            continue
        identity, name, vendor = known
        words = " ".join(filter(None, (name, vendor, application.category))).lower()
        connection.execute(
            "INSERT INTO program (identity, name, vendor, first, newest, words, known_by, known_category)"
            " VALUES (?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (identity) DO UPDATE SET known_by = excluded.known_by,"
            " known_category = coalesce(excluded.known_category, known_category),"
            " newest = CASE WHEN versions = 0 THEN excluded.newest ELSE newest END",
            (identity, name, vendor, now, application.version, words, feed, application.category),
        )
    _drop_unknown(connection)


def forget_known(connection: sqlite3.Connection, feeds: Iterable[str]) -> None:
    """Some feeds are gone, and what only they named with them."""
    for feed in feeds:
        connection.execute("UPDATE program SET known_by = NULL, known_category = NULL WHERE known_by = ?", (feed,))
    _drop_unknown(connection)


def _drop_unknown(connection: sqlite3.Connection) -> None:
    """Drop what no machine ever had and no feed names any more."""
    connection.execute("DELETE FROM program WHERE known_by IS NULL AND versions = 0")


def known_purposes(connection: sqlite3.Connection) -> dict[str, frozenset[str]]:
    """What products are for as feeds of programs say, by product, folded."""
    found: dict[str, frozenset[str]] = {}
    for name, category in connection.execute(
        "SELECT name, known_category FROM program WHERE known_by IS NOT NULL AND known_category IS NOT NULL"
    ):
        product = name.casefold()
        found[product] = found.get(product, frozenset()) | {category}
    return found


def fill(connection: sqlite3.Connection, now: float) -> None:
    """Note the programs of all devices, where none are noted yet: a store of an earlier Portero has none."""
    if connection.execute("SELECT 1 FROM program LIMIT 1").fetchone():
        return
    rows = connection.execute(
        "SELECT device.id, device_facts.document FROM device JOIN device_facts ON device_facts.device = device.id"
        " WHERE lifecycle <> 'retired' AND json_array_length(document, '$.applications') > 0"
    ).fetchall()
    for row in rows:
        programs = json.loads(row["document"])["applications"]
        note_programs(connection, row["id"], map(Application.model_validate, programs), now)


# --- looked at ---


@dataclass(frozen=True)
class CatalogueFilter:
    """What a list of programs is narrowed to."""

    q: str | None = None
    category: str | None = None
    new: bool = False
    gone: bool = False
    is_corrected: bool = False
    known: bool = False

    def conditions(self, now: float, corrected: Corrected) -> tuple[list[str], dict[str, Any]]:
        """The SQL conditions and their values."""
        where, values = ["program.devices > 0"], dict[str, Any]()
        if self.gone:
            where = ["program.devices = 0 AND program.versions > 0"]
        if self.known:
            where = ["program.devices = 0 AND program.known_by IS NOT NULL"]
        for number, word in enumerate((self.q or "").lower().split()):
            where.append(f"program.words LIKE :word{number} ESCAPE '\\'")
            values[f"word{number}"] = like_pattern(word)
        if self.category:
            is_told = f"({_PURPOSE} = :category AND NOT {_IS_CORRECTED.format(name='corrected')})"
            where.append(f"({is_told} OR {_IS_CORRECTED.format(name='into')})")
            values["category"] = self.category
            values["corrected"] = json.dumps(list(corrected))
            values["into"] = json.dumps([name for name, category in corrected.items() if category == self.category])
        if self.is_corrected:
            where.append(_IS_CORRECTED.format(name="corrected"))
            values["corrected"] = json.dumps(list(corrected))
        if self.new:
            where.append(
                "(program.first >= :since OR EXISTS (SELECT 1 FROM program_version"
                " WHERE program = program.id AND first >= :since AND devices > 0))"
            )
            values["since"] = now - NEW_SECONDS
        return where, values


def list_programs(
    connection: sqlite3.Connection,
    filter: CatalogueFilter,
    corrected: Corrected,
    now: float,
    cursor: str | None,
    limit: int,
) -> Rows:
    """One page of programs, those on most machines first; map its rows with `entry_of`."""
    where, values = filter.conditions(now, corrected)
    query = Query("program.*", "program", where, values, "program.devices", True, "program.id")
    return page(connection, query, cursor, limit)


def purposes(connection: sqlite3.Connection, corrected: Corrected) -> list[ProgramPurpose]:
    """What the programs of the fleet are for, those of most programs first."""
    counts: Counter[str | None] = Counter(
        dict(connection.execute(f"SELECT {_PURPOSE}, count(*) FROM program WHERE devices > 0 GROUP BY 1").fetchall())
    )
    for row in connection.execute(
        f"SELECT name, {_PURPOSE} AS category FROM program"
        f" WHERE devices > 0 AND {_IS_CORRECTED.format(name='corrected')}",
        {"corrected": json.dumps(list(corrected))},
    ):
        counts[row["category"]] -= 1
        counts[corrected[row["name"].casefold()]] += 1
    told = sorted((-count, category) for category, count in counts.items() if category is not None and count)
    return [ProgramPurpose(category=category, programs=-count) for count, category in told]


def categories_told(connection: sqlite3.Connection, products: Iterable[str]) -> dict[str, tuple[str, ...]]:
    """What products are for as machines tell, whoever makes them, by product, folded."""
    rows = connection.execute(
        "SELECT DISTINCT json_extract(identity, '$[1]') AS product, category FROM program"
        f" WHERE {_IS_CORRECTED.format(name='products')} AND category IS NOT NULL ORDER BY category",
        {"products": json.dumps([product.casefold() for product in products])},
    )
    found: dict[str, tuple[str, ...]] = {}
    for row in rows:
        found[row["product"]] = (*found.get(row["product"], ()), row["category"])
    return found


def get_program(connection: sqlite3.Connection, id: int) -> sqlite3.Row | None:
    """A program; map it with `entry_of`."""
    row: sqlite3.Row | None = connection.execute("SELECT * FROM program WHERE id = ?", (id,)).fetchone()
    return row


def entry_of(row: sqlite3.Row, corrected: Corrected) -> CatalogueEntry:
    """A row as a program of the catalogue."""
    by_product = row["identity"].startswith('["product"')
    named = {"product": row["name"], "vendor": row["vendor"]} if by_product else {"file": row["name"]}
    put_right = corrected.get(row["name"].casefold()) if by_product else None
    # not checked again: there are many
    return CatalogueEntry.model_construct(
        id=row["id"],
        name=row["name"],
        vendor=row["vendor"],
        category=put_right or row["category"] or row["known_category"],
        machines_tell=row["category"] if put_right else None,
        known_by=row["known_by"],
        is_corrected=put_right is not None,
        devices=row["devices"],
        starts=row["starts"],
        versions=row["versions"],
        newest=row["newest"],
        first_seen=moment(row["first"]),
        last_seen=moment(row["gone_at"]) if row["gone_at"] is not None else None,
        condition=ApplicationCondition.model_construct(**named),
    )


def versions_of(connection: sqlite3.Connection, program: int, since: float) -> dict[int, CatalogueVersion]:
    """The versions of a program by their numbers, those first that were seen last; with how often each was started
    since a moment.
    """
    rows = connection.execute(
        "SELECT *, (SELECT coalesce(sum(starts), 0) FROM start_day WHERE version = program_version.id AND day >= ?)"
        " AS starts FROM program_version WHERE program = ? ORDER BY first DESC, id DESC LIMIT ?",
        (since, program, MOST_VERSIONS),
    )
    return {
        row["id"]: CatalogueVersion(
            **json.loads(row["fields"])[1],
            devices=row["devices"],
            starts=row["starts"],
            first_seen=moment(row["first"]),
        )
        for row in rows
    }


def installed_versions(
    connection: sqlite3.Connection, corrected: Corrected
) -> dict[int, tuple[CatalogueEntry, Application]]:
    """Every version that some machine has, by its number: its program, and what is known of it as a program."""
    programs = {
        row["id"]: entry_of(row, corrected)
        for row in connection.execute("SELECT * FROM program WHERE devices > 0").fetchall()
    }
    rows = connection.execute("SELECT id, program, fields FROM program_version WHERE devices > 0").fetchall()
    found = {}
    for row in rows:
        entry = programs[row["program"]]
        own = {"vendor": entry.vendor, "category": entry.category, "product": entry.condition.product}
        found[row["id"]] = (entry, Application(**own, **json.loads(row["fields"])[1]))
    return found


def installed_on(connection: sqlite3.Connection, hostname: str) -> list[Application]:
    """The programs of the machines of a hostname: what their files say of themselves."""
    rows = connection.execute(
        "SELECT program.name, program.identity, fields FROM device JOIN installed ON installed.device = device.id"
        " JOIN program_version ON program_version.id = installed.version"
        " JOIN program ON program.id = program_version.program WHERE device.hostname = ?",
        (hostname,),
    )
    return [
        Application(
            **({"product": row["name"]} if row["identity"].startswith('["product"') else {}),
            **json.loads(row["fields"])[1],
        )
        for row in rows
    ]


def versions_since(connection: sqlite3.Connection, since: float) -> set[int]:
    """The versions that no machine had told of until then, by their numbers."""
    return {row["id"] for row in connection.execute("SELECT id FROM program_version WHERE first > ?", (since,))}


def machines_with(connection: sqlite3.Connection, versions: Iterable[int]) -> dict[int, set[str]]:
    """The ids of the machines that have some versions, by version."""
    found: dict[int, set[str]] = {}
    for version, device in connection.execute(
        "SELECT version, device FROM installed WHERE version IN (SELECT value FROM json_each(?))",
        (json.dumps(list(versions)),),
    ):
        found.setdefault(version, set()).add(device)
    return found


def devices_with(connection: sqlite3.Connection, program: int, cursor: str | None, limit: int) -> Rows:
    """One page of the machines that have a program, by hostname, each with its versions joined by commas."""
    query = Query(
        "device.id AS device, device.hostname, (SELECT group_concat(json_extract(fields, '$[1].version'), ', ')"
        " FROM installed JOIN program_version ON program_version.id = installed.version"
        " WHERE installed.device = device.id AND program_version.program = :program) AS versions",
        "device",
        [
            "device.id IN (SELECT installed.device FROM program_version CROSS JOIN installed"
            " ON installed.version = program_version.id WHERE program_version.program = :program)"
        ],
        {"program": program},
        "device.hostname",
        False,
        "device.id",
    )
    return page(connection, query, cursor, limit)
