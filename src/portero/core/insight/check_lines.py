"""Many attempts, bytes to bytes: what was answered before is put together again, and what is new is explained.

An answer is remembered by host and moment, and what is said in it by outcome: a machine's people come back to the same
hosts, and nearly all hosts fare like thousands of others. Where a path, a search or a site list may count, the whole
URL is looked at.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any, NamedTuple

import msgspec

from portero.core.insight.check_batches import MAX_LINE, judge_line
from portero.core.insight.offline import OfflineEstate, Standing, UnknownDevice
from portero.core.matching.categories import Entry
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.base import rfc3339
from portero.core.nouns.patterns import hosts_above
from portero.core.nouns.urls import BadUrl, Visit, address_of, parse_visit
from portero.core.nouns.verdict import Unjudged
from portero.core.resolving.explaining import categories_of
from portero.core.resolving.policy import Frame

MOST_URLS, MOST_MOMENTS, MOST_SEATS, MOST_ANSWERS = 300_000, 100_000, 20_000, 300_000
"""How many of each are remembered."""
_TO_JSON = msgspec.json.Encoder().encode


class _Line(msgspec.Struct, forbid_unknown_fields=True):
    """A visit as nearly all lines have it; others are read the long way."""

    device: str
    url: str
    id: str | int | None = None
    user: str | None = None
    browser: str | None = None
    at: str | None = None
    place: str | None = None


class _Seen(NamedTuple):
    """A URL, read."""

    visit: Visit
    json: bytes


class _Seat:
    """Who tries it on which machine: what of an answer is the same for all that they visit."""

    def __init__(self, standing: Standing, head: bytes, rear: bytes) -> None:
        self.policy, self.case, self.head, self.rear = standing.policy, standing.case, head, rear
        self.frames: dict[int, Frame] = {}
        self.by_host: dict[tuple[Frame, str, str], tuple[bytes, bytes]] = {}
        self.by_outcome: dict[tuple[object, ...], bytes] = {}
        self._paged = {one.host for one, _ in self.policy.sites if one.path or one.query or one.port is not None}

    def looks_at_pages(self, host: str) -> bool:
        """Whether more of a visit to a host may count than its scheme and the host."""
        policy, paged = self.policy, self._paged
        if policy.indicators.looks_at_pages(host) or host in policy.search_pages:
            return True
        return bool(paged) and any(above in paged for above in hosts_above(host))


class LineJudge:
    """Answers lines of JSON, one after another, with lines of JSON."""

    def __init__(self, documents: OfflineEstate) -> None:
        self._documents = documents
        self._read = msgspec.json.Decoder(_Line).decode
        self._urls: dict[str, _Seen] = {}
        self._moments: dict[str | None, tuple[datetime, bytes]] = {}
        self._seats: dict[tuple[str, str | None, str | None, str | None], _Seat] = {}
        self._same: dict[bytes, bytes] = {}
        self.failed = False
        """Whether some line could not be judged."""

    def answer(self, line: bytes) -> Sequence[bytes]:
        """The answer to a line, or the problem with it, in pieces; without the line's end."""
        try:
            tried = self._read(line) if len(line) <= MAX_LINE else None
        except (msgspec.MsgspecError, UnicodeDecodeError):
            tried = None
        if tried is None:
            return (self._at_length(line),)
        who = (tried.device, tried.user, tried.browser, tried.place)
        seat = self._seats.get(who)
        seen = self._urls.get(tried.url)
        moment = self._moments.get(tried.at)
        if seat is None or seen is None or moment is None:
            seat, seen, moment = self._seat(tried), self._seen(tried.url), self._moment(tried.at)
            if seat is None or seen is None or moment is None:
                return (self._at_length(line),)
        if not _is_name(tried.id):
            return (self._at_length(line),)
        frame = self._frame(seat, moment[0])
        known = seat.by_host.get((frame, seen.visit.scheme, seen.visit.host))
        id = b"null" if tried.id is None else _TO_JSON(tried.id)
        own = b"" if tried.id is None else b'"id":%b,' % id
        head = b'{"id":%b,"attempt":{%b%b%b,"at":"%b"%b' % (id, own, seat.head, seen.json, moment[1], seat.rear)
        return (head, *known) if known is not None else self._explained(line, seat, frame, seen.visit, head)

    def _at_length(self, line: bytes) -> bytes:
        found = judge_line(line, self._documents.explain)
        self.failed = self.failed or isinstance(found, Unjudged)
        return found.model_dump_json().encode()

    # --- what is known of the parts of a line ---

    def _seen(self, url: str) -> _Seen | None:
        known = self._urls.get(url)
        if known is None and 0 < len(url) <= 8192:
            try:
                known = _Seen(parse_visit(url), _TO_JSON(url))
            except BadUrl:
                return None
            _bound(self._urls, MOST_URLS)
            self._urls[url] = known
        return known

    def _moment(self, at: str | None) -> tuple[datetime, bytes] | None:
        known = self._moments.get(at)
        if known is None:
            try:
                tried = Attempt.model_validate({"device": "a", "url": "http://a.test/", "at": at})
            except ValueError:
                return None
            moment = tried.at or self._documents.now
            _bound(self._moments, MOST_MOMENTS)
            known = self._moments[at] = (moment, rfc3339(moment).encode())
        return known

    def _seat(self, tried: _Line) -> _Seat | None:
        who = (tried.device, tried.user, tried.browser, tried.place)
        known = self._seats.get(who)
        if known is None and not self._documents.groups_name_time:
            try:
                device, user, browser, place = who
                attempt = Attempt.model_validate(
                    {"device": device, "user": user, "browser": browser, "place": place, "url": "http://a.test/"}
                )
                standing = self._documents.standing(attempt)
            except (ValueError, UnknownDevice):
                return None
            _bound(self._seats, MOST_SEATS)
            known = self._seats[who] = _seat(standing)
        return known

    @staticmethod
    def _frame(seat: _Seat, at: datetime) -> Frame:
        seconds = at.timestamp()
        minute = int(seconds // 60)
        frame = seat.frames.get(minute)
        if frame is None:
            attempt = seat.case.attempt.model_copy(update={"at": at})
            frame = seat.policy.frame(seat.case._replace(attempt=attempt).situation)
            if seat.policy.is_steady(minute * 60, minute * 60 + 60):
                _bound(seat.frames, MOST_MOMENTS)
                seat.frames[minute] = frame
        return frame

    # --- what is new ---

    def _explained(self, line: bytes, seat: _Seat, frame: Frame, visit: Visit, head: bytes) -> Sequence[bytes]:
        policy = seat.policy
        if seat.looks_at_pages(visit.host):
            return (self._at_length(line),)
        entry = categories_of(policy, self._documents.index, visit.host)
        met = policy.indicators.met_by(visit, address_of(visit.host), True)
        # what browsers make of a list hangs on the host itself
        listed = visit.host if policy.sites else None
        outcome = (frame, visit.scheme, listed, entry.categories, entry.source, tuple(map(id, met)))
        of_host, said = _of_host(visit.host, entry), seat.by_outcome.get(outcome)
        if said is None:
            whole = self._at_length(line)
            if not whole.startswith(head + of_host):
                return (whole,)
            said = whole[len(head) + len(of_host) :]
            _bound(self._same, MOST_ANSWERS)
            said = self._same.setdefault(said, said)
            _bound(seat.by_outcome, MOST_ANSWERS)
            seat.by_outcome[outcome] = said
        _bound(seat.by_host, MOST_ANSWERS)
        seat.by_host[frame, visit.scheme, visit.host] = (of_host, said)
        return head, of_host, said


def _seat(standing: Standing) -> _Seat:
    attempt = standing.case.attempt
    place = attempt.place.value if attempt.place else None
    head = b'"device":%b,"user":%b,"browser":%b,"url":' % tuple(
        map(_TO_JSON, (attempt.device, attempt.user, attempt.browser))
    )
    return _Seat(standing, head, b',"place":%b}' % _TO_JSON(place))


def _of_host(host: str, entry: Entry) -> bytes:
    told = (host, entry.categories, entry.host)
    return b',"host":%b,"categories":%b,"category_entry":%b' % tuple(map(_TO_JSON, told))


def _is_name(id: str | int | None) -> bool:
    """Whether an attempt's own name is one that is echoed as it stands."""
    return id is None or (isinstance(id, int) and abs(id) < 2**53) or (isinstance(id, str) and 0 < len(id) <= 255)


def _bound(known: dict[Any, Any], most: int) -> None:
    if len(known) >= most:
        known.clear()
