"""The attempts that machines reported."""

from __future__ import annotations

import sys
import time
from datetime import UTC, datetime, timedelta

from portero.cli import output
from portero.cli.command import (
    DONE,
    Commands,
    Context,
    add_csv,
    add_limit,
    add_reason,
    present,
)
from portero.client import Portero
from portero.core import wording
from portero.core.nouns.action import Verdict
from portero.core.nouns.activity import Activity


def activity_list(context: Context) -> int:
    options = context.options
    names = ("device", "host", "program", "verdict", "user", "reference")
    filters = {name: value for name in names if (value := getattr(options, name))}
    if options.tests:
        filters["tests"] = True
    with context.client() as portero:
        found = list(portero.activity.list(limit=options.limit, **filters))
        tried = ("url", "start", "parent", "running", "categories")
        columns = ("at", "hostname", "user", "verdict", *tried, "continued", "logged", "reference")

        def tell() -> None:
            if not found and not options.watch:
                output.say("Nothing of the kind was reported.")
            else:
                _print_activity(found)

        present(
            context, found, tell, csv=(columns, ([_cell(activity, name) for name in columns] for activity in found))
        )
        if options.watch:
            _follow(portero, found, filters)
    return DONE


_RUNNING = {"found": ", which ran already", "ended": ", which ran, and was ended"}


def _cell(activity: Activity, name: str) -> object:
    if name == "start":
        return activity.tried if activity.start else None
    return getattr(activity, name)


def _print_activity(found: list[Activity]) -> None:
    rows = []
    for activity in found:
        winner = activity.winner
        because = winner.ruleset if winner else ""
        word = "log" if activity.verdict == "allow" and activity.logged else activity.verdict.value
        rows.append(
            (
                f"{activity.at:%H:%M:%S}"
                if datetime.now(UTC) - activity.at < timedelta(hours=12)
                else f"{activity.at:%m-%d %H:%M}",
                activity.hostname,
                activity.user or "–",
                output.mark(word),
                activity.tried + (_RUNNING[activity.running] if activity.running else ""),
                because,
                activity.reference or "",
            )
        )
    headings = ("AT (UTC)", "MACHINE", "PERSON", "VERDICT", "HOST OR PROGRAM", "RULESET", "REFERENCE")
    output.print_table(headings, rows)


def _follow(portero: Portero, seen: list[Activity], filters: dict[str, object]) -> None:
    known = {(activity.device, activity.seq) for activity in seen}
    try:
        while True:
            time.sleep(1)
            newest = list(portero.activity.list(limit=50, **filters))
            fresh = [activity for activity in newest if (activity.device, activity.seq) not in known]
            if fresh:
                _print_activity(fresh)
                known |= {(activity.device, activity.seq) for activity in fresh}
    except KeyboardInterrupt:
        print(file=sys.stderr)


def activity_counts(context: Context) -> int:
    """How many attempts there were in each of the last hours or days."""
    options = context.options
    names = ("host", "program", "verdict", "ruleset")
    with context.client() as portero:
        found = portero.activity.counts(
            options.per, periods=options.last, **{name: getattr(options, name) for name in names}
        )

    def tell() -> None:
        if not any(item.attempts for item in found.items):
            output.say("Nothing of the kind was reported.")
            return
        form = "%Y-%m-%d %H:%M" if found.per == "hour" else "%Y-%m-%d"
        rows = [
            (f"{item.at:{form}}", str(item.attempts), *(str(item.verdicts.get(one, 0)) for one in _VERDICTS))
            for item in found.items
        ]
        headings = (found.per.upper() + " (UTC)", "ATTEMPTS", "BLOCKED", "WARNED", "RECORDED")
        output.print_table(headings, rows, right=(1, 2, 3, 4))
        output.say("")
        most = [(one.tried, str(one.attempts)) for one in found.most]
        output.print_table(("TRIED MOST OFTEN", "ATTEMPTS"), most, right=(1,))

    columns = ("at", "attempts", *_VERDICTS)
    cells = ((item.at, item.attempts, *(item.verdicts.get(one, 0) for one in _VERDICTS)) for item in found.items)
    return present(context, found, tell, csv=(columns, cells))


_VERDICTS = (Verdict.BLOCK, Verdict.WARN, Verdict.ALLOW)


def activity_retention(context: Context) -> int:
    """Say for how long what machines report is kept; change it."""
    options = context.options
    asked = {"activity_days": options.activity_days, "visit_days": options.visit_days}
    changed = {name: days for name, days in asked.items() if days is not None}
    with context.client() as portero:
        if changed:
            portero.settings.change(reason=options.reason, **changed)
        found = portero.settings.get()

    def tell() -> None:
        kept = wording.counted(found.activity_days, "day")
        output.say(f"Attempts that machines report are kept for {kept};")
        output.say(f"where hosts were seen, and how often, for {wording.counted(found.visit_days, 'day')}.")

    return present(context, {name: getattr(found, name) for name in asked}, tell)


def register(commands: Commands) -> None:
    """Add this family's commands."""
    activity = commands.noun("activity", "The attempts that machines reported.")
    retention = activity.add(
        "retention",
        activity_retention,
        "Say for how long what machines report is kept; change it.",
        "portero activity retention --activity-days 365",
    )
    retention.add_argument("--activity-days", type=int, metavar="N", help="for attempts that machines report")
    retention.add_argument("--visit-days", type=int, metavar="N", help="for where hosts were seen, and how often")
    add_reason(retention)
    listing = activity.add(
        "list", activity_list, "List reported attempts, newest first.", "portero activity list --verdict block --watch"
    )
    listing.add_argument("--device", help="on this machine only")
    listing.add_argument("--host", help="part of the host")
    listing.add_argument("--program", help="starts of programs only: part of the product, file or path")
    listing.add_argument("--verdict", choices=("allow", "warn", "block"))
    listing.add_argument("--user", help="by this person only")
    listing.add_argument("--reference", metavar="CODE", help="the code on a notice")
    listing.add_argument("--tests", action="store_true", help="with visits to test hosts")
    listing.add_argument("--watch", action="store_true", help="go on with what comes in")
    add_limit(listing, 50)
    add_csv(listing)
    counting = activity.add(
        "counts",
        activity_counts,
        "Count reported attempts by the hour or the day.",
        "portero activity counts --per hour --last 24 --verdict block",
    )
    counting.add_argument("--per", choices=("hour", "day"), default="day", help="by the hour, or by the day (day)")
    counting.add_argument("--last", type=int, default=14, metavar="N", help="so many hours or days (14)")
    counting.add_argument("--host", help="part of the host")
    counting.add_argument("--program", help="starts of programs only: part of the product, file or path")
    counting.add_argument("--verdict", choices=("allow", "warn", "block"))
    counting.add_argument("--ruleset", help="decided by a rule of this ruleset")
    add_csv(counting)
