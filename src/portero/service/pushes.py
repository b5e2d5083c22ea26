"""Pushes: machines are woken, and what each says then is noted. What is followed is in memory, and written behind."""

from __future__ import annotations

import sqlite3
import threading
from collections import Counter
from collections.abc import Callable, Sequence
from uuid import uuid4

from portero.core import sentences
from portero.core.nouns.device import Device
from portero.core.nouns.page import Page
from portero.core.nouns.push import Push, Receipt, ReceiptState
from portero.service.live import Live
from portero.service.problems import Refusal
from portero.store import device_lists, pushes
from portero.store.database import Store
from portero.store.device_lists import DeviceFilter
from portero.store.moments import moment
from portero.store.pushes import KeptPush, KeptReceipt

MOST_PUSHES, MOST_RECEIPTS = 50, 300_000
"""So many pushes are kept, and so many receipts in all of them; the oldest go first, the newest always stays."""


def _state(receipt: KeptReceipt) -> ReceiptState:
    if receipt.applied_at is not None:
        return ReceiptState.APPLIED
    if receipt.problem is not None:
        return ReceiptState.FAILED
    if receipt.fetched_at is not None:
        return ReceiptState.FETCHED
    return ReceiptState.TOLD if receipt.told_at is not None else ReceiptState.WAITING


