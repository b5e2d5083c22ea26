"""Telling machines at once to ask for what is new, and their receipts."""

from __future__ import annotations

import sys
import time
from datetime import UTC, datetime
from typing import Any

from portero.cli import output
from portero.cli.command import DONE, NOT_AS_EXPECTED, CommandProblem, Commands, Context, add_csv, add_limit, present
from portero.client import Portero
from portero.core.nouns.push import NewPush, Push, Receipt, ReceiptState

_ON_THE_WAY_SECONDS = 60.0
"""A machine that was told answers within seconds; after so long it is not waited for."""
_BETWEEN_SECONDS = 2.0
"""A machine that is just then busy with what it was told before asks again so soon."""
_MOST_SHOWN = 20
_HEADINGS = ("HOSTNAME", "STATE", "TOLD", "FETCHED", "APPLIED", "LAST HEARD", "EXPECTED, OR WHY NOT")
_FIELDS = tuple(Receipt.model_fields)


def push(context: Context) -> int:
    options = context.options
    asked = NewPush(devices=tuple(options.machine), group=options.group, waiting=options.waiting, reason=options.reason)
    with context.client() as portero:
        made = portero.pushes.create(asked)
        if not options.no_wait:
            made = follow(portero, made, quiet=options.json)
        behind = [one for one in portero.pushes.receipts(made.id) if one.state is not ReceiptState.APPLIED]

    def tell() -> None:
        output.say(made.sentence)
        if behind:
            output.print_table(_HEADINGS, [_row(one) for one in behind[:_MOST_SHOWN]])
        if len(behind) > _MOST_SHOWN:
            output.say(f"and {len(behind) - _MOST_SHOWN:,} more: portero receipt list {made.id}")

    present(context, {"push": made, "behind": behind}, tell)
    return NOT_AS_EXPECTED if made.failed else DONE


def follow(portero: Portero, made: Push, quiet: bool) -> Push:
    """Wait for the machines that were told; a line where something changed."""
    began, told = time.monotonic(), ""

    def is_on_the_way() -> bool:
        passed = time.monotonic() - began
        answering = (made.told or made.fetched) and passed < _ON_THE_WAY_SECONDS
        return bool(answering or (made.waiting and passed < _BETWEEN_SECONDS))

    try:
        while is_on_the_way():
            if made.sentence != told and not quiet:
                print(told := made.sentence, file=sys.stderr, flush=True)
            time.sleep(0.2)
            made = portero.pushes.get(made.id)
    except KeyboardInterrupt:
        print(file=sys.stderr)
    return made


def _at(moment: datetime | None) -> str:
    return f"{moment:%Y-%m-%d %H:%M} UTC" if moment else "–"


def _expected(moment: datetime | None) -> str:
    """When a machine should be heard of next: “in 40 s”."""
    if moment is None:
        return "–"
    seconds = (moment - datetime.now(UTC)).total_seconds()
    return f"in {output.span(seconds)}" if seconds > 0 else f"overdue for {output.span(-seconds)}"


def _row(one: Receipt) -> tuple[Any, ...]:
    expected = one.problem or _expected(one.expected_at)
    times = (output.ago(at) if at else "–" for at in (one.told_at, one.fetched_at, one.applied_at, one.last_heard))
    return (one.hostname, output.mark(one.state.value), *times, expected)


def receipt_list(context: Context) -> int:
    options = context.options
    with context.client() as portero:
        pushes = portero.pushes.list()
        id = options.push or (pushes[0].id if pushes else None)
        if id is None:
            raise CommandProblem("nothing has been pushed yet; see portero push --help")
        made = portero.pushes.get(id)
        state = ReceiptState(options.state) if options.state else None
        receipts = list(portero.pushes.receipts(id, state=state, limit=options.limit))

    def tell() -> None:
        output.say(f"Push {made.id} of {_at(made.at)} by {made.by}, to {made.scope}: {made.sentence}")
        if receipts:
            output.print_table(_HEADINGS, [_row(one) for one in receipts])

    rows = [[getattr(one, field) for field in _FIELDS] for one in receipts]
    return present(context, {"push": made, "receipts": receipts}, tell, csv=(_FIELDS, rows))


def register(commands: Commands) -> None:
    """Add this family's commands."""
    out = commands.add(
        "push",
        push,
        "Tell machines now to ask for what is new, and follow their receipts.",
        "portero push --group kiosks",
    )
    out.add_argument("machine", metavar="MACHINE", nargs="*", help="hostname or id of a machine")
    out.add_argument("--group", help="all machines of this group")
    out.add_argument("--waiting", action="store_true", help="all that do not hold their newest bundle")
    out.add_argument("--reason", metavar="TEXT", help="why, for the record")
    out.add_argument("--no-wait", action="store_true", help="do not wait for those that were told")
    receipts = commands.noun("receipt", "Receipts of pushes.")
    listed = receipts.add(
        "list", receipt_list, "How far each machine is with a push.", "portero receipt list --state waiting"
    )
    listed.add_argument("push", metavar="PUSH", nargs="?", help="id of the push (the last one)")
    listed.add_argument("--state", choices=[state.value for state in ReceiptState], help="those in this state")
    add_limit(listed, 1000)
    add_csv(listed)
