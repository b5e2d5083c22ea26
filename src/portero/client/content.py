"""Feeds, corrections and indicators in bulk: what is known of the web, and where it comes from."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import BinaryIO

from portero.client.authored import Kept
from portero.client.connection import Connection, Part, given, segment
from portero.core.nouns.estate import Correction
from portero.core.nouns.feed import (
    CategoryIndexState,
    Feed,
    FeedComparison,
    FeedCredential,
    FeedProgress,
    FeedSummary,
    Generation,
)
from portero.core.nouns.indicator import CapacityUse, CleanUp, FoundIndicator, ImportReport, RulesEdit, SetAside
from portero.core.nouns.lookup import CorrectionSummary
from portero.core.nouns.ruleset import RulesetState

CSV_SECONDS = 300.0
_STREAM = {"Content-Type": "application/octet-stream"}


class Feeds(Kept[Feed, FeedSummary]):
    """Feeds. What they do in the background is told by `progress` and `last_poll`; `finished` waits for it."""

    def __init__(self, connection: Connection) -> None:
        super().__init__(connection, "/feeds", FeedSummary)

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
                headers=_STREAM,
                timeout=CSV_SECONDS,
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

    def generations(self, key: str) -> list[Generation]:
        """Its generations, the newest first. NotFound."""
        return self.connection.get_list(f"/feeds/{segment(key)}/generations", Generation)

    def compare(self, key: str, number: int) -> FeedComparison:
        """What a generation that waits would change, or another one changed. NotFound."""
        path = f"/feeds/{segment(key)}/generations/{number}/comparison"
        return FeedComparison.model_validate_json(self.connection.ask("GET", path, timeout=CSV_SECONDS).content)

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
        answer = self.connection.ask("POST", f"/feeds/{segment(key)}/{what}", timeout=CSV_SECONDS)
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


class Corrections(Part):
    """Corrections of the categories of hosts."""

    def list(self, *, q: str | None = None, feed: str | None = None) -> Iterator[CorrectionSummary]:
        """All of them, or those in which a text stands, or those of hosts that a feed names."""
        return self.connection.pages("/corrections", CorrectionSummary, q=q, feed=feed)

    def get(self, host: str) -> CorrectionSummary:
        """One of them. NotFound."""
        return self.connection.get(f"/corrections/{segment(host)}", CorrectionSummary)

    def put(self, correction: Correction, *, version: int | None = None) -> CorrectionSummary:
        """Correct a host; `version` is the revision at which you saw an earlier correction of it."""
        path = f"/corrections/{segment(correction.host)}"
        return self.connection.put(path, correction, CorrectionSummary, version)

    def remove(self, host: str, *, version: int | None = None, reason: str | None = None) -> None:
        """Take a correction back. NotFound."""
        self.connection.delete(f"/corrections/{segment(host)}", version, reason=reason)

    def export(self, *, feed: str | None = None) -> str:
        """As CSV, for the keeper of a feed."""
        return self.connection.ask("GET", "/corrections.csv", params=given({"feed": feed})).text


class Indicators(Part):
    """Rules in bulk, of rulesets of indicators mostly."""

    def search(
        self,
        q: str | None = None,
        *,
        ruleset: str | None = None,
        origin: str | None = None,
        action: str | None = None,
        ended: bool | None = None,
        limit: int | None = None,
    ) -> Iterator[FoundIndicator]:
        """Rules in which a text stands; of a ruleset; of an origin, `hand` or `feed`; of an action; ended or not."""
        asked = {"q": q, "ruleset": ruleset, "origin": origin, "action": action, "ended": ended}
        return self.connection.pages("/indicators", FoundIndicator, limit, **asked)

    def edit(self, ruleset: str, edit: RulesEdit, *, reason: str | None = None) -> RulesetState:
        """Put some rules in and take some out. NotFound, Invalid."""
        return self.connection.post(f"/rulesets/{segment(ruleset)}/rules", edit, RulesetState, reason=reason)

    def weigh(
        self, ruleset: str, data: bytes, *, format: str = "csv", replace: bool = False, action: str | None = None
    ) -> ImportReport:
        """What putting a file in would come to; nothing is kept. NotFound, Invalid, BadRequest."""
        params = given({"format": format, "replace": replace, "action": action})
        path = f"/rulesets/{segment(ruleset)}/import/check"
        answer = self.connection.ask("POST", path, params=params, content=data, headers=_STREAM, timeout=CSV_SECONDS)
        return ImportReport.model_validate_json(answer.content)

    def put_in(
        self,
        ruleset: str,
        data: bytes,
        *,
        format: str = "csv",
        replace: bool = False,
        action: str | None = None,
        reason: str | None = None,
    ) -> ImportReport:
        """Put the rules of a CSV file or a STIX bundle in, in one revision. NotFound, Invalid, BadRequest."""
        params = {"format": format, "replace": replace, "action": action, "reason": reason}
        path = f"/rulesets/{segment(ruleset)}/import"
        answer = self.connection.change("POST", path, params=params, content=data, headers=_STREAM, timeout=CSV_SECONDS)
        return ImportReport.model_validate_json(answer.content)

    def export(self, ruleset: str, *, format: str = "csv") -> tuple[bytes, int]:
        """All rules of a ruleset as CSV or as a STIX bundle, and how many could not be expressed. NotFound."""
        path = f"/rulesets/{segment(ruleset)}/rules.{format}"
        answer = self.connection.ask("GET", path, timeout=CSV_SECONDS)
        return answer.content, int(answer.headers.get("portero-left-out", 0))

    def aside(self, ruleset: str) -> Iterator[SetAside]:
        """What came with files for a ruleset and cannot be expressed here."""
        return self.connection.pages(f"/rulesets/{segment(ruleset)}/aside", SetAside)

    def capacity(self) -> CapacityUse:
        """How many indicators machines carry, of how many they may."""
        return self.connection.get("/indicators/capacity", CapacityUse)

    def cleanable(self, *, reasons: list[str] | None = None, ruleset: str | None = None) -> CleanUp:
        """What can go without any verdict becoming another one."""
        return self.connection.get("/indicators/clean-up", CleanUp, because=reasons, ruleset=ruleset)

    def clean_up(
        self, *, reasons: list[str] | None = None, ruleset: str | None = None, reason: str | None = None
    ) -> CleanUp:
        """Take it out, in one revision; answers what went."""
        params = {"because": reasons, "ruleset": ruleset, "reason": reason}
        answer = self.connection.change("POST", "/indicators/clean-up", params=params, timeout=CSV_SECONDS)
        return CleanUp.model_validate_json(answer.content)
