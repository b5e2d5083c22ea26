"""The coverage table: which control reaches which browser on which platform."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any, get_args

from portero.cli import output
from portero.cli.command import (
    DONE,
    Commands,
    Context,
    add_change,
    add_csv,
    present,
)
from portero.client import Portero
from portero.core import sentences
from portero.core.nouns.coverage import ANY, BrowserFamily, CoverageEntry, CoverageRow


def coverage_list(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        if not options.csv:
            return _tell_coverage(context, portero)
        rows = list(portero.coverage.list())
    names = [name for name in CoverageEntry.model_fields if name != "version"]
    output.print_csv(names, ([_cell(row, name) for name in names] for row in rows))
    return DONE


def _cell(row: CoverageEntry, name: str) -> object:
    if name == "passed_by":
        return "; ".join(row.passed_by)
    return _limits(row) if name == "list_limits" else getattr(row, name)


def _limits(row: CoverageRow) -> str:
    """As `--list-limit` takes them."""
    return " ".join(
        f"{one.browser_from}:{one.entries}" if one.browser_from else f"{one.entries}" for one in row.list_limits
    )


def _tell_coverage(context: Context, portero: Portero) -> int:
    rows = list(portero.coverage.list())

    def tell() -> None:
        table = [
            (
                *(row.control, row.browser, row.platform, row.http.value, row.https.value),
                *(row.browser_from or "–", row.layer_from or "–", row.platform_from or "–"),
                *(_limits(row) or "–", str(row.date)),
                row.source + ("" if row.shipped else " (edited)"),
            )
            for row in rows
        ]
        reach = ("CONTROL", "BROWSER", "PLATFORM", "HTTP", "HTTPS")
        headings = (*reach, "BROWSER FROM", "LAYER FROM", "PLATFORM FROM", "ENTRIES", "DATE", "SOURCE")
        output.print_table(headings, table)
        for row in rows:
            if row.passed_by:
                output.say(f"! {row.key}: {sentences.passed_by(row.passed_by).detail}")

    return present(context, rows, tell)


def coverage_set(context: Context) -> int:
    options = context.options
    given: dict[str, Any] = {
        name: value
        for name in ("browser_from", "layer_from", "platform_from", "policy_file")
        if (value := getattr(options, name))
    }
    if options.reads_as:
        given["family"] = options.reads_as
    if options.list_limit:
        given["list_limits"] = [_limit(text) for text in options.list_limit]
    if options.passed_by:
        given["passed_by"] = options.passed_by
    row = CoverageRow.model_validate(
        {
            **{name: getattr(options, name) for name in ("control", "browser", "platform", "http", "https", "source")},
            **given,
            "date": datetime.now(UTC).date(),
        }
    )
    with context.client() as portero:
        version = {one.key: one.version for one in portero.coverage.list()}.get(row.key)
        portero.coverage.put(row, version=version, reason=options.reason)
        return _tell_coverage(context, portero)


def _limit(text: str) -> dict[str, str | None]:
    """A number of entries, or VERSION:ENTRIES."""
    version, _, entries = text.rpartition(":")
    return {"browser_from": version or None, "entries": entries}


def coverage_reset(context: Context) -> int:
    options = context.options
    key = f"{options.control}/{options.browser}/{options.platform}"
    with context.client() as portero:
        portero.coverage.remove(key, reason=options.reason)
        return _tell_coverage(context, portero)


def register(commands: Commands) -> None:
    """Add this family's commands."""
    coverage = commands.noun("coverage", "Which control reaches which browser on which platform.", of="coverage row")
    listing = coverage.add("list", coverage_list, "Show the coverage table.", "portero coverage list")
    put = coverage.add(
        "set",
        coverage_set,
        "Edit a row of the table.",
        'portero coverage set filter gullwing --https none --source "tried at the desk"',
    )
    reset = coverage.add(
        "reset", coverage_reset, "Put a row back as shipped.", "portero coverage reset filter gullwing"
    )
    for made in (put, reset):
        made.add_argument("control", choices=("filter", "site-list", "startup"))
        made.add_argument("browser", nargs="?", default=ANY, help="name of the browser, or any")
        made.add_argument("platform", nargs="?", default=ANY, help="family of the operating system, or any")
        add_change(made)
    put.add_argument("--http", choices=("page", "host", "none"), default="page", help="reach over http (page)")
    put.add_argument("--https", choices=("page", "host", "none"), required=True, help="reach over https")
    put.add_argument("--browser-from", metavar="VERSION", help="lowest version of the browser")
    put.add_argument("--layer-from", metavar="VERSION", help="lowest version of the layer")
    told = "lowest version of the operating system, which is to be named"
    put.add_argument("--platform-from", metavar="VERSION", help=told)
    told = "site-list: how many entries of each list the browser takes, from a version on; repeatable"
    put.add_argument("--list-limit", metavar="[VERSION:]ENTRIES", action="append", help=told)
    told = "site-list: by whose rules the browser reads its list"
    put.add_argument("--reads-as", choices=get_args(BrowserFamily), help=told)
    put.add_argument("--policy-file", metavar="PLACE", help="site-list: where the browser looks for its managed policy")
    told = "startup: a known way past a rule, in words; repeatable"
    put.add_argument("--passed-by", metavar="WAY", action="append", help=told)
    put.add_argument("--source", required=True, help="who found it out, and how")
    add_csv(listing)