class Pushes:
    """Wakes machines, and keeps their receipts. Safe to use from several threads."""

    def __init__(
        self, store: Store, live: Live, check_in_seconds: Callable[[str], int], clock: Callable[[], float]
    ) -> None:
        """`check_in_seconds` says how far apart the check-ins of a device are to be, where its own rhythm is not known
        yet.
        """
        self._store, self._live, self._check_in_seconds, self._now = store, live, check_in_seconds, clock
        self._lock = threading.Lock()
        self._pushes: dict[str, KeptPush] = {}
        self._receipts: dict[str, dict[str, KeptReceipt]] = {}
        self._open: dict[str, dict[str, KeptReceipt]] = {}
        """The receipts of a device that are not settled, by push."""
        self._unwritten: set[tuple[str, str]] = set()
        with store.reading() as connection:
            for push in reversed(pushes.list_pushes(connection)):
                self._take(push, pushes.receipts_of(connection, push.id))

    def _take(self, push: KeptPush, receipts: dict[str, KeptReceipt]) -> None:
        self._pushes[push.id], self._receipts[push.id] = push, receipts
        for device, receipt in receipts.items():
            if receipt.applied_at is None:
                self._open.setdefault(device, {})[push.id] = receipt

    # --- asked for ---

    def push(self, devices: Sequence[str], scope: str, by: str, reason: str | None) -> Push:
        """Tell the devices of these ids now, or when they come; each has a receipt from then on."""
        now = self._now()
        push = KeptPush(uuid4().hex[:12], now, by, scope, reason)
        receipts = {device: KeptReceipt() for device in devices}
        # kept before any device can answer: what it says then is noted with it
        with self._store.writing() as connection:
            pushes.add_push(connection, push, receipts)
        with self._lock:
            self._take(push, receipts)
            gone = self._too_many()
        for device in self._live.wake_devices(devices):
            self._note(device, writes=False)
        with self._store.writing() as connection:
            for old in gone:
                pushes.remove_push(connection, old)
            self._write(connection)
        self._live.tell("push")
        return self.get(push.id)

    def _too_many(self) -> list[str]:
        """Let go of the oldest where there are too many; which these are."""
        gone: list[str] = []
        while len(self._pushes) > 1 and (
            len(self._pushes) > MOST_PUSHES or sum(map(len, self._receipts.values())) > MOST_RECEIPTS
        ):
            oldest = next(iter(self._pushes))
            del self._pushes[oldest]
            for device in self._receipts.pop(oldest):
                self._settle(device, oldest)
            gone.append(oldest)
        return gone

    def _settle(self, device: str, push: str) -> None:
        mine = self._open.get(device, {})
        mine.pop(push, None)
        if not mine:
            self._open.pop(device, None)

    # --- what devices say ---

    def concern(self, device: str) -> bool:
        """Whether some push of the device is not settled yet."""
        return device in self._open

    def awaits(self, device: str) -> bool:
        """Whether the device has still to be told of a push."""
        # most devices have none, and wait for nobody
        mine = self._open.get(device)
        return mine is not None and any(receipt.told_at is None for receipt in tuple(mine.values()))

    def told(self, device: str) -> None:
        """The device hears that it should ask."""
        self._note(device)

    def fetched(self, device: str) -> None:
        """The device is given its bundle."""
        self._note(device, fetched=True)

    def answered(self, device: str, holds_all: bool, problem: str | None) -> None:
        """The device has checked in: it holds all that it should, or says why not."""
        self._note(device, applied=holds_all and not problem, problem=problem)

    def _note(
        self,
        device: str,
        fetched: bool = False,
        applied: bool = False,
        problem: str | None = None,
        writes: bool = True,
    ) -> None:
        if device not in self._open:
            return
        now = self._now()
        with self._lock:
            for push, receipt in tuple(self._open.get(device, {}).items()):
                receipt.told_at = receipt.told_at or now
                if fetched:
                    receipt.fetched_at = receipt.fetched_at or now
                if problem:
                    receipt.problem = problem[:500]
                if applied:
                    receipt.applied_at = now
                    self._settle(device, push)
                self._unwritten.add((push, device))
        if not writes:
            return
        with self._store.writing_if_free() as connection:
            if connection is not None:
                self._write(connection)
        self._live.tell("push")

    def write(self) -> None:
        """Write what waits."""
        if self._unwritten:
            with self._store.writing() as connection:
                self._write(connection)

    def _write(self, connection: sqlite3.Connection) -> None:
        with self._lock:
            waiting, self._unwritten = self._unwritten, set()
            found = [(push, device, self._receipts[push][device]) for push, device in waiting if push in self._receipts]
        pushes.note_receipts(connection, found)

    # --- looked at ---

    def list(self) -> list[Push]:
        """All that are kept, the newest first."""
        with self._lock:
            known = list(reversed(self._pushes))
        return [self.get(push) for push in known]

    def get(self, id: str) -> Push:
        """One push. Refusal."""
        with self._lock:
            push = self._pushes.get(id)
            counts = Counter(_state(receipt).value for receipt in self._receipts.get(id, {}).values())
        if push is None:
            raise Refusal("not-found", f"There is no push “{id[:40]}” (any more).")
        devices = sum(counts.values())
        told = {state.value: counts[state.value] for state in ReceiptState}
        return Push(
            id=push.id,
            at=moment(push.at),
            by=push.by,
            scope=push.scope,
            reason=push.reason,
            devices=devices,
            sentence=sentences.push_sentence(devices, **told),
            **told,
        )

    def receipts(self, id: str, state: ReceiptState | None, cursor: str | None, limit: int) -> Page[Receipt]:
        """The receipts of a push, or those in a state, by hostname. Refusal."""
        self.get(id)
        with self._lock:
            receipts = dict(self._receipts.get(id, {}))
        wanted = frozenset(device for device, receipt in receipts.items() if state in (None, _state(receipt)))
        now = self._now()
        with self._store.reading() as connection:
            found = device_lists.list_devices(connection, DeviceFilter(ids=wanted), now, cursor=cursor, limit=limit)
            known = device_lists.devices_of(connection, found.rows, now)
        items = [self._receipt(device, receipts[device.id]) for device in known]
        return Page(items=items, next=found.next, total=found.total)

    def _receipt(self, device: Device, kept: KeptReceipt) -> Receipt:
        settled, expected = kept.applied_at is not None, None
        if device.last_heard is not None and not settled:
            usual = device.usual_interval or self._check_in_seconds(device.id)
            expected = moment(device.last_heard.timestamp() + usual)
        return Receipt(
            device=device.id,
            hostname=device.hostname,
            state=_state(kept),
            told_at=moment(kept.told_at),
            fetched_at=moment(kept.fetched_at),
            applied_at=moment(kept.applied_at),
            problem=None if settled else kept.problem,
            last_heard=device.last_heard,
            expected_at=expected,
        )
