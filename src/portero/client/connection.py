"""Requests, pages and errors: what all nouns' calls share."""

from __future__ import annotations

import uuid
from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any, TypeVar
from urllib.parse import quote

from pydantic import BaseModel

from portero.client.errors import NotFound, problem_of
from portero.client.transport import Answer, Transport

if TYPE_CHECKING:
    from portero.core.nouns.preview import Preview

Model = TypeVar("Model", bound=BaseModel)
LONG_SECONDS = 300.0
"""For what takes its time: big files, comparisons."""
STREAM = {"Content-Type": "application/octet-stream"}
PREVIEW_HEADER = "Portero-Preview"
"""Marks an answer that is a preview."""


def fields_of(noun: BaseModel, model: type[BaseModel]) -> dict[str, Any]:
    """The noun's values that `model` has too, without those that are not given."""
    return noun.model_dump(mode="json", include=set(model.model_fields), exclude_none=True)


class Previewed(Exception):
    """The answer to a change that was only to be previewed. Nothing was kept."""

    def __init__(self, preview: Preview) -> None:
        super().__init__(preview.summary)
        self.preview = preview


class Connection:
    """Requests to one service, problems raised as exceptions.

    One that previews asks what changes would do in place of making them, and raises Previewed with the answer; one that
    overrules makes changes although they fail a probe of the gate; one that proves sends probes along with them.
    """

    def __init__(
        self, transport: Transport, previews: bool, overrules: bool = False, proves: Sequence[str] = ()
    ) -> None:
        self.transport, self._previews, self._overrules, self.proves = transport, previews, overrules, list(proves)

    def change(self, method: str, path: str, *, params: Mapping[str, Any], **options: Any) -> Answer:
        """A request that changes the estate. Previewed."""
        if self._previews:
            params = {**params, "preview": True}
        elif self._overrules:
            params = {**params, "overrule": True}
        if self.proves:
            params = {**params, "prove": self.proves}
        answer = self.ask(method, path, params=given(params), **options)
        if PREVIEW_HEADER in answer.headers:
            from portero.core.nouns.preview import Preview  # loaded only where one is asked for

            raise Previewed(Preview.model_validate_json(answer.content))
        return answer

    def ask(self, method: str, path: str, **options: Any) -> Answer:
        """The answer to a request, with the options of `Transport.send`. Problem, Unreachable."""
        answer = self.transport.send(method, "/api/v1" + path, **options)
        if answer.is_success:
            return answer
        try:
            body = answer.json()
        except ValueError:
            body = {"status": answer.status, "title": f"The service answered {answer.status}"}
        raise problem_of(body)

    def get(self, path: str, model: type[Model], **params: Any) -> Model:
        return model.model_validate_json(self.ask("GET", path, params=given(params)).content)

    def get_list(self, path: str, model: type[Model], **params: Any) -> list[Model]:
        return [model.model_validate(item) for item in self.ask("GET", path, params=given(params)).json()]

    def post(
        self, path: str, body: BaseModel | dict[str, Any], model: type[Model], *, once: bool = False, **params: Any
    ) -> Model:
        """A POST that changes something. `once` for those creations that the service makes once however often they are
        sent: they may be repeated.
        """
        headers = {"Idempotency-Key": str(uuid.uuid4())} if once else {}
        json = body if isinstance(body, dict) else body.model_dump(mode="json", exclude_none=True)
        answer = self.change("POST", path, json=json, headers=headers, params=params)
        return model.model_validate_json(answer.content)

    def consult(self, path: str, body: BaseModel, model: type[Model], **params: Any) -> Model:
        """A POST that only asks: nothing is kept."""
        json = body.model_dump(mode="json", exclude_none=True)
        return model.model_validate_json(self.ask("POST", path, json=json, params=given(params)).content)

    def put(self, path: str, body: BaseModel, model: type[Model], version: int | None, **params: Any) -> Model:
        json = body.model_dump(mode="json", exclude_none=True)
        answer = self.change("PUT", path, json=json, headers=_match(version), params=params)
        return model.model_validate_json(answer.content)

    def delete(self, path: str, version: int | None = None, **params: Any) -> None:
        self.change("DELETE", path, headers=_match(version), params=params)

    def pages(self, path: str, model: type[Model], limit: int | None = None, **params: Any) -> Iterator[Model]:
        """Items of all pages, as they are needed; at most `limit`. A short list comes whole."""
        cursor, left = None, limit
        while True:
            size = 500 if left is None else min(left, 500)
            page = self.ask("GET", path, params=given({**params, "cursor": cursor, "limit": size})).json()
            if isinstance(page, list):
                page = {"items": page, "next": None}
            for item in page["items"]:
                yield model.model_validate(item)
            cursor = page["next"]
            if left is not None:
                left -= len(page["items"])
            if cursor is None or left == 0:
                return


def given(params: Mapping[str, Any]) -> dict[str, Any]:
    """The parameters that are given."""
    return {name: value for name, value in params.items() if value is not None}


def _match(version: int | None) -> dict[str, str]:
    return {"If-Match": "*" if version is None else f'"r{version}"'}


class Part:
    """One noun's calls."""

    def __init__(self, connection: Connection) -> None:
        self.connection = connection


def segment(text: str) -> str:
    """A path segment; nothing in it can reach another path."""
    if not text or text in (".", ".."):
        raise NotFound({"detail": f"There is nothing called “{text}”.", "status": 404, "title": "Not found"})
    return quote(text, safe="")
