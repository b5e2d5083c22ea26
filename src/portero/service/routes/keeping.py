"""Routes of nouns that are kept alike: listed, shown, made, changed as seen, removed where nothing uses them.

No postponed annotations here: FastAPI reads the models of each noun from the signatures made for it.
"""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Annotated, Any

from fastapi import APIRouter, Query, Response
from pydantic import BaseModel

from portero.core import sentences
from portero.core.nouns.base import Noun
from portero.core.nouns.estate import Estate
from portero.core.nouns.page import Page
from portero.service.desk import Desk
from portero.service.problems import Problem
from portero.service.routes.common import (
    Authoring,
    Cursor,
    IdempotencyKey,
    IfMatch,
    Limit,
    Signed,
    TheDesk,
    add,
    offset_page,
    once,
    save,
    tagged,
    the,
)
from portero.store import estates

Search = Annotated[str | None, Query(max_length=200, description="Part of its key, its name or what it holds.")]


@dataclass(frozen=True)
class Kept:
    """One noun: its words, its models, and what is particular about it."""

    noun: str
    """As in “application set”; the paths and operations are made of it."""
    attribute: str
    """The estate's list of them."""
    model: type[Noun]
    summary: type[BaseModel]
    summed_up: Callable[[Any, Desk, int], BaseModel]
    """What is told of an object of the estate, last changed at a revision."""
    users: Callable[[Estate, str], list[str]]
    """What uses the object of a key, in words."""
    about: str
    prepared: Callable[[Desk, Any], Any] = lambda _desk, body: body
    """What is saved of a body."""
    right: Any = Authoring
    """Who may change them."""

    @property
    def operation(self) -> str:
        """The noun within an operation's name: “ApplicationSet”."""
        return self.noun.title().replace(" ", "")

    @property
    def path(self) -> str:
        """Where the list is: “/application-sets”."""
        return "/" + self.attribute.replace("_", "-")

    def summaries(self, desk: Desk) -> list[Any]:
        """What is told of all of them now."""
        with desk.store.reading() as connection:
            versions = estates.versions(connection, self.noun)
        listed = getattr(desk.snapshot.estate, self.attribute)
        return [self.summed_up(one, desk, versions.get(one.key, 0)) for one in listed]

    def summary_of(self, desk: Desk, key: str) -> Any:
        """What is told of the one of a key now. Problem."""
        one = the(getattr(desk.snapshot.estate, self.attribute), self.noun, key)
        with desk.store.reading() as connection:
            versions = estates.versions(connection, self.noun)
        return self.summed_up(one, desk, versions.get(key, 0))


def install(router: APIRouter, kept: Kept) -> None:
    """Add the noun's five routes."""
    noun, summary, model = kept.noun, kept.summary, kept.model
    Right: Any = kept.right  # noqa: N806 (it stands where a type does)
    article = "an" if noun[0] in "aeiou" else "a"
    plural = kept.attribute.replace("_", " ")
    tags: Any = [plural]

    def shown(desk: Desk, key: str, response: Response) -> Any:
        found = kept.summary_of(desk, key)
        tagged(response, found.version)
        return found

    @router.get(
        kept.path,
        summary=f"List {plural}",
        operation_id=f"list{kept.operation}s",
        response_model=Page[summary],  # type: ignore[valid-type]
        description=f"All {plural}, or those that a search finds. {kept.about}",
        tags=tags,
    )
    def list_them(_who: Signed, desk: TheDesk, q: Search = None, cursor: Cursor = None, limit: Limit = 1000) -> Any:
        wanted = (q or "").casefold()
        found = [one for one in kept.summaries(desk) if not wanted or wanted in one.model_dump_json().casefold()]
        return offset_page(found, cursor, limit)

    @router.get(
        kept.path + "/{key}",
        summary=f"Show {article} {noun}",
        operation_id=f"get{kept.operation}",
        response_model=summary,
        description=f"One {noun}.",
        tags=tags,
    )
    def show(key: str, response: Response, _who: Signed, desk: TheDesk) -> Any:
        return shown(desk, key, response)

    @router.post(
        kept.path,
        summary=f"Make {article} {noun}",
        operation_id=f"create{kept.operation}",
        response_model=summary,
        status_code=201,
        description=f"Make {article} {noun}. Its key must be free.",
        tags=tags,
    )
    def create(
        body: model,  # type: ignore[valid-type]
        response: Response,
        change: Right,
        idempotency_key: IdempotencyKey = None,
    ) -> Any:
        edit = add(noun, kept.attribute, kept.prepared(change.desk, body))
        change(edit, noun=noun, once=once(idempotency_key, body))
        return shown(change.desk, body.key, response)  # type: ignore[attr-defined]

    @router.put(
        kept.path + "/{key}",
        summary=f"Change {article} {noun}",
        operation_id=f"put{kept.operation}",
        response_model=summary,
        description=f"Change {article} {noun}; it takes hold wherever it is used. 412 where it was changed meanwhile.",
        tags=tags,
    )
    def put(
        key: str,
        body: model,  # type: ignore[valid-type]
        response: Response,
        change: Right,
        if_match: IfMatch = None,
    ) -> Any:
        edit = save(noun, kept.attribute, key, if_match, kept.prepared(change.desk, body))
        change(edit, noun=noun)
        return shown(change.desk, key, response)

    @router.delete(
        kept.path + "/{key}",
        summary=f"Remove {article} {noun}",
        operation_id=f"remove{kept.operation}",
        status_code=204,
        description=f"Remove {article} {noun} that nothing uses.",
        tags=tags,
    )
    def remove(
        key: str,
        change: Right,
        if_match: IfMatch = None,
    ) -> None:
        removing = save(noun, kept.attribute, key, if_match, None)

        def edit(estate: Estate, versions: Any) -> Estate:
            used = kept.users(estate, key)
            if used:
                raise Problem("in-use", f"The {noun} “{key}” is used by {sentences.joined(used)}; change those first.")
            return removing(estate, versions)

        change(edit, noun=noun)
