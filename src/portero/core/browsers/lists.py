"""What a browser's two lists have in common, whatever the family."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from enum import StrEnum
from typing import NamedTuple, Protocol

from portero.core.nouns.urls import Visit


class ListEntry(NamedTuple):
    """An entry: in which of the two lists, and its place there, from 0."""

    allow: bool
    place: int


class Lists(Protocol):
    """Both lists as a browser has them."""

    def matching(self, visit: Visit) -> Iterator[ListEntry]:
        """The entries that hold a visit; the first one counts. Where there is none, it passes."""


class Unsayable(StrEnum):
    """Why a pattern is something else in a family of browsers than what was meant."""

    SCHEME = "scheme"
    PORT = "port"
    QUERY = "query"
    ASTERISK = "asterisk"
    SPELLING = "spelling"
    CASE = "case"
    NARROWER_BLOCK = "narrower-block"
    UNDER_ALLOW = "under-allow"


class Changed(NamedTuple):
    """What became of a pattern that cannot be said as it is meant."""

    reasons: tuple[Unsayable, ...]
    got: str | None
    """What the browser got instead; None where nothing."""

    @property
    def is_slight(self) -> bool:
        """Whether only the case of letters counts no more."""
        return self.reasons == (Unsayable.CASE,)


class Translation(NamedTuple):
    """Entries for a browser's two lists, each with the place of its pattern in the merged list."""

    blocks: Sequence[tuple[str, int]]
    allows: Sequence[tuple[str, int]]
    changed: Mapping[int, Changed] = {}
    needless: Mapping[int, int | None] = {}
