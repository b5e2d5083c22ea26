"""The client: one attribute a noun, models in and out, lists that page by themselves."""

from __future__ import annotations

import time
import uuid
from collections.abc import Iterator, Mapping
from typing import Any, Self, TypeVar
from urllib.parse import quote

import httpx
from pydantic import BaseModel

from portero.client.errors import NotFound, Unreachable, problem_of
from portero.core.nouns.access import MadeToken, Session, Token
from portero.core.nouns.activity import Activity
from portero.core.nouns.assignment import Assignment, AssignmentSummary, NewAssignment
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.device import Device
from portero.core.nouns.enrolment import EnrolmentCode, NewEnrolmentCode
from portero.core.nouns.group import Group, GroupSummary
from portero.core.nouns.revision import Revision, RolloutCounts
from portero.core.nouns.ruleset import Ruleset, RulesetSummary
from portero.core.nouns.taxonomy import HostCategories, Taxonomy
from portero.core.nouns.verdict import Blocks, Explanation

Model = TypeVar("Model", bound=BaseModel)
_SAFE = ("GET", "HEAD")
_RETRIES = 2


def _fields(noun: BaseModel, model: type[BaseModel]) -> dict[str, Any]:
    """The noun's values that `model` has too, without those that are not given."""
    return noun.model_dump(mode="json", include=set(model.model_fields), exclude_none=True)


class _Connection:
    """Requests with a timeout, retried only where that is safe, problems raised as exceptions."""

    def __init__(self, http: httpx.Client) -> None:
        self._http = http

    def ask(
        self, method: str, path: str, *, headers: Mapping[str, str] | None = None, **options: Any
    ) -> httpx.Response:
        tries = _RETRIES if method in _SAFE or "Idempotency-Key" in (headers or {}) else 0
        while True:
            try:
                answer = self._http.request(method, "/api/v1" + path, headers=headers, **options)
                break
            except httpx.HTTPError as problem:
                if tries == 0:
                    raise Unreachable(f"{self._http.base_url} does not answer ({problem})") from problem
                tries -= 1
                time.sleep(0.2)
        if answer.is_success:
            return answer
        try:
            body = answer.json()
        except ValueError:
            body = {"status": answer.status_code, "title": f"The service answered {answer.status_code}"}
        raise problem_of(body)

    def get(self, path: str, model: type[Model], **params: Any) -> Model:
        return model.model_validate_json(self.ask("GET", path, params=_given(params)).content)

    def post(self, path: str, body: BaseModel | dict[str, Any], model: type[Model], **params: Any) -> Model:
        headers = {"Idempotency-Key": str(uuid.uuid4())}
        json = body if isinstance(body, dict) else body.model_dump(mode="json", exclude_none=True)
        answer = self.ask("POST", path, json=json, headers=headers, params=_given(params))
        return model.model_validate_json(answer.content)

    def put(self, path: str, body: BaseModel, model: type[Model], version: int | None, **params: Any) -> Model:
        json = body.model_dump(mode="json", exclude_none=True)
        answer = self.ask("PUT", path, json=json, headers=_match(version), params=_given(params))
        return model.model_validate_json(answer.content)

    def delete(self, path: str, version: int | None = None, **params: Any) -> None:
        self.ask("DELETE", path, headers=_match(version), params=_given(params))

    def pages(self, path: str, model: type[Model], limit: int | None = None, **params: Any) -> Iterator[Model]:
        """Items of all pages, as they are needed; at most `limit`."""
        cursor, left = None, limit
        while True:
            size = 500 if left is None else min(left, 500)
            page = self.ask("GET", path, params=_given({**params, "cursor": cursor, "limit": size})).json()
            for item in page["items"]:
                yield model.model_validate(item)
            cursor = page["next"]
            if left is not None:
                left -= len(page["items"])
            if cursor is None or left == 0:
                return


def _given(params: Mapping[str, Any]) -> dict[str, Any]:
    return {name: value for name, value in params.items() if value is not None}


