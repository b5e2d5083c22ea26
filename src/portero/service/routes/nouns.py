"""The routes of every noun that administrators author: listed, shown, made, changed as seen, removed.

They are made of the registry. What is particular about a noun stands in its own module, as a `NounRoutes`.

No postponed annotations here: FastAPI reads the models of each noun from the signatures made for it.
"""

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from typing import Annotated, Any

from fastapi import APIRouter, Depends, Path, Query, Response
from pydantic import BaseModel

from portero.core import wording
from portero.core.nouns.estate import NOUNS, Estate
from portero.core.nouns.page import Page
from portero.core.nouns.preview import Preview
from portero.core.nouns.registry import AuthoredNoun, DescribedNoun
from portero.service.auditing import audited_router
from portero.service.keepers import Keepers
from portero.service.problems import Refusal
from portero.service.routes.common import (
    PREVIEWS,
    Cursor,
    IdempotencyKey,
    IfMatch,
    Limit,
    Signed,
    TheKeepers,
    answered,
    asking,
    offset_page,
    once,
    refuse_taken,
    save,
    tagged,
    the,
)
from portero.service.state import Snapshot

Tell = Callable[[Any, int | None], BaseModel]
"""Tells of an object, and the revision that last changed it."""
Sift = Callable[[Any], bool]
"""Whether an object, as lists tell it, is asked for."""
Search = Annotated[str | None, Query(max_length=200, description="Part of its key, its name or what it holds.")]


def _everything() -> Sift:
    return lambda _told: True


@dataclass(frozen=True)
class NounRoutes:
    """What is particular about a noun's routes; by default nothing is."""

    noun: AuthoredNoun
    telling: Callable[[Keepers, Snapshot], Tell] | None = None
    """How objects of a state are told; by default as they are written, with their versions."""
    telling_alone: Callable[[Keepers, Snapshot], Tell] | None = None
    """The same of one alone, where more is told of it than in lists."""
    listing: Callable[[Snapshot], Iterable[Any]] | None = None
    """What a list has; by default the estate's objects."""
    sifting: Callable[..., Sift] = _everything
    """A dependency with more of what lists may be asked for."""
    users: Callable[[Estate, str], list[str]] = lambda _estate, _key: []
    """What uses the object of a key, in words; such a one is not removed."""
    removing: Callable[[Estate, str], Estate] = lambda estate, _key: estate
    """The estate without what goes along with an object. May raise Refusal."""
    prepared: Callable[[Keepers, Any], Any] = lambda _keepers, body: body
    """What is saved of a body."""
    new: type[BaseModel] | None = None
    """What is sent to make one, where that is not the noun itself; `made` makes the noun of it."""
    made: Callable[[Estate, Any], Any] = lambda _estate, body: body
    is_made_by_post: bool = True
    """Otherwise putting one makes it, where there is none of its key."""
    is_paged: bool = True
    folded: Callable[[str], str] = lambda key: key
    """The key that the address means."""

    def page(
        self, keepers: Keepers, snapshot: Snapshot, sift: Sift, q: str | None, cursor: str | None, limit: int | None
    ) -> Page[Any]:
        """What a list tells of those that are asked for; with a limit, a page of them."""
        tell = self._tell(self.telling, self.noun.listed, keepers, snapshot)

        def told(one: Any) -> Any:
            return tell(one, self._version(snapshot, one))

        found, wanted = [one for one in self._listing(snapshot) if sift(one)], (q or "").casefold()
        if wanted:
            # looked for is what is told
            every = [one for one in map(told, found) if wanted in one.model_dump_json().casefold()]
            return offset_page(every, cursor, limit or len(every))
        page = offset_page(found, cursor, limit or len(found))
        return page.model_copy(update={"items": list(map(told, page.items))})

    def tell_one(self, keepers: Keepers, snapshot: Snapshot, key: str) -> Any:
        """What is told of the one of a key. Refusal."""
        one = the(self._listing(snapshot), self.noun, key)
        tell = self._tell(self.telling_alone or self.telling, self.noun.shown, keepers, snapshot)
        return tell(one, self._version(snapshot, one))

    def _listing(self, snapshot: Snapshot) -> Iterable[Any]:
        return self.noun.of(snapshot.estate) if self.listing is None else self.listing(snapshot)

    def _version(self, snapshot: Snapshot, one: Any) -> int | None:
        return snapshot.versions[self.noun.word].get(self.noun.key_of(one))

    def _tell(
        self,
        telling: Callable[[Keepers, Snapshot], Tell] | None,
        shown: type[BaseModel],
        keepers: Keepers,
        snapshot: Snapshot,
    ) -> Tell:
        if telling is not None:
            return telling(keepers, snapshot)
        return lambda one, version: shown(**dict(one), version=version)


