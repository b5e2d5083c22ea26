"""Many attempts, bytes to bytes: what was answered before is put together again, and what is new is explained.

An answer is remembered by host and moment, and what is said in it by outcome: a machine's people come back to the same
hosts, and nearly all hosts fare like thousands of others. Where a path, a search or a site list may count, the whole
URL is looked at.
"""

from __future__ import annotations

from collections.abc import Hashable, Sequence
from datetime import datetime
from itertools import count
from typing import Any, NamedTuple, TypeVar

import msgspec
from pydantic import TypeAdapter

from portero.core.insight.check_batches import MAX_LINE, judge_line
from portero.core.insight.offline import OfflineEstate, Standing, UnknownDevice
from portero.core.matching.categories import Entry
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.base import MOST_NUMBERED, Timestamp, rfc3339
from portero.core.nouns.patterns import hosts_above
from portero.core.nouns.urls import BadUrl, Visit, address_of, parse_visit
from portero.core.nouns.verdict import BriefVerdict, Explanation, Unjudged
from portero.core.resolving.explaining import categories_of
from portero.core.resolving.policy import Frame, Policy

MOST_URLS, MOST_MOMENTS, MOST_SEATS, MOST_ANSWERS = 300_000, 100_000, 20_000, 300_000
"""How many of each are remembered."""
Found = TypeVar("Found")
_TO_JSON = msgspec.json.Encoder().encode
_read_moment = TypeAdapter(Timestamp).validate_python


class _Line(msgspec.Struct, forbid_unknown_fields=True, gc=False):
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
    site: int
    """A number for its scheme and host."""


class _Moment(NamedTuple):
    """A moment, read."""

    at: datetime
    minute: int
    json: bytes


ByHost = dict[int, tuple[bytes, bytes]]
"""What was answered, by the number of the scheme and host: of the host, and the rest."""


class _Then(NamedTuple):
    """A frame, and what was answered in it."""

    frame: Frame
    answered: ByHost


class _Seat:
    """Who tries it on which machine: what of an answer is the same for all that they visit."""

    def __init__(self, standing: Standing, head: bytes, rear: bytes) -> None:
        self.policy, self.case, self.head, self.rear = standing.policy, standing.case, head, rear
        self.frames: dict[int, _Then] = {}
        """By minute."""
        self.by_host: dict[Frame, ByHost] = {}
        self.by_outcome: dict[tuple[object, ...], bytes] = {}
        self.by_url: dict[tuple[Frame, str], tuple[bytes, bytes]] = {}
        self._paged = {one.host for one, _ in self.policy.sites if one.path or one.query or one.port is not None}

    def looks_at_content(self, host: str) -> bool:
        """Whether a search, or a site list that names pages of a host, may count."""
        paged = self._paged
        return host in self.policy.search_pages or (bool(paged) and any(above in paged for above in hosts_above(host)))


