"""What routes share: who asks, with what right, which version they saw, and pages."""

from __future__ import annotations

import hashlib
import hmac
import json
from collections.abc import Callable, Sequence
from typing import Annotated, Any, TypeVar, get_args

from fastapi import Depends, FastAPI, Header, Query, Request, Response
from pydantic import BaseModel

from portero.core import sentences
from portero.core.nouns.access import Role
from portero.core.nouns.base import unknown_word
from portero.core.nouns.estate import Estate
from portero.core.nouns.page import Page
from portero.core.nouns.preview import Preview
from portero.service.desk import Desk, Edit, Once
from portero.service.problems import Problem, field_error
from portero.service.secrets import hash_secret
from portero.store import access
from portero.store.access import Principal

COOKIE = "portero_session"
ROLES: tuple[Role, ...] = get_args(Role)

Item = TypeVar("Item")


def the_desk(request: Request) -> Desk:
    """The service's desk."""
    desk: Desk = request.app.state.desk
    return desk


TheDesk = Annotated[Desk, Depends(the_desk)]


def principal(request: Request, desk: TheDesk) -> Principal:
    """Who asks: by bearer token, or by session cookie (with the CSRF token where something is changed)."""
    scheme, _, token = request.headers.get("authorization", "").partition(" ")
    with desk.store.reading() as connection:
        if scheme.lower() == "bearer" and token:
            found = access.by_token(connection, hash_secret(token.strip()), desk.now())
            detail = "This token is not good (any more); sign in again, or make a new one."
        elif secret := request.cookies.get(COOKIE):
            found = access.by_session(connection, hash_secret(secret), desk.now())
            detail = "The session has ended; sign in again."
        else:
            found, detail = None, "Send a bearer token, or sign in."
    if found is None:
        raise Problem("not-signed-in", detail, headers={"WWW-Authenticate": "Bearer"})
    if found.csrf_token and request.method not in ("GET", "HEAD") and not _csrf_matches(request, found.csrf_token):
        raise Problem("not-allowed", "A change from a browser needs the X-CSRF-Token that signing in gave.")
    return found


def _csrf_matches(request: Request, expected: str) -> bool:
    return hmac.compare_digest(request.headers.get("x-csrf-token", "").encode(), expected.encode())


Signed = Annotated[Principal, Depends(principal)]


def _with_role(role: str) -> Callable[[Principal], Principal]:
    def check(who: Signed) -> Principal:
        if ROLES.index(who.role) < ROLES.index(role):
            article = "an" if role == "author" else "a"
            raise Problem("not-allowed", f"This needs the role of {article} {role}; {who.name} is {who.role}.")
        return who

    return check


Author = Annotated[Principal, Depends(_with_role("author"))]
Keeper = Annotated[Principal, Depends(_with_role("keeper"))]

Reason = Annotated[str | None, Query(max_length=2000, description="Why, for the revision.")]
WantsPreview = Annotated[
    bool, Query(alias="preview", description="Say what would change, and do nothing: the answer is a Preview.")
]
Cursor = Annotated[str | None, Query(max_length=1000, description="`next` of the page before.")]
Limit = Annotated[int, Query(ge=1, le=1000, description="How many items at most.")]
IfMatch = Annotated[
    str | None, Header(description="The ETag that you saw, or * to overwrite whatever there is.", max_length=100)
]
IdempotencyKey = Annotated[
    str | None, Header(description="Your own key for this creation; sent again, it is made once.", max_length=200)
]


class Previewed(Exception):
    """The change was only to be previewed: the preview is the answer, and nothing was kept."""

    def __init__(self, preview: Preview) -> None:
        super().__init__(preview.summary)
        self.preview = preview


