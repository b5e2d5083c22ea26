"""Index files: hosts, each with a value, as a static file that is mapped into memory and never changed.

The format is our own, as no open standard has one: docs/reference/wire.md. Hosts stand in blocks in their sorted order.
A block is a trie (`marisa-trie`) and an array with the number of each host's value; the values themselves, of which
there are few, stand once at the end of the file.
"""

from __future__ import annotations

import json
import struct
from array import array
from bisect import bisect_right
from collections.abc import Iterable, Iterator
from itertools import islice
from typing import Any, BinaryIO, NamedTuple

import marisa_trie

MAGIC = b"PORTIDX1"
BLOCK = 200_000
"""How many hosts a block holds: what making a file needs in memory."""
_TAIL = struct.Struct("<Q8s")
_ALIGNED = 8

Buffer = bytes | memoryview


class BadIndex(ValueError):
    """The bytes are no index file, or one that was cut off."""


class _Block(NamedTuple):
    first: str
    hosts: int
    trie: tuple[int, int]
    """Where it begins in the file, and how many bytes it has."""
    numbers: tuple[int, int]
    width: str
    """The type of a number, as `array` names it."""


def write_index(out: BinaryIO, entries: Iterable[tuple[str, tuple[Any, ...]]]) -> int:
    """Write hosts, given in their order and each once, with their values; returns how many they were.

    A value is a tuple of JSON values; it comes back as one, lists in it as tuples.
    """
    known: dict[tuple[Any, ...], int] = {}
    blocks: list[_Block] = []
    source, at = iter(entries), out.write(MAGIC)
    while some := list(islice(source, BLOCK)):
        hosts = [host for host, _ in some]
        trie = marisa_trie.Trie(hosts, order=marisa_trie.LABEL_ORDER)
        values = [known.setdefault(value, len(known)) for _, value in some]
        numbers = array("H" if max(values) < 2**16 else "I", bytes(len(some) * (2 if max(values) < 2**16 else 4)))
        for host, number in zip(hosts, values, strict=True):
            numbers[trie[host]] = number
        packed = trie.tobytes()
        places = []
        for blob in (packed, numbers.tobytes()):
            places.append((at, len(blob)))
            at += out.write(blob) + out.write(bytes(-len(blob) % _ALIGNED))
        blocks.append(_Block(hosts[0], len(some), places[0], places[1], numbers.typecode))
    hosts_in_all = sum(block.hosts for block in blocks)
    foot = json.dumps({"hosts": hosts_in_all, "values": list(known), "blocks": blocks}, separators=(",", ":")).encode()
    out.write(foot)
    out.write(_TAIL.pack(len(foot), MAGIC))
    return hosts_in_all


def _tuples(value: Any) -> Any:
    return tuple(map(_tuples, value)) if isinstance(value, list) else value


class IndexFile:
    """An index file's bytes, mostly in a mapped file. Opening it costs the same whatever its size."""

    def __init__(self, buffer: Buffer) -> None:
        """BadIndex where the bytes are none. Whoever opens a file that came from outside has its digest checked."""
        view = memoryview(buffer)
        try:
            length, magic = _TAIL.unpack(view[-_TAIL.size :])
            if magic != MAGIC or bytes(view[: len(MAGIC)]) != MAGIC:
                raise ValueError("it does not begin and end as one")
            foot = json.loads(bytes(view[-_TAIL.size - length : -_TAIL.size]))
            self._hosts = int(foot["hosts"])
            self._values = [_tuples(value) for value in foot["values"]]
            blocks = [_Block(*block) for block in foot["blocks"]]
            self._tries = [marisa_trie.Trie().map(_part(view, block.trie)) for block in blocks]
            self._numbers = [_part(view, block.numbers).cast(block.width) for block in blocks]  # type: ignore[call-overload]
        except (ValueError, KeyError, TypeError, struct.error, RuntimeError) as problem:
            raise BadIndex(f"this is no index file: {problem}") from problem
        self._firsts = [block.first for block in blocks]

    def __len__(self) -> int:
        return self._hosts

    def get(self, host: str) -> Any:
        """The value of this very host, or None."""
        place = bisect_right(self._firsts, host) - 1
        if place < 0:
            return None
        found = self._tries[place].get(host)
        return None if found is None else self._values[self._numbers[place][found]]

    def items(self) -> Iterator[tuple[str, Any]]:
        """All hosts with their values, in order."""
        values = self._values
        for trie, numbers in zip(self._tries, self._numbers, strict=True):
            for host, number in trie.iteritems():
                yield host, values[numbers[number]]


def _part(view: memoryview, place: tuple[int, int]) -> memoryview:
    part = view[place[0] : place[0] + place[1]]
    if len(part) != place[1]:
        raise ValueError("it was cut off")
    return part
