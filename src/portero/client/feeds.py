"""Feeds, and the category index that is made of them."""

from __future__ import annotations

import builtins
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import BinaryIO, ClassVar

from portero.client.collection import Collection
from portero.client.connection import LONG_SECONDS, STREAM, segment
from portero.core.nouns.feed import (
    CategoryIndexState,
    Feed,
    FeedCredential,
    FeedProgress,
    FeedSummary,
    Generation,
)
from portero.core.nouns.feed_comparison import FeedComparison
from portero.core.nouns.indicator import SetAside


class Feeds(Collection[Feed, FeedSummary, FeedSummary]):
    """Feeds. What they do in the background is told by `progress` and `last_poll`; `finished` waits for it."""

    model: ClassVar = Feed

    def poll(self, key: str) -> FeedSummary:
        """Begin to fetch a feed. NotFound, Invalid."""
        return self._act(key, "poll")

    def send(self, key: str, file: Path | BinaryIO, *, name: str | None = None, review: bool = False) -> FeedSummary:
        """Send a file as the feed's new generation, streamed; it may be packed with gzip. NotFound, StillInUse."""
        opened = file.open("rb") if isinstance(file, Path) else file
        told = name or (file.name if isinstance(file, Path) else "a file")
        try:
            answer = self.connection.ask(
                "POST",
                f"/feeds/{segment(key)}/import",
                params={"name": told, "review": review},
                content=iter(lambda: opened.read(1 << 18), b""),
                headers=STREAM,
                timeout=LONG_SECONDS,
            )
        finally:
            opened.close()
        return FeedSummary.model_validate_json(answer.content)

    def finished(
        self, key: str, note: Callable[[FeedProgress], None] = lambda _progress: None, pause: float = 0.2
    ) -> FeedSummary:
        """The feed once it is read; `note` is told how far that has come."""
        while True:
            found = self.get(key)
            if found.progress is None:
                return found
            note(found.progress)
            time.sleep(pause)

    def generations(self, key: str) -> builtins.list[Generation]:
        """Its generations, the newest first. NotFound."""
        return self.connection.get_list(f"/feeds/{segment(key)}/generations", Generation)

    def compare(self, key: str, number: int) -> FeedComparison:
        """What a generation that waits would change, or another one changed. NotFound."""
        path = f"/feeds/{segment(key)}/generations/{number}/comparison"
        return FeedComparison.model_validate_json(self.connection.ask("GET", path, timeout=LONG_SECONDS).content)

    def take(self, key: str) -> FeedSummary:
        """Put the generation that waits in force. NotFound."""
        return self._act(key, "take")

    def drop(self, key: str) -> FeedSummary:
        """Leave the generation that waits out. NotFound."""
        return self._act(key, "drop")

    def go_back(self, key: str) -> FeedSummary:
        """Put the generation before in force again; the schedule rests. NotFound."""
        return self._act(key, "back")

    def resume(self, key: str) -> FeedSummary:
        """Let the schedule run again."""
        return self._act(key, "resume")

    def _act(self, key: str, what: str) -> FeedSummary:
        answer = self.connection.ask("POST", f"/feeds/{segment(key)}/{what}", timeout=LONG_SECONDS)
        return FeedSummary.model_validate_json(answer.content)

    def set_credential(self, key: str, credential: FeedCredential) -> FeedSummary:
        """What it is fetched with. NotFound."""
        body = credential.model_dump(mode="json", exclude_none=True)
        answer = self.connection.ask("PUT", f"/feeds/{segment(key)}/credential", json=body)
        return FeedSummary.model_validate_json(answer.content)

    def forget_credential(self, key: str) -> None:
        """Fetch it without a credential from now on."""
        self.connection.ask("DELETE", f"/feeds/{segment(key)}/credential")

    def aside(self, key: str) -> Iterator[SetAside]:
        """What came with it and cannot be expressed here."""
        return self.connection.pages(f"/feeds/{segment(key)}/aside", SetAside)

    def category_index(self) -> CategoryIndexState:
        """The category index in force."""
        return self.connection.get("/category-index", CategoryIndexState)
