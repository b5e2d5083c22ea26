"""Administrators: listed by all, made and changed by keepers in a session.

A token makes only lesser ones that end no later; by way of an administrator that it made it could outlive itself.
"""

from __future__ import annotations

from typing import Annotated

from fastapi import Depends, Request, Response

from portero.core import wording
from portero.core.nouns.administrator import Administrator, AdministratorChange, MadeAdministrator, NewAdministrator
from portero.service.auditing import add_detail, audited_router
from portero.service.routes.common import IfMatch, Keeper, Signed, TheKeepers, expect_tag, refuse_token
from portero.store.access import Principal

router = audited_router("administrators")


def _in_session(who: Keeper) -> Principal:
    refuse_token(who, "makes and changes no administrators")
    return who


KeeperInSession = Annotated[Principal, Depends(_in_session)]


def _tag(found: Administrator) -> str:
    return f'"a{found.version}"'


def _shown(found: Administrator, response: Response) -> Administrator:
    response.headers["ETag"] = _tag(found)
    return found


@router.get("/administrators", summary="List administrators", operation_id="listAdministrators")
def list_administrators(_who: Signed, keepers: TheKeepers) -> list[Administrator]:
    """Who may use the service, by name, and how much each may."""
    keepers.last_used.write()
    return keepers.administrators.listed()


@router.post("/administrators", summary="Make an administrator", operation_id="createAdministrator", status_code=201)
def create_administrator(
    body: NewAdministrator, request: Request, _who: KeeperInSession, keepers: TheKeepers
) -> MadeAdministrator:
    """Make an administrator. The first password is shown this once; whoever signs in with it changes it first."""
    made = keepers.administrators.add(body)
    add_detail(request, f"{made.name}: {_said(made)}")
    return made


@router.get("/administrators/{name}", summary="Show an administrator", operation_id="getAdministrator")
def get_administrator(name: str, response: Response, _who: Signed, keepers: TheKeepers) -> Administrator:
    """One administrator."""
    return _shown(keepers.administrators.named(name), response)


@router.put("/administrators/{name}", summary="Change an administrator", operation_id="putAdministrator")
def put_administrator(
    name: str,
    body: AdministratorChange,
    request: Request,
    response: Response,
    _who: KeeperInSession,
    keepers: TheKeepers,
    if_match: IfMatch = None,
) -> Administrator:
    """Change what an administrator may. It counts at once, for sessions and tokens that are there too. The last keeper
    stays one.
    """

    def seen(found: Administrator) -> None:
        what = f"the administrator “{name}”"
        expect_tag(if_match, _tag(found), what, f"{what[0].upper()}{what[1:]} was changed")
        add_detail(request, f"{_said(found)}; now {_said(body)}")

    return _shown(keepers.administrators.change(name, body, seen), response)


def _said(administrator: AdministratorChange) -> str:
    told = [administrator.role, "sees names" if administrator.sees_names else "sees pseudonyms"]
    if administrator.probes_freely:
        told.append("probes freely")
    return wording.joined([*told, "disabled"] if administrator.disabled else told)


@router.post("/administrators/{name}/reset", summary="Make a first password again", operation_id="resetAdministrator")
def reset_administrator(name: str, _who: KeeperInSession, keepers: TheKeepers) -> MadeAdministrator:
    """Make a first password for an administrator who has lost theirs. Their sessions end, their tokens stay; guesses at
    the name are forgiven.
    """
    made = keepers.administrators.reset(name)
    keepers.guessing.forgive(name)
    return made


@router.delete(
    "/administrators/{name}", summary="Remove an administrator", operation_id="removeAdministrator", status_code=204
)
def remove_administrator(name: str, _who: KeeperInSession, keepers: TheKeepers) -> None:
    """Remove an administrator, with sessions and tokens. What they did stays under their name.

    The last keeper cannot be removed.
    """
    keepers.administrators.remove(name)
