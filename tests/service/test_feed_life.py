"""Walks through a feed's life at random, beside a model of a few lines that says what must count after each step."""

from __future__ import annotations

import random
from dataclasses import dataclass, field
from datetime import UTC, datetime

import pytest

from portero.core.nouns.feed import Feed
from portero.formats.bundles import open_manifest
from portero.service.desk import Desk
from portero.service.feeds.holdings import KEPT_GENERATIONS
from portero.service.problems import Problem
from service.standins import Source, configure, desk_at, poll, summary, text
from service.test_feeds import categories, enrol

NOON = datetime(2026, 11, 25, 12, tzinfo=UTC).timestamp()
CONTENTS = (
    {"a.example": "betting", "b.example": "news"},
    {"a.example": "betting"},
    {"b.example": "betting", "c.example": "news"},
    {"a.example": "news", "b.example": "news", "c.example": "betting"},
)
MEANINGS = ("gambling", "games")
HOSTS = ("a.example", "b.example", "c.example")

Content, Meaning = int, str


@dataclass(frozen=True)
class Brought:
    """What a source said, and what was made of it."""

    content: Content
    meaning: Meaning

    @property
    def entries(self) -> dict[str, str]:
        return {host: self.meaning if word == "betting" else word for host, word in CONTENTS[self.content].items()}


@dataclass
class Model:
    """What must be so: what counts, in whose place it came, what waits, and what the source is asked with."""

    meaning: Meaning = MEANINGS[0]
    review: bool = False
    current: Brought | None = None
    replaced: dict[int, int | None] = field(default_factory=dict)
    """By number, in whose place a generation came."""
    generations: dict[int, Brought] = field(default_factory=dict)
    number: int | None = None
    waiting: int | None = None
    etag: Content | None = None

    def read(self, content: Content, etag: Content | None, review: bool) -> str:
        """What comes of a reading of the whole."""
        brought = Brought(content, self.meaning)
        self.etag = etag
        if self.number is not None and brought == self.generations[self.number]:
            self.waiting = None
            return "unchanged"
        if review and self.waiting is not None and brought == self.generations[self.waiting]:
            return "waiting"
        made = max(self.generations, default=0) + 1
        self.generations[made] = brought
        if review:
            self.waiting = made
            return "waiting"
        self.count(made)
        return "new"

    def poll(self, content: Content) -> str:
        alike = self.number is not None and self.generations[self.number].meaning == self.meaning
        if alike and self.etag == content:
            return "unchanged"
        return self.read(content, content, self.review)

    def count(self, number: int) -> None:
        self.replaced.setdefault(number, self.number)
        self.number, self.waiting = number, None


class Walk:
    """One feed's life, step by step."""

    def __init__(self, desk: Desk, source: Source, chance: random.Random) -> None:
        self.desk, self.source, self.chance, self.model = desk, source, chance, Model()
        self.configure()

    def configure(self) -> None:
        given = {"kind": "categories", "format": "csv", "address": f"{self.source.url}/l", "private_network": True}
        mapping = {"betting": [self.model.meaning]}
        configure(
            self.desk, Feed.model_validate({"key": "list", **given, "mapping": mapping, "review": self.model.review})
        )

    def lines(self, content: Content) -> str:
        return "".join(f"{host},{word}\n" for host, word in CONTENTS[content].items())

    # --- steps ---

    def poll(self) -> None:
        content = self.chance.randrange(len(CONTENTS))

        def answer(to) -> None:
            if to.headers.get("If-None-Match") == f'"{content}"':
                to.send_response(304)
                to.send_header("Content-Length", "0")
                to.end_headers()
            else:
                text(self.lines(content), ETag=f'"{content}"')(to)

        self.source.answer = answer
        expected = self.model.poll(content)
        assert poll(self.desk, "list").last_poll.result == expected

    def send(self) -> None:
        content, review = self.chance.randrange(len(CONTENTS)), self.chance.random() < 0.3
        file = self.desk.holdings.artefacts.begin()
        file.write_text(self.lines(content))
        expected = self.model.read(content, None, review or self.model.review)
        self.desk.feeds.read_file(self.feed, "tests", file, "sent", review).result(30)
        assert summary(self.desk, "list").last_poll.result == expected

    def take(self) -> None:
        if self.tried(self.desk.feeds.take, possible=self.model.waiting is not None):
            self.model.count(self.model.waiting)

    def drop(self) -> None:
        if self.tried(self.desk.feeds.drop, possible=self.model.waiting is not None):
            self.model.waiting = None

    def back(self) -> None:
        model = self.model
        earlier = model.replaced.get(model.number) if model.number is not None else None
        if earlier is not None and earlier not in sorted(model.replaced)[-KEPT_GENERATIONS:]:
            return  # its contents may be gone
        if self.tried(self.desk.feeds.go_back, possible=earlier is not None):
            model.number, model.waiting = earlier, None

    def resume(self) -> None:
        self.desk.feeds.resume(self.feed)
        self.model.etag = None

    def mean_otherwise(self) -> None:
        self.model.meaning = self.chance.choice(MEANINGS)
        self.configure()

    def review_or_not(self) -> None:
        self.model.review = not self.model.review
        self.configure()

    # --- what must be so ---

    @property
    def feed(self) -> Feed:
        return self.desk.snapshot.estate.feeds[0]

    def tried(self, deed, possible: bool) -> bool:
        """Do something; it is refused exactly where it is not possible."""
        try:
            deed(self.feed)
        except Problem:
            assert not possible
            return False
        assert possible
        return True

    def look(self) -> None:
        found, model = summary(self.desk, "list"), self.model
        assert (found.in_force.number if found.in_force else None) == model.number
        assert (found.waiting.number if found.waiting else None) == model.waiting
        if model.number is not None:
            entries = model.generations[model.number].entries
            assert {host: categories(self.desk, host) for host in HOSTS} == {
                host: (entries.get(host, "uncategorised"),) for host in HOSTS
            }
        with self.desk.store.reading() as connection:
            manifests = [row[0] for row in connection.execute("SELECT manifest FROM class")]
        for manifest in manifests:
            assert open_manifest(manifest, self.desk.public_key).index == self.desk.index.digest


STEPS = ("poll", "poll", "poll", "send", "take", "drop", "back", "resume", "mean_otherwise", "review_or_not")


@pytest.mark.parametrize("seed", range(8))
def test_after_every_step_of_a_feeds_life_what_must_count_counts(tmp_path, seed):
    chance, source = random.Random(seed), Source()
    try:
        with desk_at(tmp_path, NOON) as (desk, _clock):
            enrol(desk, "machine-1")
            walk = Walk(desk, source, chance)
            for _ in range(30):
                getattr(walk, chance.choice(STEPS))()
                walk.look()
        with desk_at(tmp_path, NOON) as (desk, _clock):
            walk.desk = desk
            walk.look()
    finally:
        source.close()
