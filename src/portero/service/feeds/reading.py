"""From the bytes of a feed to a generation of it: read, sorted, written as a file that never changes."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, timedelta
from typing import Any, BinaryIO

from portero.core.matching.feed_entries import FeedEntry, compared
from portero.core.nouns.feed import BadLine, Feed
from portero.core.nouns.rule import Rule
from portero.core.nouns.ruleset import MAX_RULES
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.formats import program_rows
from portero.formats.feed_files import BadFeed, HostLine, RefusedLine, read_feed, unpacked
from portero.formats.index_files import IndexFile, write_index
from portero.formats.rules_csv import read_rules
from portero.formats.stix import Defaults, LeftOut, StixRule, objects_of, read_objects
from portero.service.feeds.indicators import FeedIndicators
from portero.service.feeds.programs import MOST_PROGRAMS, FeedPrograms
from portero.store.artefacts import Artefacts
from portero.store.host_sorting import Gathering

MOST_TOLD = 100
"""How many bad lines are told one by one, and how many words that have no mapping."""
BATCH = 20_000
Note = Callable[[str, int], None]
"""Told what is being done, and how many lines have been read."""


@dataclass
class ReadingTally:
    """What reading came across."""

    lines: int = 0
    duplicates: int = 0
    ended: int = 0
    bad: int = 0
    bad_lines: list[BadLine] = field(default_factory=list)
    unknown_words: Counter[str] = field(default_factory=Counter)
    asides: list[LeftOut] = field(default_factory=list)
    added: int = 0
    removed: int = 0
    changed: int = 0

    def refuse(self, refused: RefusedLine) -> None:
        """Count a line that cannot be used."""
        self.bad += 1
        if len(self.bad_lines) < MOST_TOLD:
            self.bad_lines.append(BadLine(line=refused.number, problem=refused.problem))


@dataclass(frozen=True)
class Brought:
    """A generation as it was read: its file, how many entries it has, and what reading came across."""

    digest: str
    entries: int
    tally: ReadingTally
    bookmark: str | None = None
    """The moment up to which a collection has been read, as its server writes it."""


# --- categories ---


class _Words:
    """A feed's words → our categories."""

    def __init__(self, feed: Feed) -> None:
        self._feed = feed
        self._known: dict[tuple[str, ...], tuple[tuple[str, ...], tuple[str, ...]]] = {}

    def of(self, words: tuple[str, ...]) -> tuple[tuple[str, ...], tuple[str, ...]]:
        """The categories that the words stand for, and the words that stand for none."""
        found = self._known.get(words)
        if found is None:
            found = self._known[words] = self._looked_up(words)
        return found

    def _looked_up(self, words: tuple[str, ...]) -> tuple[tuple[str, ...], tuple[str, ...]]:
        categories, unknown = set(self._feed.categories), []
        for word in words:
            folded = word.lower()
            if folded in self._feed.mapping:
                categories.update(self._feed.mapping[folded])
            elif folded in TAXONOMY.categories:
                categories.add(folded)
            else:
                unknown.append(folded[:100])
        return tuple(sorted(categories)), tuple(unknown)


def read_categories(
    feed: Feed, chunks: Iterable[bytes], before: IndexFile | None, artefacts: Artefacts, today: date, note: Note
) -> Brought:
    """A generation of a feed of categories; hosts of which it says the same as `before` keep their since. BadFeed."""
    tally, path = ReadingTally(), artefacts.begin()
    with Gathering(path) as gathering:
        categories = _gather(feed, chunks, gathering, tally, note)
        note("sorting", tally.lines)
        entries = _entries(gathering.sorted(), categories, before, today.toordinal(), tally)
        digest, _, number = artefacts.make(lambda out: write_index(out, entries))
    return Brought(digest, number, tally)


def _gather(
    feed: Feed, chunks: Iterable[bytes], gathering: Gathering, tally: ReadingTally, note: Note
) -> list[tuple[str, ...]]:
    """Gather all lines; the sets of categories that they were gathered under, by number."""
    words, numbers = _Words(feed), dict[tuple[str, ...], int]()
    rows: list[tuple[str, int, int | None]] = []
    for line in read_feed(chunks, feed.format):
        tally.lines = max(tally.lines, line.number)
        if isinstance(line, RefusedLine):
            tally.refuse(line)
            continue
        categories, unknown = words.of(line.words)
        for word in unknown:
            if word in tally.unknown_words or len(tally.unknown_words) < MOST_TOLD:
                tally.unknown_words[word] += 1
        if not categories and line.registered is None:
            if not unknown and not line.words:
                tally.refuse(RefusedLine(line.number, "the line names no category"))
            continue
        number = numbers.setdefault(categories, len(numbers))
        rows.append((line.host, number, line.registered.toordinal() if line.registered else None))
        if len(rows) >= BATCH:
            gathering.add(rows)
            rows.clear()
            note("reading", tally.lines)
    gathering.add(rows)
    return list(numbers)