def install(router: APIRouter, own: NounRoutes) -> None:
    """Add a noun's routes."""
    _install_reading(router, own)
    if own.is_made_by_post:
        _install_create(router, own)
    _install_put(router, own)
    _install_remove(router, own)


def _path(own: NounRoutes) -> str:
    name = own.noun.key + (":path" if own.noun.key_has_strokes else "")
    return f"{own.noun.path}/{{{name}}}"


def _shown(own: NounRoutes, keepers: Keepers, snapshot: Snapshot, key: str, response: Response) -> Any:
    told = own.tell_one(keepers, snapshot, key)
    if told.version is not None:
        tagged(response, told.version)
    return told


def _install_reading(router: APIRouter, own: NounRoutes) -> None:
    noun = own.noun
    Key = Annotated[str, Path(alias=noun.key, max_length=400)]  # noqa: N806
    tags: Any = [noun.plural]
    reading: Any = {
        "path": noun.path,
        "summary": f"List {noun.plural}",
        "operation_id": f"list{noun.operations}",
        "description": f"{noun.about}",
        "tags": tags,
    }
    listed: Any = noun.listed

    if own.is_paged:

        @router.get(response_model=Page[listed], **reading)
        def list_page(
            _who: Signed,
            keepers: TheKeepers,
            sift: Annotated[Sift, Depends(own.sifting)],
            q: Search = None,
            cursor: Cursor = None,
            limit: Limit = 100,
        ) -> Any:
            return own.page(keepers, keepers.estate.snapshot, sift, q, cursor, limit)

    else:

        @router.get(response_model=list[listed], **reading)
        def list_all(
            _who: Signed, keepers: TheKeepers, sift: Annotated[Sift, Depends(own.sifting)], q: Search = None
        ) -> Any:
            return own.page(keepers, keepers.estate.snapshot, sift, q, None, None).items

    @router.get(
        _path(own),
        summary=f"Show {noun.a}",
        operation_id=f"get{noun.operation}",
        response_model=noun.shown,
        description=f"One {noun.one}.",
        tags=tags,
    )
    def show(key: Key, response: Response, _who: Signed, keepers: TheKeepers) -> Any:
        return _shown(own, keepers, keepers.estate.snapshot, own.folded(key), response)


def _install_create(router: APIRouter, own: NounRoutes) -> None:
    noun, model = own.noun, own.new or own.noun.model

    @router.post(
        noun.path,
        summary=f"Make {noun.a}",
        operation_id=f"create{noun.operation}",
        response_model=noun.shown,
        status_code=201,
        responses=PREVIEWS,
        description=f"Make {noun.a}. Its key must be free.",
        tags=[noun.plural],
    )
    def create(
        body: model,  # type: ignore[valid-type]
        response: Response,
        change: asking(noun.right),  # type: ignore[valid-type]
        idempotency_key: IdempotencyKey = None,
    ) -> Any:
        prepared = own.prepared(change.keepers, body)

        def edit(snapshot: Snapshot) -> Estate:
            made = own.made(snapshot.estate, prepared)
            refuse_taken(snapshot.estate, noun, noun.key_of(made))
            return snapshot.estate.replacing(**{noun.list: (*noun.of(snapshot.estate), made)})

        result = change(
            edit,
            reason=getattr(body, "reason", None),
            once=once(idempotency_key, body),
            answer=lambda estate: noun.key_of(noun.of(estate)[-1]),
        )
        key = "" if isinstance(result, Preview) else result.told
        return answered(result, lambda snapshot: _shown(own, change.keepers, snapshot, key, response))


