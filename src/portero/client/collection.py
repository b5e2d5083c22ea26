"""The objects of a noun that administrators author: the same calls for every noun of the registry."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, ClassVar, Generic, TypeVar

from portero.client.connection import Connection, Part, segment
from portero.core.nouns.base import Noun
from portero.core.nouns.registry import Authored, AuthoredNoun, noun_of

Written = TypeVar("Written", bound=Noun)
Shown = TypeVar("Shown", bound=Noun)
Listed = TypeVar("Listed", bound=Noun)


class Collection(Part, Generic[Written, Shown, Listed]):
    """One noun's objects. `version` is the revision at which you saw one; None overwrites whatever there is."""

    model: ClassVar[type[Authored] | None] = None
    """The noun's model, in collections of one noun."""

    def __init__(self, connection: Connection, noun: AuthoredNoun | None = None) -> None:
        super().__init__(connection)
        noun = noun or noun_of(self.model or Authored)
        self.noun = noun
        self._shown: Any = noun.shown
        self._listed: Any = noun.listed

    def list(self, q: str | None = None, **filters: Any) -> Iterator[Listed]:
        """All of them, or those that a search, or the noun's own filters, find."""
        return self.connection.pages(self.noun.path, self._listed, q=q, **filters)

    def get(self, key: str) -> Shown:
        """One of them. NotFound."""
        found: Shown = self.connection.get(self._at(key), self._shown)
        return found

    def create(self, new: Written, *, reason: str | None = None) -> Shown:
        """Make one. AlreadyExists, Invalid."""
        made: Shown = self.connection.post(self.noun.path, new, self._shown, once=True, reason=reason)
        return made

    def put(self, changed: Written, *, version: int | None = None, reason: str | None = None) -> Shown:
        """Change one, named by its own key. NotFound, ChangedMeanwhile, Invalid."""
        path = self.noun.path if self.noun.key_has_strokes else self._at(self.noun.key_of(changed))
        made: Shown = self.connection.put(path, changed, self._shown, version, reason=reason)
        return made

    def remove(self, key: str, *, version: int | None = None, reason: str | None = None) -> None:
        """Remove one that nothing uses. NotFound, StillInUse."""
        self.connection.delete(self._at(key), version, reason=reason)

    def _at(self, key: str) -> str:
        return f"{self.noun.path}/{segment(key)}"