def refuse_stray_preview(request: Request) -> None:
    """Problem where a preview is asked of a call that has none: it would be done in earnest."""
    if request.method != "GET" and "preview" in request.query_params:
        needs = {one.call for one in request.scope["route"].dependant.dependencies}
        if needs.isdisjoint((_asked_by_author, _asked_by_keeper)):
            raise Problem("bad-request", "This call has no preview; nothing was changed.")


def install_previews(app: FastAPI) -> None:
    """Answer a change that was only to be previewed with its preview, and describe that."""

    async def told(_request: Request, previewed: Previewed) -> Response:
        body = previewed.preview.model_dump_json()
        return Response(body, media_type="application/json", headers={"Portero-Preview": "true"})

    app.add_exception_handler(Previewed, told)  # type: ignore[arg-type]
    describe = app.openapi

    def described() -> dict[str, Any]:
        if app.openapi_schema is None:
            _describe_previews(describe())
        return describe()

    app.openapi = described  # type: ignore[method-assign]


def _describe_previews(description: dict[str, Any]) -> None:
    """Every operation that takes `preview` may answer with a Preview."""
    schema = Preview.model_json_schema(ref_template="#/components/schemas/{model}")
    schemas = description["components"]["schemas"]
    schemas.update({name: one for name, one in schema.pop("$defs", {}).items() if name not in schemas})
    schemas["Preview"] = schema
    preview = {"$ref": "#/components/schemas/Preview"}
    for operations in description["paths"].values():
        for operation in operations.values():
            if not any(one["name"] == "preview" for one in operation.get("parameters", ())):
                continue
            said = operation["responses"].get("200")
            usual = said["content"]["application/json"]["schema"] if said else None
            operation["responses"]["200"] = {
                "description": "What it did; or, with `preview`, what it would do." if said else "With `preview`.",
                "content": {"application/json": {"schema": {"anyOf": [usual, preview]} if usual else preview}},
            }


class Asked:
    """A change of the estate as somebody asks for it: who, why, and whether only to see what it would do."""

    def __init__(self, who: Principal, desk: Desk, reason: str | None, preview: bool) -> None:
        self.who, self.desk, self.reason, self.preview = who, desk, reason, preview

    def __call__(
        self,
        edit: Edit,
        *,
        noun: str,
        reason: str | None = None,
        once: Once | None = None,
        answer: Callable[[Estate], str] = lambda _estate: "",
    ) -> str:
        """Make the change, and answer what `answer` makes of the new estate. Problem; Previewed."""
        if self.preview:
            raise Previewed(self.desk.preview(edit, noun=noun))
        return self.desk.change(
            edit, noun=noun, by=self.who.name, reason=self.reason or reason, once=once, answer=answer
        )

    def refuse_guarded(self, before: Estate, after: Estate, what: str) -> None:
        """Problem where somebody who is no keeper would change the settings, or from where the service fetches.

        `what` would do so, as in “The document”.
        """
        guarded = after.settings != before.settings or after.feeds != before.feeds
        if guarded and self.who.role != "keeper" and not self.preview:
            raise Problem(
                "not-allowed",
                f"{what} changes the settings or the feeds, which needs the role of a keeper; {self.who.name} is"
                f" {self.who.role}.",
            )


def _asked_by_author(who: Author, desk: TheDesk, reason: Reason = None, preview: WantsPreview = False) -> Asked:
    return Asked(who, desk, reason, preview)


def _asked_by_keeper(who: Keeper, desk: TheDesk, reason: Reason = None, preview: WantsPreview = False) -> Asked:
    return Asked(who, desk, reason, preview)


Authoring = Annotated[Asked, Depends(_asked_by_author)]
Keeping = Annotated[Asked, Depends(_asked_by_keeper)]


def etag(version: int) -> str:
    """The ETag of an object last changed at a revision."""
    return f'"r{version}"'


def tagged(response: Response, version: int) -> None:
    """Give the answer its ETag."""
    response.headers["ETag"] = etag(version)


