"""Walks through a feed's life at random, beside a model of a few lines that says what must count after each step."""

from __future__ import annotations

import json
import random
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import UTC, datetime
from urllib.parse import parse_qs, urlsplit

import pytest

from portero.core.nouns.feed import Feed
from portero.core.nouns.ruleset import Ruleset
from portero.formats.manifests import open_manifest
from portero.service.feeds.holdings import KEPT_GENERATIONS
from portero.service.keepers import Keepers
from portero.service.problems import Refusal
from service import standins
from service.standins import Source, configure, keepers_at, poll, summary, text
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

    def __init__(self, keepers: Keepers, source: Source, chance: random.Random) -> None:
        self.keepers, self.source, self.chance, self.model = keepers, source, chance, Model()
        self.configure()

    def configure(self) -> None:
        given = {"kind": "categories", "format": "csv", "address": f"{self.source.url}/l", "private_network": True}
        mapping = {"betting": [self.model.meaning]}
        configure(
            self.keepers, Feed.model_validate({"key": "list", **given, "mapping": mapping, "review": self.model.review})
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
        assert poll(self.keepers, "list").last_poll.result == expected

    def send(self) -> None:
        content, review = self.chance.randrange(len(CONTENTS)), self.chance.random() < 0.3
        file = self.keepers.holdings.artefacts.begin()
        file.write_text(self.lines(content))
        expected = self.model.read(content, None, review or self.model.review)
        self.keepers.feeds.read_file(self.feed, "tests", file, "sent", review).result(30)
        assert summary(self.keepers, "list").last_poll.result == expected

    def take(self) -> None:
        if self.tried(self.keepers.feeds.take, possible=self.model.waiting is not None):
            self.model.count(self.model.waiting)

    def drop(self) -> None:
        if self.tried(self.keepers.feeds.drop, possible=self.model.waiting is not None):
            self.model.waiting = None

    def back(self) -> None:
        model = self.model
        earlier = model.replaced.get(model.number) if model.number is not None else None
        if earlier is not None and earlier not in sorted(model.replaced)[-KEPT_GENERATIONS:]:
            return  # its contents may be gone
        if self.tried(self.keepers.feeds.go_back, possible=earlier is not None):
            model.number, model.waiting = earlier, None

    def resume(self) -> None:
        self.keepers.feeds.resume(self.feed)
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
        return self.keepers.estate.snapshot.estate.feeds[0]

    def tried(self, deed, possible: bool) -> bool:
        """Do something; it is refused exactly where it is not possible."""
        try:
            deed(self.feed)
        except Refusal:
            assert not possible
            return False
        assert possible
        return True

    def look(self) -> None:
        found, model = summary(self.keepers, "list"), self.model
        assert (found.in_force.number if found.in_force else None) == model.number
        assert (found.waiting.number if found.waiting else None) == model.waiting
        if model.number is not None:
            entries = model.generations[model.number].entries
            assert {host: categories(self.keepers, host) for host in HOSTS} == {
                host: (entries.get(host, "uncategorised"),) for host in HOSTS
            }
        with self.keepers.store.reading() as connection:
            manifests = [row[0] for row in connection.execute("SELECT manifest FROM class")]
        for manifest in manifests:
            assert open_manifest(manifest, self.keepers.public_key).index == self.keepers.holdings.index_in_force.digest


STEPS = ("poll", "poll", "poll", "send", "take", "drop", "back", "resume", "mean_otherwise", "review_or_not")


@pytest.mark.parametrize("seed", range(8))
def test_after_every_step_of_a_feeds_life_what_must_count_counts(tmp_path, seed):
    chance, source = random.Random(seed), Source()
    try:
        with keepers_at(tmp_path, NOON) as (keepers, _clock):
            enrol(keepers, "machine-1")
            walk = Walk(keepers, source, chance)
            for _ in range(30):
                getattr(walk, chance.choice(STEPS))()
                walk.look()
        with keepers_at(tmp_path, NOON) as (keepers, _clock):
            walk.keepers = keepers
            walk.look()
    finally:
        source.close()


# --- a collection ---


class Collection:
    """A TAXII collection as its server keeps it: objects with when each was added, in pages of two."""

    def __init__(self) -> None:
        self.added: list[tuple[str, dict[str, object]]] = []

    def put(self, number: int, **parts: object) -> None:
        """Add a newer version of an object."""
        when = f"2026-11-20T00:{len(self.added) // 60:02}:{len(self.added) % 60:02}Z"
        one = standins.stix(f"[domain-name:value = 'h{number % 3}.example']", **parts)
        version = f"2026-11-{10 + len(self.added) // 24:02}T{len(self.added) % 24:02}:00:00Z"
        self.added.append(
            (when, {**one, "id": f"indicator--00000000-0000-4000-8000-{number:012}", "modified": version})
        )

    def answer(self, to) -> None:
        asked = parse_qs(urlsplit(to.path).query)
        after, begin = asked.get("added_after", [""])[0], int(asked.get("next", ["0"])[0])
        newest = {one["id"]: (when, one) for when, one in self.added if when > after}
        found = sorted(newest.values(), key=lambda entry: entry[0])
        page, more = found[begin : begin + 2], len(found) > begin + 2
        document = {"objects": [one for _, one in page], "more": more, **({"next": str(begin + 2)} if more else {})}
        headers = {"X_TAXII_Date_Added_Last": page[-1][0]} if page else {}
        standins.body(json.dumps(document).encode(), standins.TAXII, **headers)(to)

    def stands(self) -> set[str]:
        """The hosts that some object names in its newest version, and that is not called back."""
        newest = {one["id"]: one for _, one in self.added}
        return {str(one["pattern"]).split("'")[1] for one in newest.values() if not one.get("revoked")}


@pytest.mark.parametrize("seed", range(8))
def test_what_is_read_of_a_collection_bit_by_bit_is_what_it_holds(tmp_path, seed):
    chance, source, collection = random.Random(seed), Source(), Collection()
    source.answer = collection.answer
    given = {
        "kind": "indicators",
        "format": "taxii",
        "private_network": True,
        "address": f"{source.url}/collections/1/",
    }

    def set_up(**more: object) -> None:
        watch = Ruleset(key="watch", kind="indicator", feed="watch")
        feed = Feed.model_validate({"key": "watch", "action": "block", **given, **more})
        configure(keepers, feed, rulesets=(watch,))

    read: dict[int, tuple[set[str], str]] = {}
    try:
        with keepers_at(tmp_path, NOON) as (keepers, _clock):
            set_up()
            for _ in range(25):
                for _ in range(chance.randint(0, 3)):
                    parts = {"revoked": True} if chance.random() < 0.3 else {}
                    collection.put(chance.randrange(6), **parts)
                action = keepers.estate.snapshot.estate.feeds[0].action
                if chance.random() < 0.15:
                    action = "warn" if action == "block" else "block"
                set_up(review=chance.random() < 0.3, action=action)
                found = poll(keepers, "watch")
                assert found.last_poll.result != "failed", found.last_poll.problem
                newest = found.waiting or found.in_force
                if newest is not None and found.last_poll.result != "unchanged":
                    read[newest.number] = collection.stands(), str(action)
                feed = keepers.estate.snapshot.estate.feeds[0]
                for deed in (keepers.feeds.take, keepers.feeds.drop, keepers.feeds.go_back, keepers.feeds.resume):
                    if chance.random() < 0.2:
                        with suppress(Refusal):
                            deed(feed)
                in_force = summary(keepers, "watch").in_force
                if in_force is not None:
                    hosts, word = read[in_force.number]
                    rules = keepers.estate.snapshot.estate.ruleset_by_key["watch"].rules
                    assert {str(rule.host) for rule in rules} == hosts
                    assert {rule.action.value for rule in rules} <= {word}
    finally:
        source.close()
