"""Attempts counted by the hour and by the day (UTC): what is left when the attempts themselves are gone."""

from __future__ import annotations

import sqlite3
from collections import Counter
from dataclasses import dataclass
from typing import Any

from portero.core.nouns.activity import Period
from portero.store.paging import like_pattern

HOUR, DAY = 3_600, 86_400

COUNTED = ("host", "program", "rule")
"""The kinds of words by which attempts are counted."""


def add_counts(connection: sqlite3.Connection, counts: Counter[tuple[Any, ...]]) -> None:
    """Add attempts to the hour and the day that they belong to: the begin of the hour, what is counted, the verdict."""
    days: Counter[tuple[Any, ...]] = Counter()
    for (hour, *rest), number in counts.items():
        days[hour // DAY * DAY, *rest] += number
    for table, column, counted in (("activity_hour", "hour", counts), ("activity_day", "day", days)):
        connection.executemany(
            f"INSERT INTO {table} ({column}, host, program, rule, verdict, attempts) VALUES (?, ?, ?, ?, ?, ?)"
            " ON CONFLICT DO UPDATE SET attempts = attempts + excluded.attempts",
            # in the order in which they are kept: neighbours are found together
            sorted((*key, number) for key, number in counted.items()),
        )


MOST_TRIED = 10
"""So many hosts and programs are told, those that were tried most often."""


@dataclass(frozen=True)
class CountFilter:
    """Which attempts are counted: between two moments, of some host, program, verdict or ruleset."""

    since: int
    until: int
    host: str | None = None
    program: str | None = None
    verdict: str | None = None
    ruleset: str | None = None

    def conditions(self, column: str) -> tuple[str, dict[str, Any]]:
        """The SQL conditions and their values."""
        where, values = [f"{column} >= :since", f"{column} < :until"], {"since": self.since, "until": self.until}
        asked: dict[str, Any] = {**values}
        said = "SELECT id FROM activity_word WHERE kind = '{0}' AND word LIKE :{0} ESCAPE '\\'"
        for kind, sought in (("host", self.host.lower() if self.host else None), ("program", self.program)):
            if sought:
                where.append(f"{kind} IN ({said.format(kind)})")
                asked[kind] = like_pattern(sought)
        if self.verdict:
            where.append("verdict = :verdict")
            asked["verdict"] = self.verdict
        if self.ruleset:
            where.append(
                "rule IN (SELECT id FROM activity_word WHERE kind = 'rule' AND word ->> '$.ruleset' = :ruleset)"
            )
            asked["ruleset"] = self.ruleset
        return " AND ".join(where), asked


def hosts_stopped(connection: sqlite3.Connection, since: float, limit: int) -> list[str]:
    """The hosts that were stopped most often since a moment."""
    rows = connection.execute(
        "SELECT word FROM (SELECT host, sum(attempts) AS number FROM activity_hour"
        " WHERE hour >= ? AND verdict = 'block' AND host <> 0 GROUP BY host) AS stopped"
        " JOIN activity_word ON activity_word.id = stopped.host ORDER BY number DESC, word LIMIT ?",
        (int(since), limit),
    )
    return [row[0] for row in rows]


def counts(
    connection: sqlite3.Connection, per: Period, wanted: CountFilter
) -> tuple[dict[int, dict[str, int]], list[tuple[str, bool, int]]]:
    """Attempts by period and verdict; and the hosts and programs that were tried most often, with how often."""
    table = f"activity_{per}"
    where, values = wanted.conditions(per)
    by_period: dict[int, dict[str, int]] = {}
    for begin, verdict, number in connection.execute(
        f"SELECT {per}, verdict, sum(attempts) FROM {table} WHERE {where} GROUP BY 1, 2", values
    ):
        by_period.setdefault(begin, {})[verdict] = number
    most = connection.execute(
        f"SELECT word, kind = 'program', number FROM (SELECT iif(host, host, program) AS what, sum(attempts) AS number"
        f" FROM {table} WHERE {where} GROUP BY 1 ORDER BY 2 DESC, 1 LIMIT {MOST_TRIED}) AS tried"
        " JOIN activity_word ON activity_word.id = tried.what ORDER BY number DESC, word",
        values,
    )
    return by_period, [(row[0], bool(row[1]), row[2]) for row in most]
