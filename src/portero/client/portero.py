"""The client: one attribute a noun, models in and out, lists that page by themselves."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Any, Self

import httpx
from pydantic import TypeAdapter

from portero.client.assignments import Assignments
from portero.client.board import BoardPart
from portero.client.collection import Collection
from portero.client.connection import Connection, Previewed
from portero.client.corrections import Corrections
from portero.client.coverage import Coverage
from portero.client.devices import Devices
from portero.client.directory import DirectoryPart
from portero.client.enrolment import Enrolment
from portero.client.estate import EstateDocument
from portero.client.feeds import Feeds
from portero.client.findings import FindingsPart
from portero.client.groups import Groups
from portero.client.indicators import Indicators
from portero.client.readiness import ReadinessPart
from portero.client.revisions import Revisions
from portero.client.settings import SettingsPart
from portero.client.worklist import WorklistPart
from portero.core.nouns.access import MadeToken, Session, Token
from portero.core.nouns.activity import Activity
from portero.core.nouns.application_set import ApplicationSet, ApplicationSetSummary
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.estate import NOUNS
from portero.core.nouns.lookup import HostLookup
from portero.core.nouns.notice import Notice, NoticeSummary
from portero.core.nouns.preview import Preview
from portero.core.nouns.ruleset import Ruleset, RulesetState, RulesetSummary
from portero.core.nouns.schedule import Schedule, ScheduleSummary
from portero.core.nouns.service import Service, ServiceSummary
from portero.core.nouns.settings import GroupLayers, GroupLayersState
from portero.core.nouns.taxonomy import Taxonomy
from portero.core.nouns.verdict import Explanation, Unjudged

_OWN: dict[str, type[Collection[Any, Any, Any]]] = {
    "group": Groups,
    "assignment": Assignments,
    "correction": Corrections,
    "coverage row": Coverage,
    "feed": Feeds,
}
"""Nouns with calls of their own beside those that all have."""
_ANSWERS = TypeAdapter(list[Explanation | Unjudged])


class Portero:
    """A service, as seen by whoever holds the token.

    Times out by default. Repeats only what is safe to repeat. Every problem is raised as an exception.
    """

    groups: Groups
    schedules: Collection[Schedule, ScheduleSummary, ScheduleSummary]
    application_sets: Collection[ApplicationSet, ApplicationSetSummary, ApplicationSetSummary]
    rulesets: Collection[Ruleset, RulesetState, RulesetSummary]
    assignments: Assignments
    notices: Collection[Notice, NoticeSummary, NoticeSummary]
    corrections: Corrections
    services: Collection[Service, ServiceSummary, ServiceSummary]
    layer_modes: Collection[GroupLayers, GroupLayersState, GroupLayersState]
    coverage: Coverage
    feeds: Feeds

    def __init__(self, url: str, *, token: str | None = None, timeout: float = 30.0) -> None:
        headers = {"Authorization": f"Bearer {token}"} if token else {}
        self._http = httpx.Client(base_url=url.rstrip("/"), headers=headers, timeout=timeout)
        self._use(Connection(self._http))

    def _use(self, connection: Connection) -> None:
        self._connection = connection
        self.devices = Devices(connection)
        self.enrolment = Enrolment(connection)
        self.settings = SettingsPart(connection)
        self.readiness = ReadinessPart(connection)
        self.revisions = Revisions(connection)
        self.estate = EstateDocument(connection)
        self.directory = DirectoryPart(connection)
        self.findings = FindingsPart(connection)
        self.board = BoardPart(connection)
        self.worklist = WorklistPart(connection)
        self.indicators = Indicators(connection)
        for noun in NOUNS.values():
            setattr(self, noun.list, _OWN.get(noun.word, Collection)(connection, noun))

    def collection(self, word: str) -> Collection[Any, Any, Any]:
        """The objects of a noun, by its word: “probe set”. KeyError where administrators author no such noun."""
        found: Collection[Any, Any, Any] = getattr(self, NOUNS[word].list)
        return found

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_exception: object) -> None:
        self.close()

    def close(self) -> None:
        """Close the connections."""
        self._http.close()

    def preview(self, change: Callable[[Portero], object]) -> Preview:
        """What a change of the estate would do; nothing is kept. Raises what the change itself would.

        >>> portero.preview(lambda asked: asked.assignments.remove("quiet-link--satellite"))   # doctest: +SKIP
        """
        try:
            change(self.previewing())
        except Previewed as answer:
            return answer.preview
        raise ValueError("the change asked for nothing that can be previewed")

    def previewing(self) -> Portero:
        """The same client, whose changes are only previewed: each raises Previewed, with the preview."""
        asked = object.__new__(Portero)
        asked._http = self._http
        asked._use(self._connection.previewing())
        return asked

    def sign_in(self, name: str, password: str, *, label: str, days: int | None = 30) -> MadeToken:
        """Make an API token by name and password, and use it from now on. NotSignedIn."""
        # a token that is there would go before the session, and make the new one its own
        self._http.headers.pop("Authorization", None)
        signed = self._connection.ask("POST", "/session", json={"name": name, "password": password}).json()
        headers = {"X-CSRF-Token": signed["csrf_token"]}
        body = {"label": label, "days": days} if days else {"label": label}
        made = MadeToken.model_validate_json(
            self._connection.ask("POST", "/tokens", json=body, headers=headers).content
        )
        self._connection.ask("DELETE", "/session", headers=headers)
        self._http.headers["Authorization"] = f"Bearer {made.secret}"
        return made

    def who_am_i(self) -> Session:
        """Who the token belongs to."""
        return self._connection.get("/session", Session)

    def tokens(self) -> list[Token]:
        """Your own API tokens."""
        return self._connection.get_list("/tokens", Token)

    def taxonomy(self) -> Taxonomy:
        """The web taxonomy."""
        return self._connection.get("/taxonomy", Taxonomy)

    def look_up(self, url: str) -> HostLookup:
        """All that is known of a host or URL. Invalid."""
        return self._connection.get("/categories/lookup", HostLookup, url=url)

    def check(self, attempt: Attempt, *, left_aside: bool = False) -> Explanation:
        """The verdict on a visit, with every reason. NotFound for the device, Invalid for the URL."""
        return self._connection.consult("/check", attempt, Explanation, left_aside=left_aside or None)

    def check_batch(self, attempts: Sequence[dict[str, Any]]) -> list[Explanation | Unjudged]:
        """The verdicts on up to 1,000 attempts, in their order; one that cannot be judged has a problem instead."""
        answer = self._connection.ask("POST", "/check/batch", json={"attempts": list(attempts)}, timeout=120)
        return _ANSWERS.validate_json(answer.content)

    def activity(self, *, limit: int | None = None, **filters: Any) -> Iterator[Activity]:
        """Reported attempts, newest first. Filters: device, host, verdict, user, reference, tests."""
        return self._connection.pages("/activity", Activity, limit, **filters)
