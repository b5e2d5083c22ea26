"""What routes share: who asks, with what right, which version they saw, and pages."""

from __future__ import annotations

import hashlib
import hmac
import json
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import Annotated, Any, TypeVar, cast

from fastapi import Depends, Header, Query, Request, Response
from pydantic import BaseModel, StringConstraints

from portero.core import wording
from portero.core.insight.gate import taken_out
from portero.core.nouns.access import ROLES, Role
from portero.core.nouns.base import unknown_word
from portero.core.nouns.estate import NOUNS, PARTS, Estate
from portero.core.nouns.group import BUILT_IN
from portero.core.nouns.page import Page
from portero.core.nouns.preview import Preview
from portero.core.nouns.registry import AuthoredNoun
from portero.service.auditing import PREVIEW_HEADER, note_revision
from portero.service.estate import Done, Edit, Once
from portero.service.keepers import Keepers
from portero.service.problems import Refusal, field_error
from portero.service.secrets import hash_secret
from portero.service.state import Snapshot
from portero.store import access
from portero.store.access import Principal

COOKIE = "portero_session"

Item = TypeVar("Item")


def the_keepers(request: Request) -> Keepers:
    """The service's keepers."""
    keepers: Keepers = request.app.state.keepers
    return keepers


TheKeepers = Annotated[Keepers, Depends(the_keepers)]


def principal(request: Request, keepers: TheKeepers) -> Principal:
    """Who asks: by bearer token, or by session cookie (with the CSRF token where something is changed). With a first
    password nothing else is done than to change it.
    """
    found = _known(request, keepers)
    if found.has_first_password:
        detail = "Your password is the first one, which the service made: change it, and then go on."
        raise Refusal("password-change-needed", detail)
    return found


def _known(request: Request, keepers: TheKeepers) -> Principal:
    scheme, _, token = request.headers.get("authorization", "").partition(" ")
    with keepers.store.reading() as connection:
        if scheme.lower() == "bearer" and token:
            found = access.by_token(connection, hash_secret(token.strip()), keepers.now())
            detail = "This token is not good (any more); sign in again, or make a new one."
        elif secret := request.cookies.get(COOKIE):
            found = access.by_session(connection, hash_secret(secret), keepers.now())
            detail = "The session has ended; sign in again."
        else:
            found, detail = None, "Send a bearer token, or sign in."
    if found is None:
        raise Refusal("not-signed-in", detail, headers={"WWW-Authenticate": "Bearer"})
    request.state.principal = found
    keepers.last_used.note(found, keepers.now(), address_of(request))
    if found.csrf_token and request.method not in ("GET", "HEAD") and not _csrf_matches(request, found.csrf_token):
        raise Refusal("not-allowed", "A change from a browser needs the X-CSRF-Token that signing in gave.")
    return found


def address_of(request: Request) -> str:
    """The address that a request comes from."""
    return request.client.host if request.client else ""


def _csrf_matches(request: Request, expected: str) -> bool:
    return hmac.compare_digest(request.headers.get("x-csrf-token", "").encode(), expected.encode())


Signed = Annotated[Principal, Depends(principal)]
SignedAnyhow = Annotated[Principal, Depends(_known)]
"""As `Signed`, with a first password too."""


def _lacks(who: Principal, right: Role) -> bool:
    return ROLES.index(who.role) < ROLES.index(right)


def not_permitted(keepers: Keepers, needed: str, lack: str) -> Refusal:
    """The refusal of what somebody may not: what is needed, such as “the role of a keeper”; how they lack it, such as
    “clerk is reader”; and who can give it.
    """
    givers = keepers.administrators.keepers()
    remedy = f"{lack}, and {wording.joined(givers[:3], 'or')} can give it"
    return Refusal("not-allowed", f"This needs {needed}; {remedy}.", needed=needed, given_by=givers)


def refuse_lesser(keepers: Keepers, who: Principal, role: Role, what: str = "") -> None:
    """Refusal where that role is needed, and somebody's is a lesser one."""
    if not _lacks(who, role):
        return
    needed = f"the role of {'an' if role == 'author' else 'a'} {role}{what}"
    if ROLES.index(who.own_role) >= ROLES.index(role):
        remedy = f"this token is {who.role}; sign in for that, or make one that may more"
        raise Refusal("not-allowed", f"This needs {needed}; {remedy}.", needed=needed)
    raise not_permitted(keepers, needed, f"{who.name} is {who.role}")


def refuse_token(who: Principal, what: str) -> None:
    """Refusal of what is done in a session only, where a token is sent."""
    if who.means == "token":
        raise Refusal("not-allowed", f"A token {what}; sign in for that.", needed="a session")


def _with_role(role: Role) -> Callable[[Principal, Keepers], Principal]:
    def check(who: Signed, keepers: TheKeepers) -> Principal:
        refuse_lesser(keepers, who, role)
        return who

    return check


Responder = Annotated[Principal, Depends(_with_role("responder"))]
Author = Annotated[Principal, Depends(_with_role("author"))]
Keeper = Annotated[Principal, Depends(_with_role("keeper"))]