def _match(version: int | None) -> dict[str, str]:
    return {"If-Match": "*" if version is None else f'"r{version}"'}


class _Part:
    def __init__(self, connection: _Connection) -> None:
        self._connection = connection


class Devices(_Part):
    """The fleet."""

    def list(self, *, limit: int | None = None, **filters: Any) -> Iterator[Device]:
        """Devices, page by page as needed. Filters: search, unit, kind, group, lifecycle, rollout, sort, descending."""
        return self._connection.pages("/devices", Device, limit, **filters)

    def get(self, device: str) -> Device:
        """One device by id or hostname. NotFound, AmbiguousDevice."""
        return self._connection.get(f"/devices/{_part(device)}", Device)

    def blocks(self, device: str) -> Blocks:
        """What the device does about each web category that some rule names for it."""
        return self._connection.get(f"/devices/{_part(device)}/blocks", Blocks)

    def rollout(self) -> RolloutCounts:
        """How many devices hold the newest bundle, wait for it, failed, or are silent."""
        return self._connection.get("/rollout", RolloutCounts)

    def create_enrolment_code(self, new: NewEnrolmentCode | None = None) -> EnrolmentCode:
        """An enrolment code by which devices join; shown this once."""
        return self._connection.post("/enrolment-codes", new or NewEnrolmentCode(), EnrolmentCode)


class Groups(_Part):
    """Groups of devices."""

    def list(self) -> Iterator[GroupSummary]:
        """All groups, strongest first."""
        return self._connection.pages("/groups", GroupSummary)

    def get(self, key: str) -> GroupSummary:
        """One group. NotFound."""
        return self._connection.get(f"/groups/{_part(key)}", GroupSummary)

    def create(self, group: Group, *, reason: str | None = None) -> GroupSummary:
        """Make a group. AlreadyExists, Invalid."""
        return self._connection.post("/groups", group, GroupSummary, reason=reason)

    def put(self, group: Group, *, version: int | None, reason: str | None = None) -> GroupSummary:
        """Change a group as seen at `version` (None overwrites whatever there is). ChangedMeanwhile."""
        return self._connection.put(f"/groups/{_part(group.key)}", group, GroupSummary, version, reason=reason)

    def remove(self, key: str, *, version: int | None = None, reason: str | None = None) -> None:
        """Remove a group that nothing names. StillInUse."""
        self._connection.delete(f"/groups/{_part(key)}", version, reason=reason)


class Rulesets(_Part):
    """Rulesets."""

    def list(self) -> Iterator[RulesetSummary]:
        """All rulesets."""
        return self._connection.pages("/rulesets", RulesetSummary)

    def get(self, key: str) -> RulesetSummary:
        """One ruleset with its rules. NotFound."""
        return self._connection.get(f"/rulesets/{_part(key)}", RulesetSummary)

    def create(self, ruleset: Ruleset, *, reason: str | None = None) -> RulesetSummary:
        """Make a ruleset. AlreadyExists, Invalid."""
        return self._connection.post("/rulesets", ruleset, RulesetSummary, reason=reason)

    def put(self, ruleset: Ruleset, *, version: int | None, reason: str | None = None) -> RulesetSummary:
        """Change a ruleset as seen at `version` (None overwrites whatever there is). ChangedMeanwhile."""
        path = f"/rulesets/{_part(ruleset.key)}"
        return self._connection.put(path, ruleset, RulesetSummary, version, reason=reason)

    def remove(self, key: str, *, version: int | None = None, reason: str | None = None) -> None:
        """Remove a ruleset that no assignment uses. StillInUse."""
        self._connection.delete(f"/rulesets/{_part(key)}", version, reason=reason)


