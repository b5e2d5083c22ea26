"""Administrators: made, changed, removed, given a way back in. One keeper at least stays."""

from __future__ import annotations

import hmac
import sqlite3
from collections.abc import Callable

from portero.core.nouns.administrator import (
    Administrator,
    AdministratorChange,
    MadeAdministrator,
    NewAdministrator,
)
from portero.service.passwords import hash_password, refuse_poor
from portero.service.problems import Refusal
from portero.service.secrets import new_code
from portero.store import access, administrators
from portero.store.database import Store

FIRST_PASSWORD_SECONDS = 14 * 86_400.0
"""So long a first password opens the door to a password of one's own."""


class AdministratorsKeeper:
    """The administrators of a service. While there are none, the first one is made with the setup code."""

    def __init__(self, store: Store, clock: Callable[[], float]) -> None:
        self._store, self._now = store, clock
        with store.reading() as connection:
            # known to whoever sees the service's terminal, and to nobody after its end
            self.setup_code = None if administrators.count(connection) else new_code()

    def is_needed(self) -> bool:
        """Whether there is no administrator yet."""
        if self.setup_code is not None:
            with self._store.reading() as connection:
                if administrators.count(connection):
                    self.setup_code = None
        return self.setup_code is not None

    def is_setup_code(self, code: str) -> bool:
        """Whether it is the setup code, and is still good."""
        expected = self.setup_code if self.is_needed() else None
        return expected is not None and hmac.compare_digest(expected.encode(), code.strip().upper().encode())

    def set_up(self, name: str, password: str) -> None:
        """Make the first administrator, a keeper who sees names. Refusal."""
        refuse_poor(password, name, "password")
        password_hash = hash_password(password)
        with self._store.writing() as connection:
            if administrators.count(connection):
                raise Refusal("already-exists", "There are administrators already; ask a keeper for a name.")
            said = AdministratorChange(role="keeper", sees_names=True, probes_freely=True)
            administrators.add(connection, name, said, password_hash, self._now())
        self.setup_code = None

    def listed(self) -> list[Administrator]:
        """All administrators by name."""
        with self._store.reading() as connection:
            return administrators.listed(connection)

    def named(self, name: str) -> Administrator:
        """The administrator of a name. Refusal."""
        with self._store.reading() as connection:
            return _the(connection, name)

    def keepers(self) -> list[str]:
        """Who can give roles."""
        with self._store.reading() as connection:
            return administrators.keepers(connection)

    def add(self, new: NewAdministrator) -> MadeAdministrator:
        """An administrator more, with a first password. Refusal where there is one of that name."""
        password, now = new_code().lower(), self._now()
        password_hash = hash_password(password)
        with self._store.writing() as connection:
            if administrators.named(connection, new.name) is not None:
                raise Refusal("already-exists", f"There is an administrator “{new.name}” already; choose another name.")
            administrators.add(connection, new.name, new, password_hash, now, now + FIRST_PASSWORD_SECONDS)
            return _made(connection, new.name, password)

    def change(self, name: str, said: AdministratorChange, seen: Callable[[Administrator], None]) -> Administrator:
        """What is said of an administrator from now on. One who is disabled loses sessions and tokens. Refusal."""
        with self._store.writing() as connection:
            seen(_the(connection, name))
            if said.role != "keeper" or said.disabled:
                _refuse_last(connection, name, "be lowered or disabled")
            administrators.change(connection, name, said)
            if said.disabled:
                access.end_sessions(connection, name)
                access.end_tokens(connection, name)
            return _the(connection, name)

    def reset(self, name: str) -> MadeAdministrator:
        """A first password again, for who has lost theirs; sessions end, tokens of programs stay. Refusal."""
        password = new_code().lower()
        password_hash = hash_password(password)
        with self._store.writing() as connection:
            _the(connection, name)
            administrators.set_password(connection, name, password_hash, self._now() + FIRST_PASSWORD_SECONDS)
            access.end_sessions(connection, name)
            return _made(connection, name, password)

    def remove(self, name: str) -> None:
        """An administrator less, with sessions and tokens. Refusal."""
        with self._store.writing() as connection:
            _the(connection, name)
            _refuse_last(connection, name, "be removed")
            administrators.remove(connection, name)

    def change_password(self, name: str, password: str, session: str) -> None:
        """A password of one's own; all sessions but this one end. Refusal where it is a poor one."""
        refuse_poor(password, name, "new_password")
        password_hash = hash_password(password)
        with self._store.writing() as connection:
            administrators.set_password(connection, name, password_hash, None)
            access.end_sessions(connection, name, but=session)


def _made(connection: sqlite3.Connection, name: str, password: str) -> MadeAdministrator:
    return MadeAdministrator(**dict(_the(connection, name)), first_password=password)


def _the(connection: sqlite3.Connection, name: str) -> Administrator:
    found = administrators.named(connection, name)
    if found is None:
        raise Refusal("not-found", f"There is no administrator “{name[:64]}”.")
    return found


def _refuse_last(connection: sqlite3.Connection, name: str, what: str) -> None:
    if administrators.keepers(connection) == [name]:
        raise Refusal("in-use", f"“{name}” is the last keeper and cannot {what}; make another keeper first.")