def _entries(
    rows: Iterable[tuple[str, int, int | None]],
    categories: list[tuple[str, ...]],
    before: IndexFile | None,
    today: int,
    tally: ReadingTally,
) -> Iterator[tuple[str, tuple[Any, ...]]]:
    """Each host once, with its categories joined and since when; what differs from before is counted."""
    had = before.items() if before is not None else iter(())
    for host, old, new in compared(had, _grouped(rows, categories, tally)):
        if new is None:
            tally.removed += 1
            continue
        same = old is not None and old[0] == new[0]
        if old is None:
            tally.added += 1
        elif not same or old[1] != new[1]:
            tally.changed += 1
        yield host, FeedEntry(new[0], new[1], old[2] if old is not None and same else today)


def _grouped(
    rows: Iterable[tuple[str, int, int | None]], categories: list[tuple[str, ...]], tally: ReadingTally
) -> Iterator[tuple[str, tuple[Any, ...]]]:
    """Each host once: nearly all come once only, so those are let through without ado."""
    last: tuple[str, int, int | None] | None = None
    same: list[tuple[str, int, int | None]] = []
    for row in rows:
        if last is not None and row[0] == last[0]:
            same.append(row)
            continue
        if last is not None:
            yield _joined(last, same, categories, tally)
        last = row
    if last is not None:
        yield _joined(last, same, categories, tally)


def _joined(
    first: tuple[str, int, int | None],
    others: list[tuple[str, int, int | None]],
    categories: list[tuple[str, ...]],
    tally: ReadingTally,
) -> tuple[str, tuple[Any, ...]]:
    """A host with what all of its lines say; the list of others is emptied."""
    host, number, day = first
    if not others:
        return host, (categories[number], day, 0)
    tally.duplicates += len(others)
    numbers = {number, *(other for _, other, _ in others)}
    days = [day_ for day_ in (day, *(other for _, _, other in others)) if day_ is not None]
    others.clear()
    found = tuple(sorted({category for number in numbers for category in categories[number]}))
    return host, (found, min(days, default=None), 0)


# --- programs ---


def read_programs(chunks: Iterable[bytes], before: FeedPrograms, artefacts: Artefacts, note: Note) -> Brought:
    """A generation of a feed of programs, compared with the one before. BadFeed."""
    tally, made = ReadingTally(), FeedPrograms()
    for read in program_rows.read_programs(chunks):
        if isinstance(read, RefusedLine):
            tally.lines = max(tally.lines, read.number)
            tally.refuse(read)
            continue
        tally.lines, program, word = max(tally.lines, read[0]), *read[1:]
        if word is not None and (word in tally.unknown_words or len(tally.unknown_words) < MOST_TOLD):
            tally.unknown_words[word] += 1
        tally.duplicates += not made.put(program)
        if len(made) > MOST_PROGRAMS:
            raise BadFeed(f"it brings more than {MOST_PROGRAMS:,} versions of programs")
        if tally.lines % BATCH == 0:
            note("reading", tally.lines)
    tally.added, tally.removed, tally.changed = made.differences(before)
    note("comparing", tally.lines)
    packed = made.packed()
    digest, _, _ = artefacts.make(lambda out: _write(out, packed))
    return Brought(digest, len(made), tally)


# --- indicators ---


