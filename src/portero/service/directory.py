"""The directory: people and their user groups, as of the generation that counts."""

from __future__ import annotations

import threading
from collections.abc import Callable

from portero.core.nouns.directory import Directory, DirectoryState
from portero.service.problems import Refusal
from portero.service.refusals import refuse_faults
from portero.store.database import Store
from portero.store.directory import drop_waiting, keep_directory, newest_directory, take_waiting

LOST = 1 / 3
"""Where so many of the people would be gone, somebody looks at it first."""


class DirectoryKeeper:
    """Who is known, and in which user groups each is."""

    def __init__(self, store: Store, clock: Callable[[], float]) -> None:
        self._store, self._now = store, clock
        self._lock = threading.Lock()
        with store.reading() as connection:
            self.directory: Directory = newest_directory(connection) or Directory()

    def user_groups(self, user: str | None) -> frozenset[str]:
        """The user groups that a person is in; folded."""
        return self.directory.groups_of(user) if user else frozenset()

    def newest(self) -> DirectoryState:
        """The generation that counts. Refusal where none has been brought in."""
        if (found := self.known()) is None:
            raise Refusal(
                "not-found", "No directory has been brought in yet; bring one in with “portero directory put”."
            )
        return found

    def known(self) -> DirectoryState | None:
        """The generation that counts, where there is one."""
        with self._store.reading() as connection:
            return newest_directory(connection)

    def put(self, directory: Directory, by: str, seen: Callable[[DirectoryState | None], None]) -> None:
        """Take a new generation into use; one that lost a third of the people or more waits to be looked at.

        `seen` is given what counts now, and raises where the caller saw something else. Refusal where it does not fit
        together.
        """
        refuse_faults(directory)
        with self._lock:
            seen(self.known())
            had = self.directory.people
            lost = len(had - directory.people)
            waits = lost > 0 and lost >= len(had) * LOST
            with self._store.writing() as connection:
                keep_directory(connection, directory, by, self._now(), lost=lost, waits=waits)
            if not waits:
                self.directory = directory

    def take(self) -> DirectoryState:
        """Let the generation that waits count. Refusal where none waits."""
        with self._lock:
            with self._store.writing() as connection:
                if not take_waiting(connection):
                    raise Refusal("not-found", "No generation of the directory waits to be looked at.")
            self.directory = self.newest()
            return self.newest()

    def drop(self) -> DirectoryState:
        """Drop the generation that waits; what counts goes on to. Refusal where none waits."""
        with self._lock:
            with self._store.writing() as connection:
                if not drop_waiting(connection):
                    raise Refusal("not-found", "No generation of the directory waits to be looked at.")
            return self.newest()
