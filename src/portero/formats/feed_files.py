"""Host lists, hosts files and CSV of categories, read as a stream: little memory however long they are.

A file may be packed with gzip. Lines are bounded, and so is what a file unpacks to.
"""

from __future__ import annotations

import csv
import gzip
import io
import re
import zlib
from collections.abc import Callable, Iterable, Iterator
from datetime import date
from ipaddress import ip_address
from itertools import chain
from typing import Any, NamedTuple

from portero.core.nouns.urls import normal_site

MAX_LINE = 4_096
MAX_BYTES = 1_000_000_000
"""What a file may unpack to."""
MAX_LINES = 20_000_000

_PLAIN = re.compile(r"(?:[a-z0-9_](?:[a-z0-9_-]{0,61}[a-z0-9_])?\.)+[a-z](?:[a-z0-9-]{0,61}[a-z0-9])?")
_GZIP = b"\x1f\x8b"


class BadFeed(ValueError):
    """The file as a whole cannot be used."""


class HostLine(NamedTuple):
    """A line that names a host, in the form in which it is compared, with the file's own words for its categories."""

    number: int
    host: str
    words: tuple[str, ...] = ()
    registered: date | None = None


class RefusedLine(NamedTuple):
    """A line that cannot be used, and why."""

    number: int
    problem: str


Line = HostLine | RefusedLine


def unpacked(chunks: Iterable[bytes], most: int = MAX_BYTES) -> Iterator[bytes]:
    """The bytes of a file, of one packed with gzip unpacked. BadFeed where it unpacks to more than `most`."""
    total = 0
    for plain in _unpacked(iter(chunks)):
        total += len(plain)
        if total > most:
            raise BadFeed(f"the file is more than {most // 1_000_000:,} MB unpacked, which is more than is read")
        yield plain


class _Chunks(io.RawIOBase):
    """Chunks as a file that is read from its beginning to its end."""

    def __init__(self, chunks: Iterator[bytes]) -> None:
        self._chunks, self._rest = chunks, b""

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        while not self._rest:
            following = next(self._chunks, None)
            if following is None:
                return 0
            self._rest = following
        size = min(len(buffer), len(self._rest))
        buffer[:size], self._rest = self._rest[:size], self._rest[size:]
        return size


def _unpacked(chunks: Iterator[bytes]) -> Iterator[bytes]:
    head = next(chunks, b"")
    while len(head) < len(_GZIP) and (more := next(chunks, None)) is not None:
        head += more
    if not head.startswith(_GZIP):
        yield from chain((head,), chunks)
        return
    # one member may follow another, and zeros fill up the last block (RFC 1952, 2.2)
    with gzip.GzipFile(fileobj=io.BufferedReader(_Chunks(chain((head,), chunks)))) as file:
        try:
            while plain := file.read1(1 << 20):
                yield plain
        except EOFError as problem:
            raise BadFeed("the packed file was cut off") from problem
        except (gzip.BadGzipFile, zlib.error) as problem:
            raise BadFeed("the packed file is damaged") from problem


def lines_of(chunks: Iterable[bytes]) -> Iterator[tuple[int, str | RefusedLine]]:
    """The lines of a file with their numbers. One that is too long, or not UTF-8, is refused by itself. BadFeed."""
    number, rest, skipping = 0, b"", False
    for chunk in chunks:
        parts = (rest + chunk).split(b"\n")
        rest = parts.pop()
        for part in parts:
            number += 1
            if skipping:
                skipping = False
                continue
            yield number, _line(number, part)
        if number > MAX_LINES:
            raise BadFeed(f"the file has more than {MAX_LINES:,} lines")
        if len(rest) > MAX_LINE:
            # what belongs to the same line is let go as it comes
            if not skipping:
                yield number + 1, _too_long(number + 1)
            rest, skipping = b"", True
    if rest and not skipping:
        yield number + 1, _line(number + 1, rest)


def _too_long(number: int) -> RefusedLine:
    return RefusedLine(number, f"the line is longer than {MAX_LINE:,} bytes")


def _line(number: int, raw: bytes) -> str | RefusedLine:
    if len(raw) > MAX_LINE:
        return _too_long(number)
    try:
        return raw.decode("utf-8-sig" if number == 1 else "utf-8").rstrip("\r")
    except UnicodeDecodeError:
        return RefusedLine(number, "the line is not UTF-8")


def _host(text: str) -> str:
    """A host as it is compared. ValueError."""
    if _PLAIN.fullmatch(text) and len(text) <= 253 and "xn--" not in text:
        return text
    host = normal_site(text.removeprefix("*."))
    if "." not in host and ":" not in host:
        raise ValueError(f"“{host}” is a whole top-level domain; name hosts below it")
    return host


def _bare(text: str) -> str:
    return text.partition("#")[0].strip()


def _host_list(number: int, text: str) -> Iterator[Line]:
    if name := _bare(text):
        yield HostLine(number, _host(name))


def _hosts_file(number: int, text: str) -> Iterator[Line]:
    address, *names = _bare(text).split() or [""]
    if not address:
        return
    try:
        ip_address(address)
    except ValueError:
        raise ValueError(
            f"“{address[:60]}” is not an address; a line of a hosts file is an address and names"
        ) from None
    if not names:
        raise ValueError("a line of a hosts file is an address and the names that it answers to")
    # the names that every machine has for itself are no web hosts
    for name in names:
        if "." in name:
            yield HostLine(number, _host(name))


COLUMNS = ("host", "categories", "registered_on")


class _CsvLines:
    """Lines of CSV: a heading may name the columns; without one they are host, categories, registered_on."""

    def __init__(self) -> None:
        self._host, self._words, self._day = range(3)
        self._first = True

    def __call__(self, number: int, text: str) -> Iterator[Line]:
        cells = text.split(",") if '"' not in text else next(csv.reader([text]), [""])
        if text[:1] == "#" or not text.strip() or (self._first and self._is_heading(cells)):
            return
        self._first = False
        words = _cell(cells, self._words)
        yield HostLine(
            number,
            _host(_cell(cells, self._host)),
            tuple(words.replace(";", " ").split()) if words else (),
            _day(_cell(cells, self._day)) if len(cells) > 2 else None,
        )

    def _is_heading(self, cells: list[str]) -> bool:
        """Whether these are the columns' names; from then on they go by those."""
        names = [cell.strip().lower() for cell in cells]
        if "host" not in names:
            return False
        self._first = False
        self._host, self._words, self._day = (names.index(name) if name in names else MAX_LINE for name in COLUMNS)
        return True


def _cell(cells: list[str], place: int) -> str:
    return cells[place].strip() if place < len(cells) else ""


def _day(text: str) -> date | None:
    if not text:
        return None
    try:
        return date.fromisoformat(text)
    except ValueError:
        raise ValueError(f"“{text[:40]}” is not a day; write it as in 2026-11-30") from None


def read_feed(chunks: Iterable[bytes], format: str) -> Iterator[Line]:
    """The lines of a `host-list`, a `hosts-file` or `csv`, one by one; what cannot be used by number. BadFeed."""
    read: Callable[[int, str], Iterator[Line]] = {"host-list": _host_list, "hosts-file": _hosts_file}.get(
        format, _CsvLines()
    )
    for number, text in lines_of(unpacked(chunks)):
        if isinstance(text, RefusedLine):
            yield text
            continue
        try:
            yield from read(number, text)
        except (ValueError, csv.Error) as problem:
            yield RefusedLine(number, str(problem))