def _install_put(router: APIRouter, own: NounRoutes) -> None:
    noun, model = own.noun, own.noun.model
    shown: Any = noun.shown
    Key = Annotated[str, Path(alias=noun.key, max_length=400)]  # noqa: N806
    tags: Any = [noun.plural]
    putting: Any = {
        "summary": f"Change {noun.a}",
        "operation_id": f"put{noun.operation}",
        "response_model": shown | Preview,
        "description": (
            f"Change {noun.a}; it takes hold wherever it is used. 412 where it was changed meanwhile."
            + ("" if own.is_made_by_post else " A new one needs no If-Match.")
        ),
        "tags": tags,
    }

    def saved(key: str, body: Any, response: Response, change: Any, if_match: str | None) -> Any:
        made = own.prepared(change.keepers, body)
        edit = save(noun, key, if_match, made, may_be_new=not own.is_made_by_post)
        reason = None if own.is_made_by_post else getattr(body, "reason", None)
        result = change(edit, reason=reason)
        return answered(result, lambda snapshot: _shown(own, change.keepers, snapshot, key, response))

    if own.noun.key_has_strokes:

        @router.put(noun.path, **putting)
        def put_named(
            body: model,  # type: ignore[valid-type]
            response: Response,
            change: asking(noun.right),  # type: ignore[valid-type]
            if_match: IfMatch = None,
        ) -> Any:
            return saved(noun.key_of(body), body, response, change, if_match)

    else:

        @router.put(_path(own), **putting)
        def put(
            key: Key,
            body: model,  # type: ignore[valid-type]
            response: Response,
            change: asking(noun.right),  # type: ignore[valid-type]
            if_match: IfMatch = None,
        ) -> Any:
            return saved(own.folded(key), body, response, change, if_match)


def _install_remove(router: APIRouter, own: NounRoutes) -> None:
    noun = own.noun
    Key = Annotated[str, Path(alias=noun.key, max_length=400)]  # noqa: N806

    @router.delete(
        _path(own),
        summary=f"Remove {noun.a}",
        operation_id=f"remove{noun.operation}",
        status_code=204,
        response_model=None,
        responses=PREVIEWS,
        description=f"Remove {noun.a} that nothing uses.",
        tags=[noun.plural],
    )
    def remove(
        key: Key,
        change: asking(noun.right),  # type: ignore[valid-type]
        if_match: IfMatch = None,
    ) -> Any:
        own_key = own.folded(key)
        removing = save(noun, own_key, if_match, None)

        def edit(snapshot: Snapshot) -> Estate:
            used = own.users(snapshot.estate, own_key)
            if used:
                said = f"The {noun.one} “{own_key}” is used by {wording.joined(used)}; change those first."
                raise Refusal("in-use", said)
            return removing(replace(snapshot, estate=own.removing(snapshot.estate, own_key)))

        return answered(change(edit), lambda _snapshot: None)


# --- the registry ---

router = audited_router("nouns")


@router.get("/nouns", summary="What administrators author", operation_id="listNouns")
def list_nouns(_who: Signed) -> list[DescribedNoun]:
    """The nouns of the estate document, with where their objects are and who may change them."""
    return [
        DescribedNoun(**{name: getattr(noun, name) for name in DescribedNoun.model_fields}) for noun in NOUNS.values()
    ]