Reason = Annotated[str | None, Query(max_length=2000, description="Why, for the revision.")]
WantsPreview = Annotated[
    bool, Query(alias="preview", description="Say what would change, and do nothing: the answer is a Preview.")
]
Overrule = Annotated[
    bool, Query(description="Make it although it fails a probe of the gate: for keepers, and with a reason.")
]
Prove = Annotated[
    tuple[Annotated[str, StringConstraints(min_length=1, max_length=8500)], ...],
    Query(
        max_length=50,
        description="Probes that are to prove it: keys of probe sets, or such as “block reeltide.example on ships”. A"
        " change that does not lead to what they expect is refused; what they come to before it and since is kept.",
    ),
]
Cursor = Annotated[str | None, Query(max_length=1000, description="`next` of the page before.")]
Limit = Annotated[int, Query(ge=1, le=1000, description="How many items at most.")]
IfMatch = Annotated[
    str | None, Header(description="The ETag that you saw, or * to overwrite whatever there is.", max_length=100)
]
IdempotencyKey = Annotated[
    str | None, Header(description="Your own key for this creation; sent again, it is made once.", max_length=200)
]


# --- changing the estate ---


@dataclass(frozen=True)
class Asked:
    """A change of the estate as somebody asks for it: who, why, and whether only to see what it would do."""

    request: Request
    who: Principal
    keepers: Keepers
    reason: str | None
    preview: bool
    overrule: bool = False
    prove: tuple[str, ...] = ()

    def __call__(
        self,
        edit: Edit,
        *,
        reason: str | None = None,
        once: Once | None = None,
        answer: Callable[[Estate], str] = lambda _estate: "",
    ) -> Done | Preview:
        """Make the change, or see what it would do. Refusal."""
        estate = self.keepers.estate
        carried = self.keepers.proving.carrying(self.prove) if self.prove else None
        if self.preview:
            return estate.preview(edit, carried)
        if _lacks(self.who, "keeper"):
            edit = self._leaving_the_gate(edit)
        told = self.reason or reason
        if self.overrule:
            refuse_lesser(self.keepers, self.who, "keeper", ", as it overrules the gate")
            if not self.reason:
                raise Refusal("invalid", "Who overrules the gate says why: send a reason along.")
            told = f"The gate was overruled: {self.reason}"
        done = estate.change(
            edit,
            by=self.who.name,
            reason=told,
            once=once,
            answer=answer,
            passes_gate=not self.overrule,
            carried=carried,
        )
        if done.made is not None:
            note_revision(self.request, done.made)
        return done

    def _leaving_the_gate(self, edit: Edit) -> Edit:
        """The edit, refused where it takes probes out of the gate or alters them."""

        def checked(snapshot: Snapshot) -> Estate:
            after = edit(snapshot)
            gone = taken_out(snapshot.estate, after)
            if gone:
                told = f", as it takes probe {gone[0].number} of {gone[0].set.key} out of the gate"
                refuse_lesser(self.keepers, self.who, "keeper", told)
            return after

        return checked

    def refuse_guarded(self, before: Estate, after: Estate, what: str) -> None:
        """Refusal where somebody would change what their role may not. `what` would do so, as in “the document”."""
        rights = {noun.list: noun.right for noun in NOUNS.values()} | PARTS
        guarded = [name for name, right in rights.items() if _lacks(self.who, right)]
        changed = [name for name in guarded if getattr(before, name) != getattr(after, name)]
        if changed and not self.preview:
            told = wording.joined([f"the {name}" for name in changed])
            refuse_lesser(self.keepers, self.who, "keeper", f", as {what} changes {told}")


def _asked_by_author(
    request: Request,
    who: Author,
    keepers: TheKeepers,
    reason: Reason = None,
    preview: WantsPreview = False,
    overrule: Overrule = False,
    prove: Prove = (),
) -> Asked:
    return Asked(request, who, keepers, reason, preview, overrule, prove)


def _asked_by_keeper(
    request: Request,
    who: Keeper,
    keepers: TheKeepers,
    reason: Reason = None,
    preview: WantsPreview = False,
    overrule: Overrule = False,
    prove: Prove = (),
) -> Asked:
    return Asked(request, who, keepers, reason, preview, overrule, prove)


Authoring = Annotated[Asked, Depends(_asked_by_author)]
Keeping = Annotated[Asked, Depends(_asked_by_keeper)]


def asking(right: Role) -> Any:
    """How a change is asked for that needs this role."""
    return Keeping if right == "keeper" else Authoring


PREVIEWS: dict[int | str, dict[str, Any]] = {
    200: {"model": Preview, "description": "With `preview`: what it would do."}
}
"""For calls that answer with another status when the change is made."""


def gives(media_type: str) -> dict[int | str, dict[str, Any]]:
    """How a call is described that answers with a file."""
    return {200: {"content": {media_type: {"schema": {"type": "string"}}}}}


def answered(result: Done | Preview, show: Callable[[Snapshot], Item]) -> Item:
    """What is answered to a change: what `show` makes of the state since then, or what it would do."""
    if isinstance(result, Preview):
        headers = {PREVIEW_HEADER: "true"}
        # an answer of its own, whatever the call answers otherwise
        return cast("Item", Response(result.model_dump_json(), media_type="application/json", headers=headers))
    return show(result.snapshot)


