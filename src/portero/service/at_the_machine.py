"""What is done about administrators at the service's own machine, by whoever may write to its data folder."""

from __future__ import annotations

import getpass
import os
import pwd
import sqlite3
import time
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path

from portero.core.nouns.administrator import MadeAdministrator, NewAdministrator
from portero.service.administrators import AdministratorsKeeper
from portero.service.guessing import Guessing
from portero.service.problems import Refusal
from portero.store import audit
from portero.store.data_folder import DATABASE, DataFolder, FolderInUse
from portero.store.database import SCHEMA, Store, StoreProblem


class CannotDo(RuntimeError):
    """It cannot be done; the message says why and what to do."""


def add(folder: Path, new: NewAdministrator) -> MadeAdministrator:
    """An administrator more, with a first password. The folder is made where there is none. CannotDo."""
    return _done(folder, "createAdministrator", lambda keeper: keeper.add(new), fresh=True)


def reset(folder: Path, name: str) -> MadeAdministrator:
    """A first password again, and all guesses at the name forgiven. CannotDo."""
    return _done(folder, "resetAdministrator", lambda keeper: keeper.reset(name), fresh=False)


def _done(
    folder: Path, act: str, change: Callable[[AdministratorsKeeper], MadeAdministrator], fresh: bool
) -> MadeAdministrator:
    try:
        with _store(folder, fresh) as store:
            made = change(AdministratorsKeeper(store, time.time))
            told = f"{made.name}: {made.role}, with a first password"
            with store.writing() as connection:
                audit.append(connection, act, time.time(), means="machine", means_id=_user(), detail=told)
            Guessing(store, time.time).forgive(made.name)
            return made
    except (StoreProblem, Refusal) as problem:
        raise CannotDo(str(problem)) from problem
    except OSError as problem:
        raise CannotDo(f"{problem.filename or folder} cannot be used: {problem.strerror}") from problem


def _user() -> str:
    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return "unknown"


@contextmanager
def _store(folder: Path, fresh: bool) -> Iterator[Store]:
    """The store of a folder, whether its service runs or not."""
    database = folder / DATABASE
    if not fresh and not database.exists():
        raise CannotDo(f"{folder} holds no data of a service; name its folder with --data")
    _refuse_other_user(folder)
    try:
        held = DataFolder(folder)
    except FolderInUse:
        held = None
        _refuse_older(database)
    store = Store(database)
    try:
        yield store
    finally:
        store.close()
        if held is not None:
            held.close()


def _refuse_other_user(folder: Path) -> None:
    """What another user wrote there, the service could not write to any more."""
    if folder.exists() and folder.stat().st_uid != os.geteuid():
        owner = _name_of(folder.stat().st_uid)
        raise CannotDo(f"{folder} belongs to {owner}; do this as that user (sudo -u {owner} portero …)")


def _name_of(user: int) -> str:
    """Its name, or as sudo takes it too, # and its number where the system knows no name."""
    try:
        return pwd.getpwuid(user).pw_name
    except KeyError:
        return f"#{user}"


def _refuse_older(database: Path) -> None:
    """A service that runs would not understand its store any more."""
    with closing(sqlite3.connect(f"file:{database}?mode=ro", uri=True)) as connection:
        if connection.execute("PRAGMA user_version").fetchone()[0] != SCHEMA:
            raise CannotDo("the service that runs is another version of Portero than this command; use its own")
