"""Web content at scale: the mapped category index, importing, indicators by the thousand, differences.

What needs a process of its own to be measured, such as memory, gets one.
"""

from __future__ import annotations

import io
import json
import random
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from datetime import UTC, datetime
from functools import partial
from itertools import count
from pathlib import Path

from bench.estates import CATEGORIES, indicator_rulesets, make_estate
from bench.measuring import Figure, Row, each, in_turns, whole
from portero.core.matching.categories import LayeredIndex, MemoryIndex
from portero.core.nouns.assignment import Assignment
from portero.core.nouns.estate import Estate
from portero.core.nouns.feed import Feed
from portero.core.nouns.rule import Rule
from portero.core.resolving.compiling import compile_bundle
from portero.formats.bundles import pack_bundle
from portero.formats.feed_files import lines_of
from portero.formats.index_files import IndexFile, write_index
from portero.formats.packing import write_difference
from portero.service.feeds.reading import read_categories
from portero.service.indicators import merged
from portero.service.keepers import Keepers, open_keepers
from portero.service.routes.indicators import list_indicators
from portero.service.routes.rulesets import ROUTES
from portero.service.state import Snapshot
from portero.store.artefacts import Artefacts

_WORDS = ["harbour", "reef", "tide", "anchor", "gull", "mast", "quay", "shoal", "buoy", "drift", "cargo", "lantern"]


def feed_lines(hosts: int, seed: int = 7) -> Iterator[bytes]:
    """A feed of that many made-up hosts as CSV, in no order."""
    rng = random.Random(seed)
    kinds = [*CATEGORIES, *(f"{one} {two}" for one, two in (rng.sample(CATEGORIES, 2) for _ in range(40)))]
    lines = []
    for number in range(hosts):
        spread = number * 2_654_435_761 % 2**32
        name = f"{_WORDS[spread % 12]}-{_WORDS[spread // 12 % 12]}{spread % 99_991:x}.site{number % 9973}.example"
        lines.append(f"{name},{kinds[spread % len(kinds)]}")
        if len(lines) == 20_000:
            yield ("\n".join(lines) + "\n").encode()
            lines.clear()
    yield ("\n".join(lines) + "\n").encode()


FEED = Feed(key="bench", kind="categories", format="csv")


def import_feed(folder: Path, hosts: int) -> dict[str, float]:
    """Import a feed in this process; how long it took and the most memory that it had."""
    import resource

    source = folder / "feed.csv"
    with source.open("wb") as out:
        out.writelines(feed_lines(hosts))

    def chunks() -> Iterator[bytes]:
        with source.open("rb") as file:
            while chunk := file.read(1 << 18):
                yield chunk

    began = time.perf_counter()
    number = sum(1 for _ in lines_of(chunks()))
    reading = time.perf_counter() - began
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    began = time.perf_counter()
    today = datetime(2026, 11, 25, tzinfo=UTC).date()
    made = read_categories(FEED, chunks(), None, Artefacts(folder / "artefacts"), today, lambda _stage, _lines: None)
    seconds = time.perf_counter() - began
    after = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    source.unlink()
    return {
        "lines": number,
        "hosts": made.entries,
        "seconds": seconds,
        "reading": reading,
        "mb": (after - before) / 1024,
        "bytes": (folder / "artefacts" / made.digest.removeprefix("sha256:")).stat().st_size,
    }


def look_up_in(folder: Path) -> dict[str, float]:
    """Open the index of a folder in this process and look all of it up; the memory that it takes."""
    file = next((folder / "artefacts").iterdir())

    def resident() -> int:
        pages = int(Path("/proc/self/statm").read_text().split()[1])
        return pages * 4096

    before = resident()
    index = IndexFile(Artefacts(folder / "artefacts").mapped("sha256:" + file.name))
    for host, _ in index.items():
        index.get(host)
    return {"bytes": resident() - before, "hosts": len(index)}


def _apart(what: str, *arguments: object) -> dict[str, float]:
    """Do something in a process of its own."""
    command = [sys.executable, "-m", "bench.content", what, *map(str, arguments)]
    return json.loads(subprocess.run(command, check=True, capture_output=True, text=True).stdout)