def once(key: str | None, body: BaseModel) -> Once | None:
    """The Idempotency-Key with the body's fingerprint."""
    return Once(key, hashlib.sha256(body.model_dump_json().encode()).hexdigest()) if key else None


def expect_tag(if_match: str | None, tag: str, what: str, changed: str, **newest: Any) -> None:
    """Problem unless the caller saw the version with this ETag. `changed` says who changed it meanwhile, or when;
    `newest` goes into the answer.
    """
    if if_match is None:
        raise Problem(
            "precondition-required",
            f"Send If-Match with the ETag that you saw of {what} ({tag} is the newest), so that nobody's change is"
            " lost.",
        )
    if if_match.strip() not in ("*", tag):
        raise Problem(
            "changed-meanwhile",
            f"{changed}, after you read it. Look at the newest state, then send your change again with its ETag.",
            headers={"ETag": tag},
            **newest,
        )


def expect_version(if_match: str | None, what: str, version: int, current: Any) -> None:
    """Problem unless the caller saw `what`, such as “the group “ships””, as of this revision."""
    changed = f"{what[0].upper()}{what[1:]} was changed in revision {version}"
    expect_tag(if_match, etag(version), what, changed, current=current, version=version)


def refuse_taken(nouns: Sequence[Any], noun: str, key: str) -> None:
    """Problem where the key is taken."""
    if any(one.key == key for one in nouns):
        raise Problem("already-exists", f"There is a {noun} “{key}” already; choose another key, or change that one.")


def the(nouns: Any, noun: str, key: str) -> Any:
    """The one with that key. Problem where there is none."""
    for one in nouns:
        if one.key == key:
            return one
    raise Problem("not-found", sentences.as_sentence(unknown_word(noun, key, [one.key for one in nouns])))


def save(
    noun: str, attribute: str, key: str, if_match: str | None, new: Any, *, by: str = "key", may_be_new: bool = False
) -> Edit:
    """An edit that puts `new` in place of the object that the caller saw, or removes it where `new` is None.

    `by` is what names the object. With `may_be_new` one that is not there yet is added, and needs no If-Match.
    """
    if new is not None and getattr(new, by) != key:
        raise Problem(
            "invalid",
            f"The {by} in the body is “{getattr(new, by)}”, and the address says “{key}”; it never changes.",
            errors=[field_error([by], "differs from the address")],
        )

    def edit(estate: Estate, versions: Any) -> Estate:
        nouns = getattr(estate, attribute)
        current = next((one for one in nouns if getattr(one, by) == key), None)
        if current is not None:
            expect_version(if_match, f"the {noun} “{key}”", versions[key], as_json(current))
        elif new is None or not may_be_new:
            raise Problem("not-found", f"There is no {noun} “{key[:64]}”.")
        kept = [new if one is current else one for one in nouns]
        after = [one for one in (kept if current is not None else [*kept, new]) if one is not None]
        return estate.replacing(**{attribute: tuple(after)})

    return edit


def add(noun: str, attribute: str, new: Any) -> Edit:
    """An edit that adds `new`. Problem where its key is taken."""

    def edit(estate: Estate, _versions: Any) -> Estate:
        nouns = getattr(estate, attribute)
        refuse_taken(nouns, noun, new.key)
        return estate.replacing(**{attribute: (*nouns, new)})

    return edit


def as_json(noun: BaseModel) -> dict[str, Any]:
    """The noun as JSON values."""
    return json.loads(noun.model_dump_json())  # type: ignore[no-any-return]


def offset_page(items: Sequence[Item], cursor: str | None, limit: int) -> Page[Item]:
    """A page of a list that is held in memory whole; the cursor is the number of items passed."""
    try:
        start = int(cursor or 0)
    except ValueError:
        raise Problem("bad-request", "The cursor is damaged; begin again without one.") from None
    start = max(0, min(start, len(items)))
    end = start + limit
    return Page(items=list(items[start:end]), next=str(end) if end < len(items) else None, total=len(items))