class LineJudge:
    """Answers lines of JSON, one after another, with lines of JSON: whole answers, or those in brief."""

    def __init__(self, documents: OfflineEstate, brief: bool = False) -> None:
        self._documents, self._brief = documents, brief
        self._read = msgspec.json.Decoder(_Line).decode
        self._urls: dict[str, _Seen] = {}
        self._sites: dict[tuple[str, str], int] = {}
        # a number is never given twice, though what it was given to may be forgotten
        self._numbers = count()
        self._moments: dict[str | None, _Moment] = {}
        self._seats: dict[tuple[str, str | None, str | None, str | None], _Seat] = {}
        self._hosts: dict[str, tuple[Entry, bytes]] = {}
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
        seat = self._seats.get((tried.device, tried.user, tried.browser, tried.place)) or self._seat(tried)
        seen = self._urls.get(tried.url) or self._seen(tried.url)
        moment = self._moments.get(tried.at) or self._moment(tried.at)
        id = tried.id
        if seat is None or seen is None or moment is None or not (id is None or _is_name(id)):
            return (self._at_length(line),)
        then = seat.frames.get(moment.minute) or self._frame(seat, moment)
        if id is None:
            head = b"".join((b'{"id":null,"attempt":{', seat.head, seen.json, moment.json, seat.rear))
        else:
            name = _TO_JSON(id)
            own = (b'{"id":', name, b',"attempt":{"id":', name, b",", seat.head, seen.json, moment.json, seat.rear)
            head = b"".join(own)
        known = then.answered.get(seen.site)
        return (head, *known) if known is not None else self._explained(line, tried.url, seat, then, seen, head)

    def _at_length(self, line: bytes) -> bytes:
        explain = self._documents.explain
        found: Explanation | BriefVerdict | Unjudged
        found = (
            judge_line(line, lambda one: BriefVerdict.of(explain(one))) if self._brief else judge_line(line, explain)
        )
        self.failed = self.failed or isinstance(found, Unjudged)
        return found.model_dump_json().encode()

    # --- what is known of the parts of a line ---

    def _seen(self, url: str) -> _Seen | None:
        if not 0 < len(url) <= 8192:
            return None
        try:
            visit = parse_visit(url)
        except BadUrl:
            return None
        _bound(self._sites, MOST_URLS)
        site = self._sites.setdefault((visit.scheme, visit.host), next(self._numbers))
        known = _Seen(visit, _TO_JSON(url), site)
        _bound(self._urls, MOST_URLS)
        self._urls[url] = known
        return known

    def _moment(self, at: str | None) -> _Moment | None:
        try:
            moment = self._documents.now if at is None else _read_moment(at)
        except ValueError:
            return None
        _bound(self._moments, MOST_MOMENTS)
        known = self._moments[at] = _Moment(
            moment, int(moment.timestamp() // 60), b',"at":"%b"' % rfc3339(moment).encode()
        )
        return known

    def _seat(self, tried: _Line) -> _Seat | None:
        if self._documents.groups_name_time:
            return None
        device, user, browser, place = who = (tried.device, tried.user, tried.browser, tried.place)
        try:
            attempt = Attempt.model_validate(
                {"device": device, "user": user, "browser": browser, "place": place, "url": "http://a.test/"}
            )
            standing = self._documents.standing(attempt)
        except (ValueError, UnknownDevice):
            return None
        _bound(self._seats, MOST_SEATS)
        known = self._seats[who] = _seat(standing)
        return known

    def _host(self, policy: Policy, host: str) -> tuple[Entry, bytes]:
        # what is corrected is the same on all machines
        entry = categories_of(policy, self._documents.index, host)
        told = tuple(map(_TO_JSON, (host, entry.categories, entry.host)))
        return _kept(self._hosts, host, (entry, b',"host":%b,"categories":%b,"category_entry":%b' % told))

    @staticmethod
    def _frame(seat: _Seat, moment: _Moment) -> _Then:
        attempt = seat.case.attempt.model_copy(update={"at": moment.at})
        frame = seat.policy.frame(seat.case._replace(attempt=attempt).situation)
        begins = moment.minute * 60
        _bound(seat.by_host, MOST_MOMENTS)
        found = _Then(frame, seat.by_host.setdefault(frame, {}))
        if seat.policy.is_steady(begins, begins + 60):
            _bound(seat.frames, MOST_MOMENTS)
            seat.frames[moment.minute] = found
        return found

    # --- what is new ---

    def _explained(self, line: bytes, url: str, seat: _Seat, then: _Then, seen: _Seen, head: bytes) -> Sequence[bytes]:
        policy, visit, frame = seat.policy, seen.visit, then.frame
        by_url = seat.by_url.get((frame, url))
        if by_url is not None:
            return head, *by_url
        if seat.looks_at_content(visit.host):
            whole = self._at_length(line)
            if not whole.startswith(head):
                return (whole,)
            answer = (b"", whole[len(head) :])
            return head, *_kept(seat.by_url, (frame, url), answer)
        entry, of_host = self._hosts.get(visit.host) or self._host(policy, visit.host)
        met = policy.indicators.met_by(visit, address_of(visit.host), True)
        is_paged = policy.indicators.looks_at_pages(visit.host)
        # what browsers make of a list hangs on the host itself, and what hides behind one on the rules for its pages
        own = visit.host if policy.sites or is_paged else None
        outcome = (frame, visit.scheme, own, entry.categories, entry.source, tuple(map(id, met)))
        said = seat.by_outcome.get(outcome)
        if said is None:
            whole = self._at_length(line)
            if not whole.startswith(head + of_host):
                return (whole,)
            said = whole[len(head) + len(of_host) :]
            said = _kept(seat.by_outcome, outcome, _kept(self._same, said, self._same.get(said, said)))
        answer = (of_host, said)
        if is_paged:
            return head, *_kept(seat.by_url, (frame, url), answer)
        return head, *_kept(then.answered, seen.site, answer)


def _seat(standing: Standing) -> _Seat:
    attempt = standing.case.attempt
    place = attempt.place.value if attempt.place else None
    head = b'"device":%b,"user":%b,"browser":%b,"url":' % tuple(
        map(_TO_JSON, (attempt.device, attempt.user, attempt.browser))
    )
    return _Seat(standing, head, b',"place":%b}' % _TO_JSON(place))


def _is_name(id: str | int) -> bool:
    """Whether an attempt's own name is one that is echoed as it stands."""
    return abs(id) < MOST_NUMBERED if isinstance(id, int) else 0 < len(id) <= 255


def _kept(known: dict[Any, Found], key: Hashable, found: Found) -> Found:
    """What was found, remembered."""
    _bound(known, MOST_ANSWERS)
    known[key] = found
    return found


def _bound(known: dict[Any, Any], most: int) -> None:
    if len(known) >= most:
        known.clear()
