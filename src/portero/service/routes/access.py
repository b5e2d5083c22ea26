"""Signing in and out, passwords, sessions and API tokens."""

from __future__ import annotations

from typing import Annotated

from fastapi import Depends, Query, Request, Response
from starlette.concurrency import run_in_threadpool

from portero.core.nouns.access import ROLES, MadeToken, NewToken, Role, Session, SessionState, SignIn, Token
from portero.core.nouns.administrator import NewPassword, Setup, SetupState
from portero.service import secrets
from portero.service.auditing import add_detail, audited_router
from portero.service.guessing import code_guessers, too_many
from portero.service.keepers import Keepers
from portero.service.problems import Refusal, field_error
from portero.service.routes.common import (
    COOKIE,
    Signed,
    SignedAnyhow,
    TheKeepers,
    address_of,
    refuse_lesser,
    refuse_token,
)
from portero.store import access, administrators
from portero.store.access import Principal

SESSION_SECONDS = 12 * 3600.0

router = audited_router("session")


@router.post("/session", summary="Sign in", operation_id="signIn")
async def sign_in(body: SignIn, request: Request, response: Response, keepers: TheKeepers) -> Session:
    """Sign in with a password. Sets a same-site, HTTP-only cookie and gives the CSRF token for changes. With a first
    password nothing else is done than to change it.
    """
    name = body.name.strip().lower()
    await keepers.sign_ins.check(name, body.password, address_of(request))
    return await run_in_threadpool(begin_session, name, request, response, keepers)


def begin_session(name: str, request: Request, response: Response, keepers: Keepers) -> Session:
    """A session for whoever has shown who they are."""
    secret, csrf_token = secrets.new_secret("ps"), secrets.new_secret("csrf")
    now, secret_hash, id = keepers.now(), secrets.hash_secret(secret), secrets.new_id()
    with keepers.store.writing() as connection:
        if administrators.named(connection, name) is None:
            raise Refusal("not-signed-in", "This administrator was removed just now.")
        access.add_session(
            connection,
            id=id,
            secret_hash=secret_hash,
            name=name,
            csrf_token=csrf_token,
            now=now,
            expires=now + SESSION_SECONDS,
        )
        found = access.by_session(connection, secret_hash, now)
    if found is None:
        raise Refusal("not-signed-in", "This administrator was disabled just now.")
    request.state.principal = found
    response.set_cookie(
        COOKIE,
        secret,
        max_age=int(SESSION_SECONDS),
        httponly=True,
        samesite="strict",
        secure=request.url.scheme == "https",
    )
    return _session(found, keepers)


def _session(who: Principal, keepers: Keepers) -> Session:
    return Session(
        name=who.name,
        role=who.role,
        csrf_token=who.csrf_token,
        sees_names=who.sees_names,
        probes_freely=who.probes_freely,
        has_first_password=who.has_first_password,
        keepers=tuple(keepers.administrators.keepers()),
    )


@router.get("/session", summary="Who is signed in", operation_id="whoAmI")
def who_am_i(who: SignedAnyhow, keepers: TheKeepers) -> Session:
    """The signed-in administrator; in a browser with the session's CSRF token."""
    return _session(who, keepers)


@router.delete("/session", summary="Sign out", operation_id="signOut", status_code=204)
def sign_out(who: SignedAnyhow, response: Response, keepers: TheKeepers) -> None:
    """End the browser's session; or the token, with those that it made, where one was sent."""
    with keepers.store.writing() as connection:
        if who.means == "session":
            access.end_session(connection, who.id, who.name)
        else:
            access.end_token(connection, who.id, who.name)
    response.delete_cookie(COOKIE, samesite="strict", httponly=True)


def _in_session(who: SignedAnyhow) -> Principal:
    refuse_token(who, "changes no password")
    return who


InSession = Annotated[Principal, Depends(_in_session)]


@router.put("/password", summary="Change your password", operation_id="putPassword", status_code=204)
async def put_password(body: NewPassword, request: Request, who: InSession, keepers: TheKeepers) -> None:
    """Change your own password, in a session. Your other sessions end; your tokens stay."""
    await keepers.sign_ins.check(who.name, body.password, address_of(request))
    if body.new_password == body.password:
        same = "is the one that you have"
        raise Refusal("invalid", f"That password {same}.", errors=[field_error(["new_password"], same)])
    await run_in_threadpool(keepers.administrators.change_password, who.name, body.new_password, who.id)


