"""The directory: people and their user groups."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Response

from portero.core.nouns.directory import Directory, DirectoryFound, DirectoryState
from portero.service.auditing import audited_router
from portero.service.routes.common import IfMatch, Keeper, Signed, TheKeepers, etag, expect_tag, tagged

router = audited_router("directory")


def _shown(found: DirectoryState, response: Response) -> DirectoryState:
    tagged(response, found.generation)
    return found


@router.get("/directory", summary="People and their user groups", operation_id="getDirectory")
def get_directory(response: Response, _who: Signed, keepers: TheKeepers) -> DirectoryState:
    """The generation of the directory that counts."""
    return _shown(keepers.people.newest(), response)


@router.get("/directory/search", summary="Find people", operation_id="findPeople")
def find_people(
    _who: Signed,
    keepers: TheKeepers,
    q: Annotated[str, Query(min_length=1, max_length=255, description="Part of a name.")],
    limit: Annotated[int, Query(ge=1, le=100, description="How many of each at most.")] = 20,
) -> DirectoryFound:
    """People and user groups in whose names a text stands. Without a directory nobody is found."""
    return keepers.people.directory.find(q, limit)


@router.put("/directory", summary="Bring the directory in", operation_id="putDirectory")
def put_directory(
    body: Directory, response: Response, who: Keeper, keepers: TheKeepers, if_match: IfMatch = None
) -> DirectoryState:
    """Take a new generation of people and user groups into use, whole, in place of the one that was seen. One that
    lost a third of the people or more waits to be looked at (`waiting`), and the one before goes on to count.
    """

    def seen(counts: DirectoryState | None) -> None:
        if counts is not None:
            changed = f"The directory was brought in anew by {counts.by} as generation {counts.generation}"
            expect_tag(if_match, etag(counts.generation), "the directory", changed)

    keepers.people.put(body, who.name, seen)
    return _shown(keepers.people.newest(), response)


@router.post("/directory/take", summary="Let what waits count", operation_id="takeDirectory")
def take_directory(response: Response, _who: Keeper, keepers: TheKeepers) -> DirectoryState:
    """Let the generation that waits to be looked at count."""
    return _shown(keepers.people.take(), response)


@router.post("/directory/drop", summary="Drop what waits", operation_id="dropDirectory")
def drop_directory(response: Response, _who: Keeper, keepers: TheKeepers) -> DirectoryState:
    """Drop the generation that waits to be looked at; the one that counts goes on to."""
    return _shown(keepers.people.drop(), response)