def read_indicators(
    feed: Feed,
    pages: Iterable[Iterable[Mapping[str, Any]]] | None,
    chunks: Iterable[bytes],
    before: FeedIndicators,
    now: datetime,
    artefacts: Artefacts,
    note: Note,
    base: FeedIndicators | None = None,
) -> Brought:
    """A generation of a feed of indicators, compared with the one before. BadFeed.

    `pages` are those of a TAXII collection: what was added to it since `base`, or all of it. Other feeds come whole,
    as `chunks`.
    """
    tally = ReadingTally()
    if pages is not None:
        made = _updated(feed, pages, base or FeedIndicators(), now, tally)
    elif feed.format in ("stix", "taxii"):
        made = _updated(feed, [objects_of(b"".join(unpacked(chunks, 400_000_000)))], FeedIndicators(), now, tally)
    else:
        made = _listed(feed, chunks, before, now, tally, note)
    tally.ended = made.drop_ended(now)
    if len(made) > MAX_RULES:
        raise BadFeed(f"it brings {len(made):,} indicators; a ruleset holds at most {MAX_RULES:,}")
    _count_differences(before, made, tally)
    note("comparing", tally.lines)
    packed = made.packed()
    digest, _, _ = artefacts.make(lambda out: _write(out, packed))
    return Brought(digest, len(made), tally)


def _write(out: BinaryIO, packed: bytes) -> None:
    out.write(packed)


def _updated(
    feed: Feed, pages: Iterable[Iterable[Mapping[str, Any]]], base: FeedIndicators, now: datetime, tally: ReadingTally
) -> FeedIndicators:
    """What STIX objects make of what was there: newer versions replace, what is called back goes."""
    made = base.copy()
    assert feed.action is not None
    defaults = Defaults(feed.action, now, feed.lifetime_days)
    newest: dict[str, Mapping[str, Any]] = {}
    for page in pages:
        for item in page:
            tally.lines += 1
            id = str(item.get("id", ""))
            if item.get("type") == "indicator" and str(item.get("modified", "")) >= str(
                newest.get(id, {}).get("modified", "")
            ):
                newest[id] = item
    made.drop(newest.keys())
    taken = [indicator for indicator in newest.values() if not indicator.get("revoked")]
    for read in read_objects(taken, defaults):
        if isinstance(read, StixRule):
            tally.duplicates += not made.put(read.rule, read.id, f"{now:%Y-%m-%d}")
        else:
            tally.asides.append(read)
    return made


def _listed(
    feed: Feed, chunks: Iterable[bytes], before: FeedIndicators, now: datetime, tally: ReadingTally, note: Note
) -> FeedIndicators:
    """What a list says, whole: what it does not name any more goes."""
    made, day = FeedIndicators(), f"{now:%Y-%m-%d}"
    for number, read in _rules(feed, chunks):
        tally.lines = max(tally.lines, number)
        if isinstance(read, RefusedLine):
            tally.refuse(read)
            continue
        rule, first = read, before.first(read) or day
        if feed.lifetime_days is not None and rule.valid_until is None:
            until = datetime.fromisoformat(first).replace(tzinfo=UTC) + timedelta(days=feed.lifetime_days)
            rule = rule.model_copy(update={"valid_until": until})
        tally.duplicates += not made.put(rule, None, first)
        if tally.lines % BATCH == 0:
            note("reading", tally.lines)
    return made


def _rules(feed: Feed, chunks: Iterable[bytes]) -> Iterator[tuple[int, Rule | RefusedLine]]:
    if feed.format == "csv":
        for read in read_rules(chunks, feed.action):
            if isinstance(read, RefusedLine):
                yield read.number, read
            else:
                yield read[0], _no_allow(*read)
        return
    for line in read_feed(chunks, feed.format):
        yield line.number, _host_rule(line, str(feed.action)) if isinstance(line, HostLine) else line


def _no_allow(number: int, rule: Rule) -> Rule | RefusedLine:
    if rule.selector.kind not in ("host", "url", "address", "sha256"):
        return RefusedLine(number, f"a feed names hosts, URLs, addresses and files, not {rule.selector.kind}")
    return (
        RefusedLine(number, "it allows, and what is brought in from outside never does")
        if rule.action == "allow"
        else rule
    )


def _host_rule(line: HostLine, action: str) -> Rule | RefusedLine:
    try:
        kind = "address" if line.host.startswith("[") or line.host.replace(".", "").isdigit() else "host"
        return Rule.model_validate({kind: line.host.strip("[]"), "action": action})
    except ValueError as problem:
        return RefusedLine(line.number, str(problem))


def _count_differences(before: FeedIndicators, made: FeedIndicators, tally: ReadingTally) -> None:
    old, new = before.said(), made.said()
    tally.added = len(new.keys() - old.keys())
    tally.removed = len(old.keys() - new.keys())
    tally.changed = sum(old[key] != new[key] for key in new.keys() & old.keys())