def refuse_stray_preview(request: Request) -> None:
    """Refusal where a preview is asked of a call that has none: it would be done in earnest."""
    if request.method != "GET" and "preview" in request.query_params:
        needs = {dependency.call for dependency in request.scope["route"].dependant.dependencies}
        if needs.isdisjoint((_asked_by_author, _asked_by_keeper)):
            raise Refusal("bad-request", "This call has no preview; nothing was changed.")


# --- versions ---


def etag(version: int) -> str:
    """The ETag of an object last changed at a revision."""
    return f'"r{version}"'


def tagged(response: Response, version: int) -> None:
    """Give the answer its ETag."""
    response.headers["ETag"] = etag(version)


def once(key: str | None, body: BaseModel) -> Once | None:
    """The Idempotency-Key with the body's fingerprint."""
    return Once(key, hashlib.sha256(body.model_dump_json().encode()).hexdigest()) if key else None


def expect_tag(
    if_match: str | None, tag: str, what: str, changed: str, newest: Callable[[], dict[str, Any]] = dict
) -> None:
    """Refusal unless the caller saw the version with this ETag. `changed` says who changed it meanwhile, or when;
    `newest` goes into the answer.
    """
    if if_match is None:
        raise Refusal(
            "precondition-required",
            f"Send If-Match with the ETag that you saw of {what} ({tag} is the newest), so that nobody's change is"
            " lost.",
        )
    if if_match.strip() not in ("*", tag):
        raise Refusal(
            "changed-meanwhile",
            f"{changed}, after you read it. Look at the newest state, then send your change again with its ETag.",
            headers={"ETag": tag},
            **newest(),
        )


def expect_version(if_match: str | None, what: str, version: int, current: Callable[[], Any]) -> None:
    """Refusal unless the caller saw `what`, such as “the group “ships””, as of this revision; it is `current` now."""
    changed = f"{what[0].upper()}{what[1:]} was changed in revision {version}"
    expect_tag(if_match, etag(version), what, changed, lambda: {"current": current(), "version": version})


# --- objects of a noun ---


def the(objects: Iterable[Any], noun: AuthoredNoun, key: str) -> Any:
    """The one with that key. Refusal where there is none."""
    listed = list(objects)
    for object_ in listed:
        if noun.key_of(object_) == key:
            return object_
    raise Refusal("not-found", wording.as_sentence(unknown_word(noun.one, key, map(noun.key_of, listed))))


def refuse_unknown_group(estate: Estate, key: str) -> None:
    """Refusal where there is no group with that key, built in or not."""
    known = (*estate.group_order, *BUILT_IN)
    if key not in known:
        raise Refusal("not-found", wording.as_sentence(unknown_word("group", key, known)))


def refuse_taken(estate: Estate, noun: AuthoredNoun, key: str) -> None:
    """Refusal where the key is taken."""
    if any(noun.key_of(one) == key for one in noun.of(estate)):
        said = f"There is {noun.a} “{key}” already; choose another key, or change that one."
        raise Refusal("already-exists", said)


def save(noun: AuthoredNoun, key: str, if_match: str | None, new: Any, *, may_be_new: bool = False) -> Edit:
    """An edit that puts `new` in place of the object that the caller saw, or removes it where `new` is None. With
    `may_be_new` one that is not there yet is added, and needs no If-Match.
    """
    if new is not None and noun.key_of(new) != key:
        raise Refusal(
            "invalid",
            f"The {noun.key} in the body is “{noun.key_of(new)}”, and the address says “{key}”; it never changes.",
            errors=[field_error([noun.key], "differs from the address")],
        )

    def edit(snapshot: Snapshot) -> Estate:
        objects = noun.of(snapshot.estate)
        current = next((object_ for object_ in objects if noun.key_of(object_) == key), None)
        if current is not None:
            version = snapshot.version(noun.word, key)
            expect_version(if_match, f"the {noun.one} “{key}”", version, lambda: as_json(current))
        elif new is None or not may_be_new:
            raise Refusal("not-found", f"There is no {noun.one} “{key[:64]}”.")
        kept = [new if object_ is current else object_ for object_ in objects]
        after = [one for one in (kept if current is not None else [*kept, new]) if one is not None]
        return snapshot.estate.replacing(**{noun.list: tuple(after)})

    return edit


def as_json(noun: BaseModel) -> dict[str, Any]:
    """The noun as JSON values."""
    return json.loads(noun.model_dump_json())  # type: ignore[no-any-return]


def offset_page(items: Sequence[Item], cursor: str | None, limit: int) -> Page[Item]:
    """A page of a list that is held in memory whole; the cursor is the number of items passed."""
    try:
        start = int(cursor or 0)
    except ValueError:
        raise Refusal("bad-request", "The cursor is damaged; begin again without one.") from None
    start = max(0, min(start, len(items)))
    end = start + limit
    return Page(items=list(items[start:end]), next=str(end) if end < len(items) else None, total=len(items))
