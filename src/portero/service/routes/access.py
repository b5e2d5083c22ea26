"""Signing in and out, and API tokens."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response

from portero.core.nouns.access import MadeToken, NewToken, Session, SignIn, Token
from portero.service import secrets
from portero.service.problems import Refusal
from portero.service.routes.common import COOKIE, ROLES, Signed, TheKeepers
from portero.store import access
from portero.store.moments import moment

SESSION_SECONDS = 12 * 3600.0

router = APIRouter(tags=["session"])


@router.post("/session", summary="Sign in", operation_id="signIn")
def sign_in(body: SignIn, request: Request, response: Response, keepers: TheKeepers) -> Session:
    """Sign in with a password. Sets a same-site, HTTP-only cookie and gives the CSRF token for changes."""
    who, now = f"{body.name}@{request.client.host if request.client else ''}", keepers.now()
    wait = keepers.throttle.wait(who, now)
    if wait > 0:
        raise Refusal(
            "too-many-tries",
            f"Too many failed tries; wait {int(wait // 60) + 1} minutes.",
            headers={"Retry-After": str(int(wait) + 1)},
        )
    with keepers.store.reading() as connection:
        password_hash = access.password_hash_of(connection, body.name)
    if not secrets.password_matches(password_hash, body.password):
        keepers.throttle.failed(who, now)
        raise Refusal("not-signed-in", "Name or password is wrong.")
    secret, csrf_token = secrets.new_secret("ps"), secrets.new_secret("csrf")
    with keepers.store.writing() as connection:
        access.add_session(connection, secrets.hash_secret(secret), body.name, csrf_token, now + SESSION_SECONDS)
        found = access.by_session(connection, secrets.hash_secret(secret), now)
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
def sign_out(_who: Signed, request: Request, response: Response, keepers: TheKeepers) -> None:
    """End the browser's session."""
    if secret := request.cookies.get(COOKIE):
        with keepers.store.writing() as connection:
            access.end_session(connection, secrets.hash_secret(secret), keepers.now())
    response.delete_cookie(COOKIE, samesite="strict", httponly=True)


@router.post("/tokens", summary="Make an API token", operation_id="createToken", status_code=201)
def create_token(body: NewToken, who: Signed, keepers: TheKeepers) -> MadeToken:
    """Make an API token for programs. Its secret is shown this once and kept only as a hash."""
    role = body.role or who.role
    if ROLES.index(role) > ROLES.index(who.role):
        raise Refusal("not-allowed", f"You are {who.role}; a token of yours cannot be {role}.")
    secret, id, now = secrets.new_secret("pt"), secrets.new_code().lower(), keepers.now()
    expires = now + body.days * 86_400 if body.days else None
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
        )
    return MadeToken.model_validate(
        {
            "id": id,
            "label": body.label,
            "role": role,
            "made_at": moment(now),
            "expires_at": moment(expires),
            "secret": secret,
        }
    )


@router.get("/tokens", summary="Your API tokens", operation_id="listTokens")
def list_tokens(who: Signed, keepers: TheKeepers) -> list[Token]:
    """Your own tokens, without their secrets."""
    with keepers.store.reading() as connection:
        records = access.list_tokens(connection, who.name)
    return [Token.model_validate({k: v for k, v in r._asdict().items() if k != "administrator"}) for r in records]


@router.delete("/tokens/{id}", summary="Take back an API token", operation_id="revokeToken", status_code=204)
def revoke_token(id: str, who: Signed, keepers: TheKeepers) -> None:
    """Take back one of your tokens; it is refused from now on."""
    with keepers.store.writing() as connection:
        if not access.revoke_token(connection, id, who.name):
            raise Refusal("not-found", f"You have no token “{id[:40]}”.")
