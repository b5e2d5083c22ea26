"""The directory: people and their user groups."""

from __future__ import annotations

from fastapi import APIRouter

from portero.core.nouns.directory import Directory, DirectoryState
from portero.service.routes.common import Keeper, Signed, TheKeepers

router = APIRouter(tags=["directory"])


@router.get("/directory", summary="People and their user groups", operation_id="getDirectory")
def get_directory(_who: Signed, keepers: TheKeepers) -> DirectoryState:
    """The newest generation of the directory."""
    return keepers.people.newest()


@router.put("/directory", summary="Bring the directory in", operation_id="putDirectory")
def put_directory(body: Directory, who: Keeper, keepers: TheKeepers) -> DirectoryState:
    """Take a new generation of people and user groups into use, whole, in place of the one before."""
    keepers.people.put(body, who.name)
    return keepers.people.newest()
