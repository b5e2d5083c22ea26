"""Feeds: configured, fetched, looked at, put in force, put back; and the category index that is made of them."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Any

from fastapi import Path, Query, Request, Response
from starlette.concurrency import run_in_threadpool

from portero.core import sentences
from portero.core.nouns.estate import NOUNS, Estate
from portero.core.nouns.feed import (
    CategoryIndexState,
    Feed,
    FeedCredential,
    FeedSummary,
    Generation,
)
from portero.core.nouns.feed_comparison import FeedComparison
from portero.core.nouns.indicator import SetAside
from portero.core.nouns.page import Page
from portero.service.auditing import audited_router
from portero.service.keepers import Keepers
from portero.service.problems import Refusal
from portero.service.routes.common import Author, Cursor, Keeper, Limit, Signed, TheKeepers, the
from portero.service.routes.nouns import NounRoutes
from portero.service.state import Snapshot
from portero.store import feeds, indicators
from portero.store.feeds import Status
from portero.store.moments import moment

router = audited_router()
Number = Annotated[int, Path(ge=1, le=2**53)]


def _feed(keepers: Keepers, key: str) -> Feed:
    found: Feed = the(keepers.estate.snapshot.estate.feeds, NOUNS["feed"], key)
    return found


def _state(keepers: Keepers, status: Status, generation: Generation) -> Generation:
    """A generation with where it stands."""
    if generation.number == status.current:
        state = "in force"
    elif generation.number == status.waiting:
        state = "waiting"
    elif generation.replaced is None:
        state = "left out"
    else:
        state = "kept" if keepers.holdings.artefacts.has(generation.digest) else "gone"
    return generation.model_copy(update={"state": state})


def _summary(keepers: Keepers, snapshot: Snapshot, feed: Feed, version: int | None) -> FeedSummary:
    with keepers.store.reading() as connection:
        status = feeds.status_of(connection, feed.key)
        in_force = feeds.get_generation(connection, feed.key, status.current)
        waiting = feeds.get_generation(connection, feed.key, status.waiting)
    due = status.due_at if feed.every_minutes is not None and not status.held else None
    return FeedSummary(
        **{**dict(feed), "name": feed.name or feed.key},
        version=version or 0,
        sentence=sentences.feed_sentence(feed, in_force.entries if in_force else None),
        in_force=_state(keepers, status, in_force) if in_force else None,
        waiting=_state(keepers, status, waiting) if waiting else None,
        last_poll=status.poll,
        next_poll=moment(due),
        held=status.held,
        progress=keepers.feeds.progress(feed.key),
        credential=status.credential,
        rulesets=tuple(_users(snapshot.estate, feed.key)),
    )


def _users(estate: Estate, key: str) -> list[str]:
    return [ruleset.key for ruleset in estate.rulesets if ruleset.feed == key]


ROUTES = NounRoutes(
    NOUNS["feed"],
    telling=lambda keepers, snapshot: lambda one, version: _summary(keepers, snapshot, one, version),
    users=_users,
)


def shown(keepers: Keepers, key: str) -> FeedSummary:
    """What is told of a feed now. Refusal."""
    found: FeedSummary = ROUTES.tell_one(keepers, keepers.estate.snapshot, key)
    return found


def _done(keepers: Keepers, key: str, deed: Callable[[Feed], None]) -> FeedSummary:
    """Do something with a feed, and tell how it is then."""
    deed(_feed(keepers, key))
    return shown(keepers, key)


@router.put("/feeds/{key}/credential", summary="Give a credential", operation_id="putFeedCredential", tags=["feeds"])
def put_credential(key: str, body: FeedCredential, _who: Keeper, keepers: TheKeepers) -> FeedSummary:
    """What the feed is fetched with. It is kept, sent to the feed's own address only, and never told again."""
    _feed(keepers, key)
    with keepers.store.writing() as connection:
        feeds.note(connection, key, credential=body.model_dump_json(exclude_none=True))
    return shown(keepers, key)


@router.delete(
    "/feeds/{key}/credential",
    summary="Forget a credential",
    operation_id="removeFeedCredential",
    status_code=204,
    tags=["feeds"],
)
def remove_credential(key: str, _who: Keeper, keepers: TheKeepers) -> None:
    """Fetch the feed without a credential from now on."""
    _feed(keepers, key)
    with keepers.store.writing() as connection:
        feeds.note(connection, key, credential=None)


@router.post("/feeds/{key}/poll", summary="Fetch a feed now", operation_id="pollFeed", status_code=202, tags=["feeds"])
def poll(key: str, who: Author, keepers: TheKeepers) -> FeedSummary:
    """Begin to fetch a feed; its `progress` tells how far that has come, `last_poll` what came of it."""
    feed = _feed(keepers, key)
    if feed.address is None:
        raise Refusal("invalid", f"The feed “{key}” has no address to fetch it from; send a file.")
    keepers.feeds.poll(feed, who.name)
    return shown(keepers, key)


