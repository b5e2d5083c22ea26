"""Backups: made while the service goes on, looked through, put back; and a store adopted that was copied back."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

from portero.cli import output
from portero.cli.command import DONE, CommandProblem, Commands, Context, add_data, add_yes, confirmed, present
from portero.core import wording

Result = TypeVar("Result")


def _done(work: Callable[[], Result]) -> Result:
    """What the work comes to. CommandProblem."""
    from portero.store.backups import BadBackup  # the store is loaded only where it is needed

    try:
        return work()
    except BadBackup as problem:
        raise CommandProblem(str(problem)) from problem
    except OSError as problem:
        told = f"{problem.filename}: {problem.strerror}" if problem.filename and problem.strerror else str(problem)
        raise CommandProblem(told) from problem


def _told(record: Any, file: Path, said: str) -> Callable[[], None]:
    def tell() -> None:
        size = sum(kept.bytes for kept in record.files)
        activity = "with activity" if record.activity else "without activity"
        output.say(
            f"{said} {file}: revision {record.revision} as of {record.made_at}, {activity}, {size / 1e6:,.1f} MB."
        )

    return tell


def _json(record: Any) -> dict[str, Any]:
    import msgspec

    made: dict[str, Any] = msgspec.to_builtins(record)
    return made


def backup_create(context: Context) -> int:
    from portero.store import backups

    options = context.options
    record = _done(
        lambda: backups.create(options.data, options.file, time.time(), activity=not options.without_activity)
    )
    return present(context, _json(record), _told(record, options.file, "Made"))


def backup_check(context: Context) -> int:
    from portero.store import backups

    record = _done(lambda: backups.check(context.options.file))
    return present(context, _json(record), _told(record, context.options.file, "Whole:"))


def backup_restore(context: Context) -> int:
    from portero.store import backups

    options = context.options
    if options.replace and not confirmed(options, f"Put {options.file} in place of what is in {options.data}?"):
        return DONE
    record, aside = _done(lambda: backups.restore(options.file, options.data, time.time(), replace=options.replace))

    def tell() -> None:
        _told(record, options.file, "Restored")()
        if aside is not None:
            output.say(f"What was there before is in {aside}.")
        output.say(f"Start it with: portero serve --data {options.data}")
        output.say("Machines take what it says from their next check-in on; those that joined since then join again.")

    return present(context, {**_json(record), "replaced": str(aside) if aside else None}, tell)


def backup_adopt(context: Context) -> int:
    with context.client() as portero:
        before = portero.epoch.get()
        ahead = before.devices_ahead
        question = (
            f"Begin another epoch at revision {before.revision}? {wording.counted(ahead, 'machine')} ahead of it will"
            " go back to what this service says."
            if ahead
            else f"No machine is ahead of revision {before.revision}. Begin another epoch all the same?"
        )
        if not confirmed(context.options, question):
            return DONE
        now = portero.epoch.begin()
    return present(context, now, lambda: output.say(f"Epoch {now.epoch} has begun; machines take what it says."))


def register(commands: Commands) -> None:
    """Add this family's commands."""
    noun = commands.noun("backup", "Backups of the service's data, and what to do where a copy was put back.")

    def add(name: str, run: Callable[[Context], int], summary: str, example: str) -> Any:
        made = noun.add(name, run, summary, f"portero backup {name} {example}", service=False)
        made.add_argument("file", type=Path, metavar="FILE", help="the backup")
        return made

    create = add("create", backup_create, "Make a backup, while the service goes on.", "portero-1.backup")
    create.add_argument("--without-activity", action="store_true", help="leave out what machines reported")
    add_data(create)
    add("check", backup_check, "Look a backup through.", "portero-1.backup")
    restore = add("restore", backup_restore, "Put a backup into a folder.", "portero-1.backup --data /var/lib/portero")
    restore.add_argument("--replace", action="store_true", help="move what is there aside")
    add_data(restore)
    add_yes(restore)
    adopt = noun.add(
        "adopt",
        backup_adopt,
        "Let machines take what a service says whose files were copied back.",
        "portero backup adopt",
    )
    add_yes(adopt)
