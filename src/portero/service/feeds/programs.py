"""What a feed of programs has brought: each version once, by what it is known by."""

from __future__ import annotations

import json
from collections.abc import Iterator

import zstandard

from portero.core.nouns.device import Application

MOST_BYTES = 400_000_000
MOST_PROGRAMS = 200_000
"""So many versions of programs a feed brings."""


class FeedPrograms:
    """Programs, by product, vendor and version, folded."""

    def __init__(self) -> None:
        self._kept: dict[tuple[str, ...], Application] = {}

    @classmethod
    def of(cls, packed: bytes) -> FeedPrograms:
        """What `packed` wrote."""
        made = cls()
        for written in json.loads(zstandard.ZstdDecompressor().decompress(packed, max_output_size=MOST_BYTES)):
            made.put(Application.model_validate(written))
        return made

    def packed(self) -> bytes:
        """As zstd-compressed JSON, the same for the same programs."""
        entries = [self._kept[key].model_dump(mode="json", exclude_none=True) for key in sorted(self._kept)]
        return zstandard.ZstdCompressor(level=6).compress(json.dumps(entries, separators=(",", ":")).encode())

    def put(self, program: Application) -> bool:
        """Take a program in; False where that version was named already: the first line counts."""
        key = tuple((value or "").casefold() for value in (program.product, program.vendor, program.version))
        return self._kept.setdefault(key, program) is program

    def __len__(self) -> int:
        return len(self._kept)

    def __iter__(self) -> Iterator[Application]:
        return iter(self._kept.values())

    def differences(self, before: FeedPrograms) -> tuple[int, int, int]:
        """How many were added to, removed from, and changed in what was before."""
        old, new = before._kept, self._kept
        changed = sum(old[key] != new[key] for key in old.keys() & new.keys())
        return len(new.keys() - old.keys()), len(old.keys() - new.keys()), changed