@router.post(
    "/feeds/{key}/import",
    summary="Send a file to a feed",
    operation_id="importFeed",
    status_code=202,
    tags=["feeds"],
    openapi_extra={
        "requestBody": {
            "required": True,
            "content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}},
        }
    },
)
async def import_file(
    key: str,
    request: Request,
    who: Author,
    keepers: TheKeepers,
    name: Annotated[str, Query(max_length=255, description="The file's name, to be told by.")] = "a file",
    review: Annotated[bool, Query(description="Let it wait until somebody has looked at it.")] = False,
) -> FeedSummary:
    """Begin to read a file, of up to 1 GB and packed with gzip if you like, as a feed's new generation.

    `progress` tells how far that has come, `last_poll` what came of it.
    """
    feed = _feed(keepers, key)
    if keepers.feeds.progress(key) is not None:
        raise _busy(key)
    file = await run_in_threadpool(keepers.holdings.artefacts.begin)
    try:
        with file.open("wb") as out:
            async for chunk in request.stream():
                await run_in_threadpool(out.write, chunk)
    except BaseException:
        file.unlink(missing_ok=True)
        raise
    if keepers.feeds.read_file(feed, who.name, file, name, review) is None:
        raise _busy(key)
    return shown(keepers, key)


def _busy(key: str) -> Refusal:
    return Refusal("in-use", f"The feed “{key}” is being read just now; send the file when that is done.")


@router.get("/feeds/{key}/generations", summary="List generations", operation_id="listGenerations", tags=["feeds"])
def list_generations(key: str, _who: Signed, keepers: TheKeepers) -> list[Generation]:
    """The newest generations of a feed, up to 200, with their figures."""
    _feed(keepers, key)
    with keepers.store.reading() as connection:
        status, found = feeds.status_of(connection, key), feeds.generations(connection, key)
    return [_state(keepers, status, generation) for generation in found]


@router.get(
    "/feeds/{key}/generations/{number}/comparison",
    summary="What a generation changes",
    operation_id="compareGeneration",
    tags=["feeds"],
)
def compare_generation(key: str, number: Number, _who: Signed, keepers: TheKeepers) -> FeedComparison:
    """What a generation that waits would change, or another one changed: hosts or indicators, and verdicts."""
    return keepers.comparisons.compare(_feed(keepers, key), number)


@router.post("/feeds/{key}/take", summary="Take what waits", operation_id="takeGeneration", tags=["feeds"])
def take(key: str, _who: Author, keepers: TheKeepers) -> FeedSummary:
    """Put the generation that waits in force."""
    return _done(keepers, key, keepers.feeds.take)


@router.post("/feeds/{key}/drop", summary="Drop what waits", operation_id="dropGeneration", tags=["feeds"])
def drop(key: str, _who: Author, keepers: TheKeepers) -> FeedSummary:
    """Leave the generation that waits out; what is in force stays."""
    return _done(keepers, key, keepers.feeds.drop)


@router.post("/feeds/{key}/back", summary="Go back a generation", operation_id="goBackGeneration", tags=["feeds"])
def go_back(key: str, _who: Author, keepers: TheKeepers) -> FeedSummary:
    """Put the generation before the one in force in force again. The schedule rests until it is resumed."""
    return _done(keepers, key, keepers.feeds.go_back)


@router.post("/feeds/{key}/resume", summary="Resume the schedule", operation_id="resumeFeed", tags=["feeds"])
def resume(key: str, _who: Author, keepers: TheKeepers) -> FeedSummary:
    """Let the schedule run again."""
    return _done(keepers, key, keepers.feeds.resume)


@router.get("/feeds/{key}/aside", summary="What was kept aside", operation_id="listFeedAside", tags=["feeds"])
def list_aside(
    key: str, _who: Signed, keepers: TheKeepers, cursor: Cursor = None, limit: Limit = 100
) -> Page[SetAside]:
    """Objects that came with the feed and cannot be expressed here, one by one, with the reason."""
    _feed(keepers, key)
    return aside_page(keepers, key, cursor, limit)


def aside_page(keepers: Keepers, owner: str, cursor: str | None, limit: int) -> Page[SetAside]:
    """A page of what is kept aside for a feed or a ruleset."""
    with keepers.store.reading() as connection:
        found = indicators.list_aside(connection, owner, cursor, limit)
    return Page(items=[indicators.aside_of(row) for row in found.rows], next=found.next, total=found.total)


@router.get(
    "/category-index", summary="The category index in force", operation_id="getCategoryIndex", tags=["categories"]
)
def get_category_index(_who: Signed, keepers: TheKeepers, response: Response) -> CategoryIndexState:
    """Of what the category index in force was made, how big it is, and how many machines have it."""
    kept = keepers.holdings.held.kept
    with keepers.store.reading() as connection:
        current, behind = feeds.devices_with_index(connection, kept.digest)
    response.headers["ETag"] = f'"{kept.digest}"'
    difference: Any = kept.parts.difference
    return CategoryIndexState(
        digest=kept.digest,
        hosts=kept.parts.hosts,
        made_at=moment(kept.made_at),
        base_bytes=kept.parts.base.bytes,
        difference_bytes=difference.bytes if difference else 0,
        difference_hosts=difference.hosts if difference else 0,
        generations=kept.generations,
        newly_registered_days=kept.parts.newly_registered_days,
        devices_current=current,
        devices_behind=behind,
    )