class Assignments(_Part):
    """Assignments."""

    def list(self, *, ruleset: str | None = None, group: str | None = None) -> Iterator[AssignmentSummary]:
        """All assignments, or those of a ruleset or on a group."""
        return self._connection.pages("/assignments", AssignmentSummary, ruleset=ruleset, group=group)

    def get(self, key: str) -> AssignmentSummary:
        """One assignment. NotFound."""
        return self._connection.get(f"/assignments/{_part(key)}", AssignmentSummary)

    def create(self, assignment: NewAssignment, *, reason: str | None = None) -> AssignmentSummary:
        """Put a ruleset on groups. Invalid."""
        return self._connection.post("/assignments", assignment, AssignmentSummary, reason=reason)

    def put(self, assignment: Assignment, *, version: int | None, reason: str | None = None) -> AssignmentSummary:
        """Change anything about an assignment as seen at `version`. ChangedMeanwhile."""
        path = f"/assignments/{_part(assignment.key)}"
        return self._connection.put(path, assignment, AssignmentSummary, version, reason=reason)

    def set_state(self, key: str, state: str, *, reason: str | None = None) -> AssignmentSummary:
        """Pause an assignment (`paused`), or put it in force (`active`). NotFound, ChangedMeanwhile."""
        seen = self.get(key)
        changed = Assignment.model_validate({**_fields(seen, Assignment), "state": state})
        return self.put(changed, version=seen.version, reason=reason)

    def remove(self, key: str, *, version: int | None = None, reason: str | None = None) -> None:
        """Take a ruleset off its groups. NotFound."""
        self._connection.delete(f"/assignments/{_part(key)}", version, reason=reason)


class Revisions(_Part):
    """The estate's history."""

    def list(self, *, limit: int | None = None) -> Iterator[Revision]:
        """Revisions with their changes, newest first."""
        return self._connection.pages("/revisions", Revision, limit)

    def get(self, number: int) -> Revision:
        """One revision. NotFound."""
        return self._connection.get(f"/revisions/{number}", Revision)


class Portero:
    """A service, as seen by whoever holds the token.

    Times out by default. Repeats only what is safe to repeat. Every problem is raised as an exception.
    """

    def __init__(self, url: str, *, token: str | None = None, timeout: float = 30.0) -> None:
        headers = {"Authorization": f"Bearer {token}"} if token else {}
        self._http = httpx.Client(base_url=url.rstrip("/"), headers=headers, timeout=timeout)
        self._connection = connection = _Connection(self._http)
        self.devices = Devices(connection)
        self.groups = Groups(connection)
        self.rulesets = Rulesets(connection)
        self.assignments = Assignments(connection)
        self.revisions = Revisions(connection)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_exception: object) -> None:
        self.close()

    def close(self) -> None:
        """Close the connections."""
        self._http.close()

    def sign_in(self, name: str, password: str, *, label: str, days: int | None = 30) -> MadeToken:
        """Make an API token by name and password, and use it from now on. NotSignedIn."""
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
        return [Token.model_validate(one) for one in self._connection.ask("GET", "/tokens").json()]

    def taxonomy(self) -> Taxonomy:
        """The web taxonomy."""
        return self._connection.get("/taxonomy", Taxonomy)

    def look_up(self, url: str) -> HostCategories:
        """The web categories of a host or URL."""
        return self._connection.get("/categories/lookup", HostCategories, url=url)

    def check_visit(self, attempt: Attempt) -> Explanation:
        """The verdict on a visit, with every reason. NotFound for the device, Invalid for the URL."""
        return self._connection.post("/check/visit", attempt, Explanation)

    def activity(self, *, limit: int | None = None, **filters: Any) -> Iterator[Activity]:
        """Reported attempts, newest first. Filters: device, host, verdict, user, reference, tests."""
        return self._connection.pages("/activity", Activity, limit, **filters)


def _part(text: str) -> str:
    """A path segment; nothing in it can reach another path."""
    if not text or text in (".", ".."):
        raise NotFound({"detail": f"There is nothing called “{text}”.", "status": 404, "title": "Not found"})
    return quote(text, safe="")
