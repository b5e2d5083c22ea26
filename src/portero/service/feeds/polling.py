"""FeedsKeeper at work: fetched on their schedules or when asked, read in the background, put in force, put back."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future
from contextlib import contextmanager
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Any, Literal

import structlog

from portero.core.nouns.feed import Feed, FeedProgress, Generation, Poll
from portero.formats.feed_files import BadFeed
from portero.service.estate import EstateKeeper
from portero.service.feeds.background import Background
from portero.service.feeds.fetching import Bounds, FetchProblem, Source
from portero.service.feeds.holdings import Holdings
from portero.service.feeds.reading import Brought, read_categories, read_indicators, read_programs
from portero.service.feeds.taxii import read_collection
from portero.service.live import Live
from portero.service.problems import Refusal
from portero.service.roster import Roster
from portero.store import catalogue, feeds, indicators
from portero.store.database import Store, StoreProblem
from portero.store.feeds import Status
from portero.store.moments import moment
from portero.store.plans import GenerationInForce

BACK_OFF_SECONDS, MOST_BACK_OFF = 60.0, 6 * 3600.0
"""After a failure it is tried again so soon, then after twice as long each time."""
SHRUNK, MANY = 0.5, 100
"""Where so much of what there was is gone, of so many or more, somebody should look at it first."""
MOSTLY_BAD = 0.5
CHUNK = 1 << 18
READERS = 16
"""So many feeds are read side by side: a slow source keeps none but itself waiting."""
BY_SCHEDULE = "the schedule"
Result = Literal["new", "unchanged", "waiting"]

_log = structlog.get_logger("portero.feeds")


@dataclass(frozen=True)
class _Task:
    """One reading of a feed: of a file that was sent, or from its address."""

    feed: Feed
    by: str
    file: Path | None = None
    name: str = ""
    review: bool = False


class FeedsKeeper:
    """Side by side in the background, what is in force changing once at a time; safe to ask from several threads."""

    def __init__(
        self,
        store: Store,
        estate: EstateKeeper,
        roster: Roster,
        holdings: Holdings,
        live: Live,
        clock: Callable[[], float],
        bounds: Bounds,
    ) -> None:
        self._store, self._estate, self._roster, self._holdings = store, estate, roster, holdings
        self._live, self._now, self._bounds = live, clock, bounds
        self._background = Background("feeds", READERS)
        self._indexing = Background("category index")
        self._swapping = threading.RLock()
        """What is in force changes once at a time."""
        self._progress: dict[str, FeedProgress] = {}
        self._of_programs: set[str] = set()
        """The feeds of programs that there were when they were last looked at."""
        self._lock = threading.Lock()

    def close(self) -> None:
        """Let nothing more begin; what is being read is given up."""
        self._background.close()
        self._indexing.close()

    def progress(self, feed: str) -> FeedProgress | None:
        """How far a feed that is being read has come."""
        return self._progress.get(feed)

    # --- beginning ---

    def poll_due(self) -> None:
        """Begin to fetch the feeds that are due; and make the category index anew where a day has passed."""
        now = self._now()
        with self._store.reading() as connection:
            known = feeds.statuses(connection)
        for feed in self._estate.snapshot.estate.feeds:
            status = known.get(feed.key, Status())
            due = status.due_at if status.due_at is not None else 0.0
            if feed.every_minutes is not None and not status.held and status.waiting is None and due <= now:
                self.poll(feed, BY_SCHEDULE)
        if self._index_is_old():
            self._indexing.submit(self._refresh_index)
        of_programs = {feed.key for feed in self._estate.snapshot.estate.feeds if feed.kind == "programs"}
        if of_programs != self._of_programs:
            self._of_programs = of_programs
            with self._store.reading() as connection:
                self._roster.take_known(catalogue.known_purposes(connection))

    def poll(self, feed: Feed, by: str) -> Future[None] | None:
        """Begin to fetch a feed; None where it is being read already."""
        return self._begin(_Task(feed, by, name=feed.address or "", review=feed.review))

    def read_file(self, feed: Feed, by: str, file: Path, name: str, review: bool) -> Future[None] | None:
        """Begin to read a file that was sent; it is removed afterwards. None where the feed is being read already."""
        begun = self._begin(_Task(feed, by, file, name, review or feed.review))
        if begun is None:
            file.unlink(missing_ok=True)
        return begun

    def _begin(self, task: _Task) -> Future[None] | None:
        with self._lock:
            if task.feed.key in self._progress:
                return None
            self._progress[task.feed.key] = FeedProgress(stage="waiting for its turn")
        self._live.tell("feed")
        return self._background.submit(partial(self._run, task))

    # --- reading ---

    def _run(self, task: _Task) -> None:
        key = task.feed.key
        try:
            # as it is to be read by now, where it had to wait for its turn
            newest = self._configured(key)
            if newest is not None:
                task = replace(task, feed=newest)
                self._note(task, Poll(at=moment(self._now()), result=self._read(task)))
        except (FetchProblem, BadFeed, StoreProblem, OSError) as problem:
            self._fail(task, str(problem))
        except Refusal as problem:
            self._fail(task, problem.detail)
        except Exception:
            _log.exception("failed", feed=key)
            self._fail(task, "something went wrong inside the service; its log says what")
        finally:
            if task.file is not None:
                task.file.unlink(missing_ok=True)
            self._progress.pop(key, None)
            self._live.tell("feed")

    def _configured(self, key: str) -> Feed | None:
        """The feed as it is configured now."""
        return next((feed for feed in self._estate.snapshot.estate.feeds if feed.key == key), None)

    def _fail(self, task: _Task, problem: str) -> None:
        with self._store.reading() as connection:
            before = feeds.status_of(connection, task.feed.key).poll
        failures = (before.failures if before else 0) + 1
        said = problem[:1].upper() + problem[1:]
        self._note(task, Poll(at=moment(self._now()), result="failed", problem=said[:2000], failures=failures))

    def _note(self, task: _Task, poll: Poll) -> None:
        feed = self._configured(task.feed.key)
        if feed is None:
            return
        every = feed.every_minutes
        due = None
        if every is not None:
            wait = min(BACK_OFF_SECONDS * 2 ** (poll.failures - 1), MOST_BACK_OFF) if poll.failures else every * 60.0
            due = self._now() + min(wait, every * 60.0)
        with self._store.writing() as connection:
            feeds.note_poll(connection, feed.key, poll, due)

    def _read(self, task: _Task) -> Result:
        """Read a feed and put it in force, or let it wait to be looked at; what came of it."""
        feed = task.feed
        with self._store.reading() as connection:
            status, credential = feeds.status_of(connection, feed.key), feeds.credential_of(connection, feed.key)
            before = feeds.get_generation(connection, feed.key, status.current)
        source = Source(feed.address or "", credential, feed.private_network, self._bounds)
        found = self._brought(task, source, before, status.etag)
        if found is None:
            return "unchanged"
        brought, etag = found
        try:
            return self._keep(task, brought, etag, before)
        finally:
            self._holdings.artefacts.claim((brought.digest,))

    def _keep(self, task: _Task, brought: Brought, etag: str | None, before: Generation | None) -> Result:
        """Keep what was brought as a generation, and put it in force unless it is to be looked at first."""
        feed = task.feed
        if (newest := self._configured(feed.key)) is None or newest.fingerprint != feed.fingerprint:
            raise Refusal("changed-meanwhile", "the feed was changed while it was read; read it again")
        with self._store.reading() as connection:
            status, number = feeds.status_of(connection, feed.key), feeds.next_number(connection, feed.key)
            waiting = feeds.get_generation(connection, feed.key, status.waiting)
        generation = self._generation(task, brought, number)
        waits = task.review or _is_odd(generation, before)
        is_new = not _is_same(generation, before)
        with self._store.writing() as connection:
            indicators.set_aside(connection, feed.key, brought.tally.asides, self._now())
            if not is_new:
                # what waited is not what the source says any more
                feeds.note(connection, feed.key, waiting=None)
            elif not (waits and _is_same(generation, waiting)):
                feeds.keep_generation(connection, generation)
                if waits:
                    feeds.note(connection, feed.key, waiting=number)
        if is_new and not waits:
            self.put_in_force(feed, number, held=False)
        with self._store.writing() as connection:
            # only once it has come to something: what could not be put in force is read again
            feeds.note(connection, feed.key, etag=etag)
        if not is_new:
            return "unchanged"
        return "waiting" if waits else "new"

    def _generation(self, task: _Task, brought: Brought, number: int) -> Generation:
        tally = brought.tally
        if not brought.entries and (tally.bad or tally.unknown_words):
            first = tally.bad_lines[0] if tally.bad_lines else None
            told = f"line {first.line}: {first.problem}" if first else "none of its words has a category"
            raise BadFeed(f"nothing in it could be used; {told}")
        if tally.bad > max(MANY, tally.lines * MOSTLY_BAD):
            first = tally.bad_lines[0]
            raise BadFeed(
                f"most of its lines cannot be used; is it really a {task.feed.format}?"
                f" Line {first.line}: {first.problem}"
            )
        return Generation(
            feed=task.feed.key,
            number=number,
            at=moment(self._now()),
            by=task.by,
            source=task.name,
            digest=brought.digest,
            entries=brought.entries,
            lines=tally.lines,
            duplicates=tally.duplicates,
            ended=tally.ended,
            bad=tally.bad,
            bad_lines=tuple(tally.bad_lines),
            unknown_words=dict(tally.unknown_words),
            aside=len(tally.asides),
            added=tally.added,
            removed=tally.removed,
            changed=tally.changed,
            bookmark=brought.bookmark,
            read_as=task.feed.fingerprint,
        )

    def _brought(
        self, task: _Task, source: Source, before: Generation | None, etag: str | None
    ) -> tuple[Brought, str | None] | None:
        """What a task brings, and the ETag that came with it; None where the address says that nothing is new.

        No ETag comes with a file that was sent: what is at the address may be something else.
        """
        if task.file is not None:
            return self._from_chunks(task, _chunks_of(task.file), before), None
        if task.feed.format == "taxii":
            return self._from_collection(task, source, before), None
        headers = {"Accept-Encoding": "gzip"}
        if etag and _was_read_alike(task.feed, before):
            headers["If-None-Match"] = etag
        with source.reading(source.address, headers) as answer:
            if answer.status_code == 304:
                return None
            if answer.status_code != 200:
                raise FetchProblem(f"the address answers {answer.status_code}; what was in force stays in force")
            return self._from_chunks(task, source.chunks(answer), before), answer.headers.get("etag", "")[:500]

    def _from_chunks(self, task: _Task, chunks: Iterable[bytes], before: Generation | None) -> Brought:
        feed, holdings, now = task.feed, self._holdings, moment(self._now())
        with self._noting(feed.key, chunks) as (counted, note):
            if feed.kind == "categories":
                had = holdings.categories_of(before)
                return read_categories(feed, counted, had, holdings.artefacts, now.date(), note)
            if feed.kind == "programs":
                return read_programs(counted, holdings.programs_of(before), holdings.artefacts, note)
            had_before = holdings.indicators_of(before)
            return read_indicators(feed, None, counted, had_before, now, holdings.artefacts, note)

    def _from_collection(self, task: _Task, source: Source, before: Generation | None) -> Brought:
        """What was added to a collection since the generation before, on top of what that has; all of it, where the
        feed was to be read otherwise then.
        """
        holdings, feed = self._holdings, task.feed
        base = before if _was_read_alike(feed, before) else None
        bookmark = base.bookmark if base is not None else None
        with self._noting(feed.key, ()) as (_, note):
            # all pages before anything is made of them: a poll that is cut off midway changes nothing
            pages = list(read_collection(source, bookmark, partial(note, "fetching")))
            made = read_indicators(
                feed,
                [page.objects for page in pages],
                (),
                holdings.indicators_of(before),
                moment(self._now()),
                holdings.artefacts,
                note,
                holdings.indicators_of(base),
            )
        added = [page.added_last for page in pages if page.added_last]
        return replace(made, bookmark=max(added, default=bookmark))

    @contextmanager
    def _noting(self, key: str, chunks: Iterable[bytes]) -> Iterator[tuple[Iterable[bytes], Any]]:
        """The chunks as they are counted, and what notes how far reading has come."""
        seen = 0

        def counted() -> Iterator[bytes]:
            nonlocal seen
            for chunk in chunks:
                seen += len(chunk)
                yield chunk

        def note(stage: str, lines: int) -> None:
            self._progress[key] = FeedProgress(stage=stage, lines=lines, bytes=seen)
            self._live.tell("feed")

        note("fetching", 0)
        yield counted(), note

    # --- in force ---

    def put_in_force(self, feed: Feed, number: int, held: bool) -> None:
        """Put a generation in force, whatever was before. Refusal where machines would have too much to carry."""
        with self._swapping:
            index = None
            if feed.kind == "categories":
                if feed.key in self._progress:
                    self._progress[feed.key] = FeedProgress(stage="publishing")
                estate, held_now = self._estate.snapshot.estate, self._holdings.held.kept
                with self._store.reading() as connection:
                    current = feeds.current_generations(connection, {own.key for own in estate.feeds})
                    wanted = feeds.get_generation(connection, feed.key, number)
                assert wanted is not None
                index = self._holdings.make_index(estate, {**current, feed.key: wanted}, self._now(), held_now)
            brought = None
            if feed.kind == "indicators":
                brought = self._holdings.contents_of(self._holdings.generation(feed.key, number))
            self._estate.bring_in(GenerationInForce(feed.key, number, held), brought, index)
            if feed.kind == "programs":
                programs = self._holdings.programs_of(self._holdings.generation(feed.key, number))
                with self._store.writing() as connection:
                    catalogue.note_known(connection, feed.key, programs, self._now())
                    known = catalogue.known_purposes(connection)
                self._roster.take_known(known)
            self._holdings.tidy()

    def take(self, feed: Feed) -> None:
        """Put the generation that waits in force. Refusal where none does."""
        with self._store.reading() as connection:
            waiting = feeds.status_of(connection, feed.key).waiting
        if waiting is None:
            raise Refusal("not-found", f"No generation of “{feed.key}” waits to be looked at.")
        self.put_in_force(feed, waiting, held=False)

    def drop(self, feed: Feed) -> None:
        """Drop the generation that waits; what is in force stays. Refusal where none waits."""
        with self._store.writing() as connection:
            if feeds.status_of(connection, feed.key).waiting is None:
                raise Refusal("not-found", f"No generation of “{feed.key}” waits to be looked at.")
            feeds.note(connection, feed.key, waiting=None)
        self._live.tell("feed")

    def go_back(self, feed: Feed) -> None:
        """Put the generation before the one in force back in force; the schedule rests. Refusal where there is none."""
        with self._store.reading() as connection:
            current = feeds.get_generation(connection, feed.key, feeds.status_of(connection, feed.key).current)
            earlier = feeds.get_generation(connection, feed.key, current.replaced) if current is not None else None
        if earlier is None or not self._holdings.artefacts.has(earlier.digest):
            raise Refusal("not-found", f"There is no earlier generation of “{feed.key}” to go back to.")
        self.put_in_force(feed, earlier.number, held=True)

    def resume(self, feed: Feed) -> None:
        """Let the schedule run again after going back."""
        with self._store.writing() as connection:
            feeds.note(connection, feed.key, held=0, due_at=self._now(), etag=None)
        self._live.tell("feed")

    # --- the index by the day ---

    def _index_is_old(self) -> bool:
        kept = self._holdings.held.kept
        days = self._estate.snapshot.estate.settings.newly_registered_days
        gone = kept.generations.keys() - {
            feed.key for feed in self._estate.snapshot.estate.feeds if feed.kind == "categories"
        }
        today = moment(self._now()).date().toordinal()
        return kept.day != today or kept.parts.newly_registered_days != days or bool(gone)

    def _refresh_index(self) -> None:
        try:
            with self._swapping:
                if not self._index_is_old():
                    return
                estate = self._estate.snapshot.estate
                with self._store.reading() as connection:
                    current = feeds.current_generations(connection, {feed.key for feed in estate.feeds})
                self._estate.refresh_index(
                    self._holdings.make_index(estate, current, self._now(), self._holdings.held.kept)
                )
                self._holdings.tidy()
        except Exception:
            _log.exception("failed", task="refresh_index")


def _was_read_alike(feed: Feed, generation: Generation | None) -> bool:
    """Whether there is a generation, and the feed was to be read then as it is now."""
    return generation is not None and generation.read_as == feed.fingerprint


def _is_same(generation: Generation, other: Generation | None) -> bool:
    """Whether two generations bring the same, read alike."""
    return other is not None and (generation.digest, generation.read_as) == (other.digest, other.read_as)


def _is_odd(generation: Generation, before: Generation | None) -> bool:
    """Whether so much of what there was is gone that somebody should look at it first."""
    return before is not None and before.entries >= MANY and generation.removed > before.entries * SHRUNK


def _chunks_of(file: Path) -> Iterator[bytes]:
    with file.open("rb") as opened:
        while chunk := opened.read(CHUNK):
            yield chunk