class Mapped:
    """An index in a mapped file, as machines have it, made in a folder that goes with it."""

    def __init__(self, hosts: int) -> None:
        self._folder = tempfile.TemporaryDirectory()
        self.path = Path(self._folder.name)
        self.imported = _apart("import", self.path, hosts)
        self.file = next((self.path / "artefacts").iterdir())

    def open(self) -> IndexFile:
        """The file, mapped."""
        return IndexFile(Artefacts(self.path / "artefacts").mapped("sha256:" + self.file.name))


class _Categories:
    """The entries of a feed as an index of categories."""

    def __init__(self, file: IndexFile) -> None:
        self._file = file
        self.digest = ""

    def get(self, host: str) -> tuple[str, ...] | None:
        found = self._file.get(host)
        return None if found is None else found[0]


def index_rows(small: int, large: int, rounds: int) -> list[Row | Figure]:
    """The index at two sizes: import, memory, opening, look-up beside a dict, and a decision with it."""
    from bench.__main__ import decider, with_situations

    rows: list[Row | Figure] = []
    estate = make_estate(200, 1_000, 4_000)
    decisions, kept = [], []
    # the folders are there for as long as what is mapped from them
    for hosts in (small, large):
        mapped = Mapped(hosts)
        made, took = mapped.imported, _apart("look-up", mapped.path)
        name = f"{hosts:,} hosts"
        rows.append(Figure(f"{name}: import, lines a second", made["lines"] / made["seconds"], ""))
        rows.append(Figure(f"{name}: import ÷ reading the lines alone", made["seconds"] / made["reading"], "×"))
        rows.append(Figure(f"{name}: most memory while importing", made["mb"], "MB", at_most=400))
        rows.append(
            Figure(f"{name}: resident once all was looked up", took["bytes"] / took["hosts"], "B a host", at_most=16)
        )
        (opening,) = in_turns(rounds, whole(mapped.open, 1))
        rows.append(Row(f"{name}: opening", opening, most_ms=50))
        file = mapped.open()
        rows.append(Figure(f"{name}: difference of 5,000 on the wire", _difference_size(file, hosts) / 1000, "kB"))
        chance, known = random.Random(1), []
        for place, (host, _) in enumerate(file.items()):
            if place % (hosts // 5_000) == 0:
                known.append(host)
        hosts_asked = [
            chance.choice(known) if chance.random() < 0.7 else f"x{place}.nobody.example" for place in range(10_000)
        ]
        plain = dict.fromkeys(known, ("games",))
        looked, floor = in_turns(rounds, each(file.get, hosts_asked), each(plain.get, hosts_asked))
        rows.append(Row(f"{name}: look-up (floor: a small dict)", looked, floor.median))
        layered = LayeredIndex("", _Categories(file), MemoryIndex({}))
        urls = [f"https://www.{host}/item" for host in hosts_asked]
        decisions.append(each(decider(layered, estate), with_situations(urls)))  # type: ignore[arg-type]
        kept.append(mapped)
    before, after = in_turns(rounds, *decisions)
    rows.append(Row(f"decision, {large:,} hosts instead of {small:,}", after, before.median, goal=1.5))
    return rows


def _difference_size(file: IndexFile, hosts: int) -> int:
    """How big the difference is once five thousand hosts are in another category."""
    out, step = io.BytesIO(), hosts // 5_000
    write_index(out, ((host, ("parked",)) for place, (host, _) in enumerate(file.items()) if place % step == 0))
    return len(out.getvalue())


def _keepers(folder: Path, indicators: int) -> Keepers:
    """Keepers with that many indicators in one ruleset, put on everybody."""
    keepers = open_keepers(folder)
    rules = tuple(rule for ruleset in indicator_rulesets(indicators, random.Random(2)) for rule in ruleset.rules)
    ruleset = indicator_rulesets(10, random.Random(2))[0].model_copy(update={"key": "many", "rules": rules})

    def edit(snapshot: Snapshot) -> Estate:
        put = Assignment(key="all", ruleset="many", to=("whole-fleet",))
        return snapshot.estate.replacing(rulesets=(ruleset,), assignments=(put,))

    keepers.estate.change(edit, by="bench")
    return keepers


def indicator_rows(sizes: tuple[int, ...], rounds: int) -> list[Row | Figure]:
    """Lists, searches, bundles and differences with so many indicators."""
    rows: list[Row | Figure] = []
    for number in sizes:
        with tempfile.TemporaryDirectory() as folder:
            keepers = _keepers(Path(folder), number)
            name = f"{number:,} indicators"
            listed = partial(list_indicators, None, keepers, limit=100)  # type: ignore[arg-type]
            searched = partial(list_indicators, None, keepers, q="site77", limit=100)  # type: ignore[arg-type]
            rulesets = partial(ROUTES.page, keepers, keepers.estate.snapshot, lambda _one: True, None, None, 100)
            searched()
            list_, search, names = in_turns(rounds, whole(listed, 1), whole(searched, 1), whole(rulesets, 1))
            rows.append(Row(f"{name}: a page of the list", list_, most_ms=150))
            rows.append(Row(f"{name}: a search", search, most_ms=150))
            rows.append(Row(f"{name}: the list of rulesets", names, most_ms=150))
            rows += _bundles(keepers.estate.snapshot.estate, name, number, rounds)
            rows += _foresight(keepers, name)
            keepers.close()
    return rows


def _foresight(keepers: Keepers, name: str) -> list[Row | Figure]:
    """What it takes to tell what one more rule among so many would do, and to find what is to be settled."""
    revision, before = keepers.estate.snapshot.revision, keepers.estate.snapshot.estate
    one_more = merged(before.rulesets[0], [Rule.model_validate({"host": "one-more.example", "action": "block"})])

    def preview() -> None:
        # another estate each time: nothing that was made for it is there yet
        keepers.foresight.preview(before, before.replacing(rulesets=(one_more,)), revision)

    numbers = count(1_000_000)

    def findings() -> None:
        # of another revision each time: nothing that was found is there yet
        keepers.foresight.findings(before, next(numbers))

    previewing, finding = in_turns(2, whole(preview, 1), whole(findings, 1))
    return [
        Row(f"{name}: preview one more rule", previewing),
        Row(f"{name}: all findings", finding),
    ]


def _bundles(estate: Estate, name: str, number: int, rounds: int) -> list[Row | Figure]:
    """A bundle with so many, and what forty changed rules cost on the wire."""
    groups = ("whole-fleet",)
    chance, ruleset = random.Random(3), estate.rulesets[0]
    rules = list(ruleset.rules)
    for place in chance.sample(range(len(rules)), 40):
        rules[place] = Rule.model_validate({"host": f"new-{place:x}.example", "action": "block"})
    changed = estate.replacing(rulesets=(ruleset.model_copy(update={"rules": tuple(rules)}),))
    before, after = (pack_bundle(compile_bundle(one, groups)) for one in (estate, changed))
    difference = write_difference(before.packed, after.packed)

    def compile_anew() -> None:
        # a ruleset that is another object: nothing that was compiled of it is there yet
        pack_bundle(compile_bundle(estate.replacing(rulesets=(ruleset.model_copy(),)), groups))

    (compiled,) = in_turns(rounds, whole(compile_anew, 1))
    (differing,) = in_turns(rounds, whole(lambda: write_difference(before.packed, after.packed), 1))
    return [
        Figure(f"{name}: bundle on the wire", len(before.packed) / 1000, "kB", at_most=260 * number / 20_000),
        Figure(f"{name}: difference of 40 rules on the wire", len(difference) / 1000, "kB", at_most=2),
        Row(f"{name}: compile and pack a bundle", compiled),
        Row(f"{name}: make the difference", differing),
    ]


if __name__ == "__main__":
    wanted, where = sys.argv[1], Path(sys.argv[2])
    told = import_feed(where, int(sys.argv[3])) if wanted == "import" else look_up_in(where)
    print(json.dumps(told))
