"""Signing in: passwords are looked at one after another, on a thread that answers nobody, and for half of its time."""

from __future__ import annotations

import asyncio
import itertools
import threading
from collections import Counter
from collections.abc import Callable
from queue import PriorityQueue
from time import perf_counter
from time import sleep as rest
from typing import NamedTuple

import structlog

from portero.service.auditing import Auditor
from portero.service.guessing import Guessing, guessers_of, place_of, too_many
from portero.service.passwords import hash_password, needs_rehash, password_matches
from portero.service.problems import Refusal
from portero.store import administrators
from portero.store.database import Store

MOST_WAITING, MOST_OF_ONE = 60, 4
"""So many passwords may wait to be looked at: of all, and from one address."""

_log = structlog.get_logger("portero.signing_in")


class _Try(NamedTuple):
    """A name with its password, and who waits for what is found. Addresses with few tries waiting come first."""

    before: int
    number: int
    name: str
    password: str
    address: str
    loop: asyncio.AbstractEventLoop
    answer: asyncio.Future[None]


class SignIns:
    """Says whether a password is right. Safe to ask from several loops."""

    def __init__(self, store: Store, guessing: Guessing, auditor: Auditor, clock: Callable[[], float]) -> None:
        self._store, self._guessing, self._auditor, self._now = store, guessing, auditor, clock
        self._waiting: PriorityQueue[_Try | tuple[int]] = PriorityQueue()
        self._of = Counter[str]()
        self._lock, self._numbers, self._closed = threading.Lock(), itertools.count(), False
        self._thread = threading.Thread(target=self._work, name="signing in", daemon=True)
        self._thread.start()

    async def check(self, name: str, password: str, address: str) -> None:
        """Refusal where the password is not that one, where too many guesses came before, or too many wait."""
        place, loop = place_of(address), asyncio.get_running_loop()
        with self._lock:
            if self._of[place] >= MOST_OF_ONE or self._of.total() >= MOST_WAITING:
                raise too_many(5.0, "Too many are signing in just now")
            before = self._of[place]
            self._of[place] += 1
        answer: asyncio.Future[None] = loop.create_future()
        self._waiting.put(_Try(before, next(self._numbers), name, password, address, loop, answer))
        await answer

    def close(self) -> None:
        """Look at no more of them."""
        self._closed = True
        self._waiting.put((-1,))

    def _work(self) -> None:
        while not self._closed:
            tried = self._waiting.get()
            if not isinstance(tried, _Try):
                return
            began = perf_counter()
            problem: Exception | None
            try:
                problem = self._look_at(tried)
            except Exception as failed:
                _log.exception("failed", name=tried.name[:120])
                problem = failed
            spent = perf_counter() - began
            with self._lock:
                place = place_of(tried.address)
                self._of[place] -= 1
                if not self._of[place]:
                    del self._of[place]
            tried.loop.call_soon_threadsafe(_answer, tried.answer, problem)
            # as long as it worked it rests: however many come, half of one processor is left to others
            rest(spent)

    def _look_at(self, tried: _Try) -> Refusal | None:
        guessers = guessers_of(tried.name, tried.address)
        if (wait := self._guessing.wait(guessers)) > 0:
            return too_many(wait, "Too many failed tries")
        # counted before it is looked at: what comes at the same time, or ends in a kill, counts too
        guesses = self._guessing.wrong(guessers)
        with self._store.reading() as connection:
            kept = administrators.password_of(connection, tried.name)
        if not password_matches(kept.hash if kept else None, tried.password):
            self._note_wrong(tried, guesses, kept is not None)
            return Refusal("not-signed-in", "Name or password is wrong.")
        assert kept is not None
        self._guessing.right(guessers)
        if needs_rehash(kept.hash):
            with self._store.writing() as connection:
                administrators.rehash(connection, tried.name, hash_password(tried.password))
        if kept.disabled:
            return Refusal("not-signed-in", f"“{tried.name}” is disabled; a keeper can let you in again.")
        if kept.first_until is not None and kept.first_until < self._now():
            return Refusal("not-signed-in", "This first password was not changed in time; a keeper can make another.")
        return None

    def _note_wrong(self, tried: _Try, guesses: int, is_known: bool) -> None:
        """Tell the trail of wrong passwords for names that are there, and the log of the others: in both the first,
        the second, the fourth and so on from one address, so that guessing fills neither.
        """
        if guesses & (guesses - 1):
            return
        told = "a wrong password" if guesses == 1 else f"wrong passwords, {guesses} in a row"
        if is_known:
            self._auditor.record("signIn", by=tried.name, address=tried.address, outcome="refused", detail=told)
        else:
            _log.warning("name not known", address=tried.address, guesses=guesses)


def _answer(answer: asyncio.Future[None], problem: Exception | None) -> None:
    if answer.done():
        return
    if problem is None:
        answer.set_result(None)
    else:
        answer.set_exception(problem)
