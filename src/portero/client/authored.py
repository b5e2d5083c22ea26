"""The estate as a document, and what rules and assignments refer to: schedules, application sets, services, notices."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Generic, TypeVar

from portero.client.connection import Connection, Part, segment
from portero.core.nouns.application_set import ApplicationSet, ApplicationSetSummary
from portero.core.nouns.base import Noun
from portero.core.nouns.comparison import EstateChange
from portero.core.nouns.directory import Directory, DirectoryState
from portero.core.nouns.estate import Estate
from portero.core.nouns.notice import Notice, NoticeSummary
from portero.core.nouns.schedule import Schedule, ScheduleSummary
from portero.core.nouns.service import Service, ServiceSummary

Given = TypeVar("Given", bound=Noun)
Shown = TypeVar("Shown", bound=Noun)


class Kept(Part, Generic[Given, Shown]):
    """One noun's objects, all kept alike. `version` is the revision at which you saw one; None overwrites."""

    def __init__(self, connection: Connection, path: str, shown: type[Shown]) -> None:
        super().__init__(connection)
        self._path, self._shown = path, shown

    def list(self, q: str | None = None) -> Iterator[Shown]:
        """All of them, or those that a search finds."""
        return self.connection.pages(self._path, self._shown, q=q)

    def get(self, key: str) -> Shown:
        """One of them. NotFound."""
        return self.connection.get(f"{self._path}/{segment(key)}", self._shown)

    def create(self, new: Given, *, reason: str | None = None) -> Shown:
        """Make one. AlreadyExists, Invalid."""
        return self.connection.post(self._path, new, self._shown, once=True, reason=reason)

    def put(self, key: str, changed: Given, *, version: int | None, reason: str | None = None) -> Shown:
        """Change one. NotFound, ChangedMeanwhile, Invalid."""
        return self.connection.put(f"{self._path}/{segment(key)}", changed, self._shown, version, reason=reason)

    def remove(self, key: str, *, version: int | None = None, reason: str | None = None) -> None:
        """Remove one that nothing uses. NotFound, StillInUse."""
        self.connection.delete(f"{self._path}/{segment(key)}", version, reason=reason)


def schedules(connection: Connection) -> Kept[Schedule, ScheduleSummary]:
    """Schedules."""
    return Kept(connection, "/schedules", ScheduleSummary)


def application_sets(connection: Connection) -> Kept[ApplicationSet, ApplicationSetSummary]:
    """Application sets."""
    return Kept(connection, "/application-sets", ApplicationSetSummary)


def services(connection: Connection) -> Kept[Service, ServiceSummary]:
    """Services."""
    return Kept(connection, "/services", ServiceSummary)


def notices(connection: Connection) -> Kept[Notice, NoticeSummary]:
    """Notices."""
    return Kept(connection, "/notices", NoticeSummary)


class EstateDocument(Part):
    """The estate as one document."""

    def get(self) -> Estate:
        """All that administrators author."""
        return self.connection.get("/estate", Estate)

    def put(
        self, document: Estate, *, revision: int | None, keep_others: bool = False, reason: str | None = None
    ) -> EstateChange:
        """Make the estate what the document says, in one revision, as long as it is still at `revision` (None:
        whatever it is). ChangedMeanwhile, Invalid.
        """
        seen = "*" if revision is None else f'"r{revision}"'
        # only what the document names: what it leaves out is told from what it has empty
        body = document.model_dump(mode="json", exclude_none=True, exclude_unset=True)
        params = {"keep_others": keep_others or None, "reason": reason}
        headers = {"If-Match": seen}
        answer = self.connection.change("PUT", "/estate", json=body, headers=headers, params=params, timeout=120)
        return EstateChange.model_validate_json(answer.content)


class DirectoryPart(Part):
    """People and their user groups."""

    def get(self) -> DirectoryState:
        """The newest generation. NotFound."""
        return self.connection.get("/directory", DirectoryState)

    def put(self, directory: Directory) -> DirectoryState:
        """Take a new generation into use, whole. Invalid."""
        return self.connection.put("/directory", directory, DirectoryState, None)
