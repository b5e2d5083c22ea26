"""Signing in and out, and API tokens."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query, Request, Response
from starlette.concurrency import run_in_threadpool

from portero.core.nouns.access import MadeToken, NewToken, Role, Session, SessionState, SignIn, Token
from portero.service import secrets
from portero.service.problems import Refusal
from portero.service.routes.common import COOKIE, ROLES, Signed, TheKeepers
from portero.store import access
from portero.store.access import Principal

SESSION_SECONDS = 12 * 3600.0

router = APIRouter(tags=["session"])


@router.post("/session", summary="Sign in", operation_id="signIn")
async def sign_in(body: SignIn, request: Request, response: Response, keepers: TheKeepers) -> Session:
    """Sign in with a password. Sets a same-site, HTTP-only cookie and gives the CSRF token for changes."""
    await keepers.sign_ins.check(body.name, body.password, request.client.host if request.client else "")
    secret, csrf_token = secrets.new_secret("ps"), secrets.new_secret("csrf")

    def begin() -> Principal | None:
        now, secret_hash = keepers.now(), secrets.hash_secret(secret)
        with keepers.store.writing() as connection:
            access.add_session(
                connection,
                id=secrets.new_id(),
                secret_hash=secret_hash,
                name=body.name,
                csrf_token=csrf_token,
                now=now,
                expires=now + SESSION_SECONDS,
            )
            return access.by_session(connection, secret_hash, now)

    found = await run_in_threadpool(begin)
    assert found is not None
    response.set_cookie(
        COOKIE,
        secret,
        max_age=int(SESSION_SECONDS),
        httponly=True,
        samesite="strict",
        secure=request.url.scheme == "https",
    )
    return Session(name=found.name, role=found.role, csrf_token=csrf_token)


@router.get("/session", summary="Who is signed in", operation_id="whoAmI")
def who_am_i(who: Signed) -> Session:
    """The signed-in administrator; in a browser with the session's CSRF token."""
    return Session(name=who.name, role=who.role, csrf_token=who.csrf_token)


@router.delete("/session", summary="Sign out", operation_id="signOut", status_code=204)
def sign_out(who: Signed, response: Response, keepers: TheKeepers) -> None:
    """End the browser's session; or the token, with those that it made, where one was sent."""
    with keepers.store.writing() as connection:
        if who.means == "session":
            access.end_session(connection, who.id, who.name)
        else:
            access.end_token(connection, who.id, who.name)
    response.delete_cookie(COOKIE, samesite="strict", httponly=True)


# --- sessions ---

Everybody = Annotated[bool, Query(description="Of everybody, which only a keeper may see.")]


def _whose(who: Principal, everybody: bool) -> str | None:
    """Whose sessions and tokens somebody asks for; None is everybody's. Refusal."""
    if everybody and who.role != "keeper":
        raise Refusal("not-allowed", f"Everybody's are for a keeper to see; {who.name} is {who.role}.")
    return None if everybody else who.name


@router.get("/sessions", summary="Browser sessions", operation_id="listSessions")
def list_sessions(who: Signed, keepers: TheKeepers, everybody: Everybody = False) -> list[SessionState]:
    """Your own browser sessions, or everybody's."""
    whose = _whose(who, everybody)
    keepers.last_used.write()
    with keepers.store.reading() as connection:
        return access.list_sessions(connection, whose, keepers.now())


@router.delete("/sessions/{id}", summary="End a browser session", operation_id="endSession", status_code=204)
def end_session(id: str, who: Signed, keepers: TheKeepers) -> None:
    """End a session: one of your own, or as a keeper anybody's. A token ends none."""
    if who.means == "token":
        raise Refusal("not-allowed", "A token ends no sessions; sign in for that.")
    with keepers.store.writing() as connection:
        if not access.end_session(connection, id, None if who.role == "keeper" else who.name):
            raise Refusal("not-found", f"You have no session “{id[:40]}”.")


# --- tokens ---


@router.post("/tokens", summary="Make an API token", operation_id="createToken", status_code=201)
def create_token(body: NewToken, who: Signed, keepers: TheKeepers) -> MadeToken:
    """Make an API token for programs. Its secret is shown this once and kept only as a hash.

    In a session it may as much as you may. Made with a token it may less than that one, and ends no later.
    """
    role, now = body.role or _usual_role(who), keepers.now()
    _refuse_more(who, role)
    secret, id, expires = secrets.new_secret("pt"), secrets.new_id(), now + body.days * 86_400.0
    if who.means == "token":
        expires = min(expires, who.expires)
    with keepers.store.writing() as connection:
        access.add_token(
            connection,
            id=id,
            secret_hash=secrets.hash_secret(secret),
            name=who.name,
            label=body.label,
            role=role,
            now=now,
            expires=expires,
            made_by=who.id if who.means == "token" else None,
        )
        made = next(token for token in access.list_tokens(connection, who.name) if token.id == id)
    return MadeToken(**dict(made), secret=secret)


def _usual_role(who: Principal) -> Role:
    """The role of a new token where none is asked for: one's own, or the next lower one to a token's."""
    place = ROLES.index(who.role)
    return ROLES[max(0, place - 1)] if who.means == "token" else ROLES[place]


def _refuse_more(who: Principal, role: Role) -> None:
    own, asked = ROLES.index(who.role), ROLES.index(role)
    if who.means == "session" and asked > own:
        raise Refusal("not-allowed", f"You are {who.role}; a token of yours cannot be {role}.")
    if who.means == "token" and asked >= own:
        raise Refusal(
            "not-allowed",
            f"A token makes only lesser ones; this one is {who.role}, and cannot make a {role}. Sign in for that.",
        )


@router.get("/tokens", summary="API tokens", operation_id="listTokens")
def list_tokens(who: Signed, keepers: TheKeepers, everybody: Everybody = False) -> list[Token]:
    """Your own tokens, or everybody's, without their secrets."""
    whose = _whose(who, everybody)
    keepers.last_used.write()
    with keepers.store.reading() as connection:
        return access.list_tokens(connection, whose)


@router.delete("/tokens/{id}", summary="End an API token", operation_id="revokeToken", status_code=204)
def revoke_token(id: str, who: Signed, keepers: TheKeepers) -> None:
    """End a token with those that it made: one of your own, or as a keeper anybody's. A token ends only itself and
    what it made.
    """
    with keepers.store.writing() as connection:
        if who.means == "token" and id not in access.made_by_token(connection, who.id):
            raise Refusal("not-allowed", "A token ends only itself and those that it made; sign in for others.")
        if not access.end_token(connection, id, None if who.role == "keeper" else who.name):
            raise Refusal("not-found", f"You have no token “{id[:40]}”.")