# --- the first administrator ---


@router.get("/setup", summary="Whether there is no administrator yet", operation_id="getSetup")
def get_setup(keepers: TheKeepers) -> SetupState:
    """Whether the first administrator is to be made. Nobody has to be signed in for it."""
    return SetupState(needed=keepers.administrators.is_needed())


@router.post("/setup", summary="Make the first administrator", operation_id="setUp", status_code=201)
def set_up(body: Setup, request: Request, response: Response, keepers: TheKeepers) -> Session:
    """Make the first administrator, a keeper, with the code that the service printed to its terminal; and sign in."""
    guessers = code_guessers(address_of(request))
    if (wait := keepers.guessing.wait(guessers)) > 0:
        raise too_many(wait, "Too many wrong codes")
    if not keepers.administrators.is_setup_code(body.code):
        keepers.guessing.wrong(guessers)
        raise Refusal("not-allowed", "This is not the setup code that the service printed when it was started.")
    keepers.administrators.set_up(body.name, body.password)
    return begin_session(body.name, request, response, keepers)


# --- sessions ---

Everybody = Annotated[bool, Query(description="Of everybody, which only a keeper may see.")]


def _whose(keepers: Keepers, who: Principal, everybody: bool) -> str | None:
    """Whose sessions and tokens somebody asks for; None is everybody's. Refusal."""
    if everybody:
        refuse_lesser(keepers, who, "keeper")
    return None if everybody else who.name


@router.get("/sessions", summary="Browser sessions", operation_id="listSessions")
def list_sessions(who: Signed, keepers: TheKeepers, everybody: Everybody = False) -> list[SessionState]:
    """Your own browser sessions, or everybody's."""
    whose = _whose(keepers, who, everybody)
    keepers.last_used.write()
    with keepers.store.reading() as connection:
        return access.list_sessions(connection, whose, keepers.now())


@router.delete("/sessions/{id}", summary="End a browser session", operation_id="endSession", status_code=204)
def end_session(id: str, who: Signed, keepers: TheKeepers) -> None:
    """End a session: one of your own, or as a keeper anybody's. A token ends none."""
    refuse_token(who, "ends no sessions")
    with keepers.store.writing() as connection:
        if not access.end_session(connection, id, None if who.role == "keeper" else who.name):
            raise Refusal("not-found", f"You have no session “{id[:40]}”.")


# --- tokens ---


@router.post("/tokens", summary="Make an API token", operation_id="createToken", status_code=201)
def create_token(body: NewToken, request: Request, who: Signed, keepers: TheKeepers) -> MadeToken:
    """Make an API token for programs. Its secret is shown this once and kept only as a hash.

    In a session it may as much as you may. Made with a token it may less than that one, and ends no later.
    """
    role, now = body.role or _usual_role(who), keepers.now()
    _refuse_more(keepers, who, role)
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
    add_detail(request, f"{id} for “{body.label}”: {role}, until {made.expires_at:%Y-%m-%d}")
    return MadeToken(**dict(made), secret=secret)


def _usual_role(who: Principal) -> Role:
    """The role of a new token where none is asked for: one's own, or the next lower one to a token's."""
    place = ROLES.index(who.role)
    return ROLES[max(0, place - 1)] if who.means == "token" else ROLES[place]


def _refuse_more(keepers: Keepers, who: Principal, role: Role) -> None:
    if who.means == "session":
        refuse_lesser(keepers, who, role)
    elif ROLES.index(role) >= ROLES.index(who.role):
        refuse_token(who, f"makes only lesser ones, and this one is {who.role}")


@router.get("/tokens", summary="API tokens", operation_id="listTokens")
def list_tokens(who: Signed, keepers: TheKeepers, everybody: Everybody = False) -> list[Token]:
    """Your own tokens, or everybody's, without their secrets."""
    whose = _whose(keepers, who, everybody)
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
            refuse_token(who, "ends only itself and those that it made")
        if not access.end_token(connection, id, None if who.role == "keeper" else who.name):
            raise Refusal("not-found", f"You have no token “{id[:40]}”.")
