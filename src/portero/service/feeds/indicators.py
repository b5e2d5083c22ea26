"""What a feed of indicators has brought: rules, each with the objects that say so."""

from __future__ import annotations

import json
from collections.abc import Iterable, Set
from datetime import datetime
from typing import Any, NamedTuple

import zstandard

from portero.core.nouns.action import STRICTNESS
from portero.core.nouns.rule import Rule
from portero.core.nouns.selector import Selector

MOST_BYTES = 2_000_000_000


class FeedIndicator(NamedTuple):
    """A rule as one object says it, or a line of a list, which has no identifier."""

    id: str | None
    first: str
    """The day on which something was first said of what the rule is for."""
    rule: dict[str, Any]
    """As JSON, without what it leaves open."""

    @property
    def until(self) -> datetime | None:
        """When it ends."""
        written = self.rule.get("valid_until")
        return datetime.fromisoformat(written) if written else None


class FeedIndicators:
    """Rules by what they are for, in the order in which they came. Several objects may say something of the same."""

    def __init__(self) -> None:
        self._kept: dict[Selector, dict[str | None, FeedIndicator]] = {}

    @classmethod
    def of(cls, packed: bytes) -> FeedIndicators:
        """What `packed` wrote."""
        made = cls()
        for written in json.loads(zstandard.ZstdDecompressor().decompress(packed, max_output_size=MOST_BYTES)):
            made._add(Rule.model_validate(written["rule"]).selector, FeedIndicator(**written))
        return made

    def packed(self) -> bytes:
        """As zstd-compressed JSON."""
        entries = [entry._asdict() for said in self._kept.values() for entry in said.values()]
        return zstandard.ZstdCompressor(level=6).compress(json.dumps(entries, separators=(",", ":")).encode())

    def _add(self, selector: Selector, entry: FeedIndicator) -> None:
        self._kept.setdefault(selector, {})[entry.id] = entry

    def put(self, rule: Rule, id: str | None, day: str) -> bool:
        """Take a rule in; False where something was said of the same already, since when it stays known."""
        first = self.first(rule)
        self._add(rule.selector, FeedIndicator(id, first or day, rule.model_dump(mode="json", exclude_none=True)))
        return first is None

    def copy(self) -> FeedIndicators:
        """The same, to be changed by itself."""
        made = FeedIndicators()
        made._kept = {selector: dict(said) for selector, said in self._kept.items()}
        return made

    def drop_ended(self, now: datetime) -> int:
        """Drop what has ended; how much that was."""
        ended = {
            (selector, entry.id)
            for selector, said in self._kept.items()
            for entry in said.values()
            if (until := entry.until) is not None and until <= now
        }
        self._drop(ended)
        return len(ended)

    def drop(self, ids: Set[str]) -> None:
        """Drop what objects say that were called back, or were sent anew. What others say of the same stays."""
        self._drop({(selector, id) for selector, said in self._kept.items() for id in said if id in ids})

    def _drop(self, gone: Iterable[tuple[Selector, str | None]]) -> None:
        for selector, id in gone:
            said = self._kept[selector]
            del said[id]
            if not said:
                del self._kept[selector]

    def first(self, rule: Rule) -> str | None:
        """The day on which something was first said of what a rule is for."""
        said = self._kept.get(rule.selector)
        return min(entry.first for entry in said.values()) if said else None

    def __len__(self) -> int:
        return len(self._kept)

    def said(self) -> dict[Selector, dict[str, Any]]:
        """For all that something is said of, the rule that counts, as JSON."""
        return {selector: _counting(said).rule for selector, said in self._kept.items()}

    def rules(self) -> tuple[Rule, ...]:
        """The rules that count."""
        return tuple(map(Rule.model_validate, self.said().values()))


def _counting(said: dict[str | None, FeedIndicator]) -> FeedIndicator:
    """Of what several objects say of the same: what holds longest, then what is strictest. Their order has no part."""
    return max(said.values(), key=_weight) if len(said) > 1 else next(iter(said.values()))


def _weight(entry: FeedIndicator) -> tuple[bool, datetime, int, str]:
    ever = entry.until is None
    return ever, entry.until or datetime.max, STRICTNESS.get(entry.rule["action"], -1), entry.id or ""
