"""DirectoryKeeper and their user groups, as of the newest generation of the directory."""

from __future__ import annotations

import threading
from collections.abc import Callable

from portero.core.nouns.directory import Directory, DirectoryState
from portero.service.problems import Refusal
from portero.service.refusals import refuse_faults
from portero.store.database import Store
from portero.store.directory import keep_directory, newest_directory


class DirectoryKeeper:
    """Who is known, and in which user groups each is."""

    def __init__(self, store: Store, clock: Callable[[], float]) -> None:
        self._store, self._now = store, clock
        self._lock = threading.Lock()
        with store.reading() as connection:
            self.directory = newest_directory(connection) or Directory()

    def user_groups(self, user: str | None) -> frozenset[str]:
        """The user groups that a person is in; folded."""
        return self.directory.groups_of(user) if user else frozenset()

    def newest(self) -> DirectoryState:
        """The newest generation. Refusal where none has been brought in."""
        with self._store.reading() as connection:
            found = newest_directory(connection)
        if found is None:
            raise Refusal(
                "not-found", "No directory has been brought in yet; bring one in with “portero directory put”."
            )
        return found

    def put(self, directory: Directory, by: str) -> None:
        """Take a new generation into use. Refusal where it does not fit together."""
        refuse_faults(directory)
        # of two that come at once the later one counts
        with self._lock:
            with self._store.writing() as connection:
                keep_directory(connection, directory, by, self._now())
            self.directory = directory
