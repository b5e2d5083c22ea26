"""Feeds: what they bring; and sources that are broken or mean harm: what was in force stays, and why is told."""

from __future__ import annotations

import gzip
import threading

import pytest

from conftest import eventually
from portero.core.nouns.estate import Estate
from portero.core.nouns.feed import Feed, FeedCredential
from portero.core.nouns.settings import Settings
from portero.service import estate
from portero.service.feeds.fetching import Bounds
from portero.service.problems import Refusal
from portero.store import feeds
from portero.store.database import StoreFull
from service import standins
from service.standins import NOON, Source, categories, configure, keepers_at, listing, poll, summary, text, to_do

DAY = 86_400.0


@pytest.fixture
def source():
    made = Source()
    yield made
    made.close()


@pytest.fixture
def keepers(tmp_path):
    with keepers_at(tmp_path, NOON) as (made, _clock):
        yield made


def all_done(keepers) -> None:
    """Wait until nothing is read any more."""
    eventually(lambda: not keepers.feeds._progress, timeout=30)
    keepers.feeds._indexing.submit(lambda: None).result(30)


def test_a_feed_is_read_mapped_and_looked_up(keepers, source):
    configure(keepers, listing(source, mapping={"betting": ["gambling"], "junk": []}))
    source.answer = text(
        "host,categories\nbet.example,Betting\nplay.example,games;betting\nx.example,junk\nnot a host,games\n"
        "y.example,nautical\nbet.example,games\n"
    )
    found = poll(keepers, "list")
    assert found.last_poll is not None
    assert (found.last_poll.result, found.progress) == ("new", None)
    assert (found.in_force.entries, found.in_force.lines, found.in_force.duplicates, found.in_force.bad) == (2, 7, 1, 1)
    assert found.in_force.unknown_words == {"nautical": 1}
    assert [(line.line, line.problem[:12]) for line in found.in_force.bad_lines] == [(5, "“not a host”")]
    told = keepers.lookups.host("http://www.bet.example/page")
    assert (told.categories, told.entry, told.source) == (("gambling", "games"), "bet.example", "index")
    assert [(feed.feed, feed.entry, str(feed.since), feed.counts) for feed in told.feeds] == [
        ("list", "bet.example", "2026-11-25", True)
    ]
    assert categories(keepers, "x.example") == ("uncategorised",)
    assert categories(keepers, "lucky-reef.example") == ("uncategorised",), "the index that ships is gone"


def test_since_stays_with_what_is_still_said_and_the_difference_is_small(keepers, source):
    configure(keepers, listing(source))
    source.answer = text("".join(f"h{n}.example,games\n" for n in range(3000)))
    first = poll(keepers, "list")
    base = keepers.holdings.held.kept.parts
    keepers.now.at += 3 * DAY
    source.answer = text(
        "".join(f"h{n}.example,games\n" for n in range(10, 3000)) + "h5.example,music\nnew.example,sport\n"
    )
    second = poll(keepers, "list")
    assert (second.in_force.added, second.in_force.changed, second.in_force.removed) == (1, 1, 9)
    assert first.in_force.number + 1 == second.in_force.number
    assert str(keepers.lookups.host("h20.example").feeds[0].since) == "2026-11-25"
    assert str(keepers.lookups.host("h5.example").feeds[0].since) == "2026-11-28"
    kept = keepers.holdings.held.kept.parts
    assert kept.base == base.base, "machines keep the base that they have"
    assert kept.difference.hosts == 11
    assert kept.difference.bytes < 5_000
    assert (categories(keepers, "h3.example"), categories(keepers, "h5.example")) == (("uncategorised",), ("music",))
    assert kept.hosts == 2992


def test_a_new_base_is_made_where_most_is_different(keepers, source):
    configure(keepers, listing(source))
    source.answer = text("".join(f"h{n}.example,games\n" for n in range(6000)))
    poll(keepers, "list")
    base = keepers.holdings.held.kept.parts.base
    source.answer = text("".join(f"h{n}.example,music\n" for n in range(6000)))
    poll(keepers, "list")
    assert keepers.holdings.held.kept.parts.base != base
    assert keepers.holdings.held.kept.parts.difference is None
    assert categories(keepers, "h1.example") == ("music",)


def test_what_is_newly_registered_is_so_for_the_days_that_the_settings_say(keepers, source):
    configure(keepers, listing(source), settings=Settings(newly_registered_days=10))
    source.answer = text("young.example,games,2026-11-20\nbare.example,,2026-11-24\nold.example,games,2020-01-01\n")
    poll(keepers, "list")
    assert categories(keepers, "young.example") == ("games", "newly-registered")
    assert categories(keepers, "bare.example") == ("newly-registered",)
    assert categories(keepers, "old.example") == ("games",)
    assert keepers.lookups.host("young.example").newly_registered_days == 10
    before = keepers.holdings.index_in_force.digest
    keepers.now.at += 5 * DAY
    keepers.feeds.poll_due()
    all_done(keepers)
    assert keepers.holdings.index_in_force.digest != before, "a day that passes makes the index anew"
    assert categories(keepers, "young.example") == ("games",)
    assert categories(keepers, "bare.example") == ("newly-registered",)
    keepers.estate.change(
        lambda snapshot: snapshot.estate.replacing(settings=Settings(newly_registered_days=3)), by="tests"
    )
    keepers.feeds.poll_due()
    all_done(keepers)
    assert categories(keepers, "bare.example") == ("uncategorised",)


def test_feeds_are_joined_and_one_that_is_removed_counts_no_more(keepers, source):
    both = listing(source), listing(source, "relays", format="host-list", categories=["anonymisers"])
    configure(keepers, *both)
    source.answer = text("a.example,games\n")
    poll(keepers, "list")
    source.answer = text("a.example\n")
    poll(keepers, "relays")
    assert categories(keepers, "a.example") == ("anonymisers", "games")
    configure(keepers, both[0])
    keepers.feeds.poll_due()
    all_done(keepers)
    assert categories(keepers, "a.example") == ("games",)


def test_a_feed_that_is_removed_is_forgotten_and_its_kind_never_changes(keepers, source):
    with_watch(keepers, source)
    source.answer = standins.envelope("[domain-name:value = 'a.example']", "[file:hashes.MD5 = 'cd']")
    poll(keepers, "watch")
    other = {"kind": "categories", "format": "csv", "action": None}
    with pytest.raises(Refusal, match="brings indicators, and that never changes"):
        configure(keepers, Feed.model_validate({**collection(source).model_dump(), **other}))
    configure(keepers)
    assert (rules(keepers), keepers.estate.snapshot.contents) == ([], {})
    configure(keepers, listing(source, "watch"))
    found = summary(keepers, "watch")
    assert (found.in_force, found.last_poll) == (None, None)
    source.answer = text("a.example,games\n")
    assert poll(keepers, "watch").in_force.number == 1
    assert categories(keepers, "a.example") == ("games",)


# --- waiting, going back ---


def test_a_generation_waits_where_it_is_to_be_looked_at(keepers, source):
    configure(keepers, listing(source, review=True))
    source.answer = text("a.example,games\n")
    assert poll(keepers, "list").waiting.number == 1
    assert [(item.kind, item.sentence, item.link) for item in to_do(keepers).items if item.kind == "feed"] == [
        ("feed", "Generation 1 of the feed list waits to be looked at.", "/controls/feeds/list")
    ]
    assert categories(keepers, "a.example") == ("uncategorised",)
    feed = keepers.estate.snapshot.estate.feeds[0]
    compared = keepers.comparisons.compare(feed, 1)
    assert (compared.against, compared.added, compared.transitions[0].examples) == (None, 1, ("a.example",))
    keepers.feeds.take(feed)
    assert categories(keepers, "a.example") == ("games",)
    source.answer = text("b.example,games\n")
    poll(keepers, "list")
    keepers.feeds.drop(feed)
    assert (summary(keepers, "list").waiting, categories(keepers, "a.example")) == (None, ("games",))
    with pytest.raises(Refusal, match="No generation of “list” waits"):
        keepers.feeds.take(feed)


def test_what_shrinks_by_half_waits_by_itself(keepers, source):
    configure(keepers, listing(source))
    source.answer = text("".join(f"h{n}.example,games\n" for n in range(200)))
    poll(keepers, "list")
    source.answer = text("".join(f"h{n}.example,games\n" for n in range(90)))
    found = poll(keepers, "list")
    assert (found.last_poll.result, found.in_force.entries, found.waiting.entries) == ("waiting", 200, 90)
    assert categories(keepers, "h150.example") == ("games",)


def test_going_back_lets_the_schedule_rest(keepers, source):
    configure(keepers, listing(source, every_minutes=60))
    for line in ("a.example,games\n", "a.example,music\n"):
        source.answer = text(line)
        poll(keepers, "list")
    feed = keepers.estate.snapshot.estate.feeds[0]
    keepers.feeds.go_back(feed)
    found = summary(keepers, "list")
    assert (found.in_force.number, found.held, found.next_poll) == (1, True, None)
    assert categories(keepers, "a.example") == ("games",)
    asked = len(source.asked)
    keepers.now.at += DAY
    keepers.feeds.poll_due()
    all_done(keepers)
    assert len(source.asked) == asked
    with pytest.raises(Refusal, match="no earlier generation"):
        keepers.feeds.go_back(feed)
    keepers.feeds.resume(feed)
    keepers.feeds.poll_due()
    all_done(keepers)
    assert (categories(keepers, "a.example"), summary(keepers, "list").held) == (("music",), False)


def test_going_back_goes_to_what_counted_before_whatever_was_left_out_or_put_back(keepers, source):
    configure(keepers, listing(source))
    feed = keepers.estate.snapshot.estate.feeds[0]

    def brings(category: str, review: bool = False) -> None:
        configure(keepers, listing(source, review=review))
        source.answer = text(f"a.example,{category}\n")
        poll(keepers, "list")

    brings("games")
    brings("music", review=True)
    keepers.feeds.drop(feed)
    brings("news")
    keepers.feeds.go_back(feed)
    assert categories(keepers, "a.example") == ("games",), "what was left out is not gone back to"
    keepers.feeds.resume(feed)
    brings("sport")
    keepers.feeds.go_back(feed)
    assert categories(keepers, "a.example") == ("games",), "nor what was put back"
    states = {generation.number: generation.state for generation in generations(keepers)}
    assert states == {1: "in force", 2: "left out", 3: "kept", 4: "kept"}
    told = {number: keepers.comparisons.compare(feed, number) for number in states}
    assert {number: one.against for number, one in told.items()} == {1: None, 2: 1, 3: 1, 4: 1}
    assert [transition.before for transition in told[4].transitions] == [("games",)]


def test_what_is_kept_of_old_generations_is_bounded(keepers, source):
    configure(keepers, listing(source))
    for number in range(9):
        source.answer = text(f"h{number}.example,games\n")
        poll(keepers, "list")
    states = [feeds_state.state for feeds_state in generations(keepers)]
    assert states == ["in force", *["kept"] * 4, *["gone"] * 4]
    assert len(list(keepers.holdings.artefacts.folder.iterdir())) <= 5 + 2


def generations(keepers):
    from portero.service.routes.feeds import _state

    with keepers.store.reading() as connection:
        status, found = feeds.status_of(connection, "list"), feeds.generations(connection, "list")
    return [_state(keepers, status, one) for one in found]


def test_an_etag_saves_reading_again(keepers, source):
    configure(keepers, listing(source))
    source.answer = text("a.example,games\n", ETag='"one"')
    poll(keepers, "list")
    source.answer = standins.body(b"", status=304)
    assert poll(keepers, "list").last_poll.result == "unchanged"
    assert source.asked[-1][1]["If-None-Match"] == '"one"'
    source.answer = text("a.example,games\n")
    assert poll(keepers, "list").last_poll.result == "unchanged", "the same file is no new generation"
    file = keepers.holdings.artefacts.begin()
    file.write_bytes(b"sent.example,music\n")
    keepers.feeds.read_file(keepers.estate.snapshot.estate.feeds[0], "tests", file, "sent.csv", review=False).result(30)
    assert categories(keepers, "sent.example") == ("music",)
    source.answer = text("a.example,games\n", ETag='"one"')
    poll(keepers, "list")
    assert "If-None-Match" not in source.asked[-1][1], "after a file the address is read again, whatever it says"
    assert categories(keepers, "sent.example") == ("uncategorised",)


# --- a feed that is changed ---


def test_what_a_changed_feed_makes_of_its_words_counts_at_the_next_reading(keepers, source):
    configure(keepers, listing(source, mapping={"betting": ["gambling"]}))
    source.answer = text("bet.example,betting\n", ETag='"one"')
    poll(keepers, "list")
    configure(keepers, listing(source, name="Another name", mapping={"betting": ["gambling"]}))
    poll(keepers, "list")
    assert "If-None-Match" in source.asked[-1][1], "its name has no part in what it brings"
    configure(keepers, listing(source, mapping={"betting": ["games"]}))
    assert poll(keepers, "list").last_poll.result == "new"
    assert "If-None-Match" not in source.asked[-1][1]
    assert categories(keepers, "bet.example") == ("games",)
    poll(keepers, "list")
    assert "If-None-Match" in source.asked[-1][1]


def test_a_collection_is_read_from_its_beginning_where_its_indicators_would_be_others(keepers, source):
    with_watch(keepers, source)
    source.answer = standins.envelope(
        "[domain-name:value = 'a.example']", X_TAXII_Date_Added_Last="2026-11-20T00:00:00Z"
    )
    poll(keepers, "watch")
    with_watch(keepers, source, action="warn")
    assert poll(keepers, "watch").last_poll.result == "new"
    assert "added_after" not in source.asked[-1][0]
    assert rules(keepers) == ["warn host a.example"]
    source.answer = standins.envelope(
        "[domain-name:value = 'b.example']", X_TAXII_Date_Added_Last="2026-11-21T00:00:00Z"
    )
    poll(keepers, "watch")
    assert "added_after=2026-11-20" in source.asked[-1][0]
    assert rules(keepers) == ["warn host a.example", "warn host b.example"]
    with_watch(keepers, source, action="warn", address=f"{source.url}/api/collections/another/")
    source.answer = standins.envelope("[domain-name:value = 'c.example']")
    found = poll(keepers, "watch")
    assert rules(keepers) == ["warn host c.example"], "nothing of the other collection stays"
    assert (found.in_force.added, found.in_force.removed) == (1, 2)


def test_a_feed_that_is_changed_while_it_is_read_is_not_put_in_force(keepers, source):
    configure(keepers, listing(source, mapping={"betting": ["gambling"]}))
    source.answer = text("bet.example,betting\n")
    poll(keepers, "list")

    def meanwhile(to) -> None:
        configure(keepers, listing(source, mapping={"betting": ["games"]}))
        text("bet.example,betting\nnew.example,betting\n")(to)

    source.answer = meanwhile
    assert "was changed while it was read" in in_force_stays(keepers, source)
    assert categories(keepers, "new.example") == ("uncategorised",)


def test_a_feed_that_is_removed_while_it_is_read_leaves_nothing(keepers, source):
    configure(keepers, listing(source))

    def meanwhile(to) -> None:
        configure(keepers)
        text("a.example,games\n")(to)

    source.answer = meanwhile
    keepers.feeds.poll(listing(source), "tests").result(30)
    with keepers.store.reading() as connection:
        assert feeds.statuses(connection) == {}
        assert feeds.generations(connection, "list") == []
    configure(keepers, listing(source))
    assert (summary(keepers, "list").in_force, summary(keepers, "list").last_poll) == (None, None)
    assert categories(keepers, "a.example") == ("uncategorised",)


def test_the_same_that_waits_already_is_no_further_generation(keepers, source):
    configure(keepers, listing(source, review=True))
    source.answer = text("a.example,games\n")
    assert [poll(keepers, "list").waiting.number for _ in range(2)] == [1, 1]
    keepers.feeds.take(keepers.estate.snapshot.estate.feeds[0])
    source.answer = text("b.example,games\n")
    assert poll(keepers, "list").waiting.number == 2
    source.answer = text("a.example,games\n")
    found = poll(keepers, "list")
    assert (found.last_poll.result, found.waiting) == ("unchanged", None), "the source has taken it back"


def test_a_credential_goes_to_the_source_and_is_never_told(keepers, source):
    configure(keepers, listing(source))
    source.answer = text("a.example,games\n")
    for given, sent in (
        ({"user": "portero", "password": "s3cret"}, "Basic cG9ydGVybzpzM2NyZXQ="),
        ({"token": "t0ken"}, "Bearer t0ken"),
    ):
        with keepers.store.writing() as connection:
            feeds.note(connection, "list", credential=FeedCredential(**given).model_dump_json())
        found = poll(keepers, "list")
        assert source.asked[-1][1]["Authorization"] == sent
        assert found.credential
        assert "s3cret" not in found.model_dump_json()
        assert "t0ken" not in found.model_dump_json()


# --- sources that are broken, or mean harm ---


def in_force_stays(keepers, source, key: str = "list") -> str:
    """Fetch the feed, which fails; the sentence that says why."""
    before = keepers.holdings.index_in_force.digest, keepers.estate.snapshot.contents
    found = poll(keepers, key)
    assert found.last_poll.result == "failed"
    assert (found.in_force.number, found.waiting) == (1, None)
    assert (keepers.holdings.index_in_force.digest, keepers.estate.snapshot.contents) == before
    assert not list(keepers.holdings.artefacts.folder.glob("*.begun*")), "nothing half-made is left"
    return found.last_poll.problem


@pytest.fixture
def broken(keepers, source):
    """A feed with a generation in force, whose source is about to break."""
    configure(keepers, listing(source))
    source.answer = text("a.example,games\n")
    poll(keepers, "list")
    yield lambda answer: (setattr(source, "answer", answer), in_force_stays(keepers, source))[1]
    assert categories(keepers, "a.example") == ("games",)


def test_a_source_that_breaks_off(broken):
    assert "broke off" in broken(standins.cut_off(1000, b"b.example,games\n"))


def test_a_source_that_hangs(broken):
    let_go = threading.Event()
    assert "said nothing for 2 seconds" in broken(standins.hang(let_go))
    let_go.set()


def test_a_source_that_floods(broken):
    assert "more than 5 MB" in broken(standins.flood())


def test_a_source_that_sends_a_bomb(broken, monkeypatch):
    monkeypatch.setattr("portero.formats.feed_files.MAX_BYTES", 3_000_000)
    monkeypatch.setattr("portero.formats.feed_files.unpacked.__defaults__", (3_000_000,))
    assert "MB unpacked" in broken(standins.body(gzip.compress(b"b.example,games\n" * 1_000_000)))


def test_a_packed_file_that_was_cut_off(broken):
    packed = gzip.compress(b"b.example,games\n" * 1000)
    assert "was cut off" in broken(standins.body(packed[:-9]))


def test_a_source_that_redirects_elsewhere(broken):
    assert "redirects to evil.example, which is not where" in broken(standins.redirect("http://evil.example/list.csv"))
    assert "redirects to what is no address" in broken(standins.redirect("file:///etc/passwd"))


def test_a_source_that_redirects_in_circles(broken, source):
    assert "redirects more than 5 times" in broken(standins.redirect(source.url + "/list.csv"))


def test_a_source_that_answers_with_an_error(broken):
    assert "answers 500" in broken(standins.body(b"", status=500))


def test_a_page_in_place_of_a_list(broken):
    assert (
        "nothing in it could be used"
        in broken(standins.body(b"<html>\n<p>Sign in first</p>\n" * 200, "text/html")).lower()
    )


def test_a_file_that_is_mostly_bad_is_not_taken(broken):
    lines = "a.example,games\n" * 50 + "no host at all,games\n" * 300
    assert "most of its lines cannot be used; is it really a csv?" in broken(text(lines)).replace("Most", "most")


def test_a_disk_that_is_full_while_a_generation_is_put_in_force(keepers, source, monkeypatch):
    configure(keepers, listing(source))
    source.answer = text("a.example,games\n")
    poll(keepers, "list")

    def full(*_anything: object) -> None:
        raise StoreFull("the disk is full")

    before = keepers.estate.snapshot.naming
    source.answer = text("b.example,games\n")
    with monkeypatch.context() as patched:
        patched.setattr(estate, "write_plan", full)
        assert in_force_stays(keepers, source) == "The disk is full"
    assert keepers.estate.snapshot.naming == before, "manifests name what is in force"
    assert poll(keepers, "list").last_poll.result == "new"
    assert (categories(keepers, "b.example"), keepers.estate.snapshot.naming.index) == (
        ("games",),
        keepers.holdings.index_in_force.digest,
    )


def test_a_redirect_on_the_same_host_is_followed(keepers, source):
    configure(keepers, listing(source))

    def answer(to):
        (standins.redirect("/moved.csv") if to.path == "/list.csv" else text("a.example,games\n"))(to)

    source.answer = answer
    assert poll(keepers, "list").in_force.entries == 1


def test_a_private_address_is_asked_only_where_that_is_configured(keepers, source):
    configure(keepers, listing(source, private_network=False))
    source.answer = text("a.example,games\n")
    found = poll(keepers, "list")
    assert "is no public address" in found.last_poll.problem
    assert source.asked == []


def test_a_slow_drip_is_given_up(tmp_path, source):
    with keepers_at(tmp_path, NOON, Bounds(2.0, 1.0, 5_000_000)) as (keepers, _):
        configure(keepers, listing(source))
        going = threading.Event()

        def drip(to):
            to.send_response(200)
            to.end_headers()
            while not going.wait(0.05):
                to.wfile.write(b"a.example,games\n")
            to.close_connection = True

        source.answer = drip
        assert "took longer than 1 seconds" in poll(keepers, "list").last_poll.problem
        going.set()


def test_failures_are_tried_again_ever_later(keepers, source):
    configure(keepers, listing(source, every_minutes=600))
    source.answer = standins.body(b"", status=500)
    waits = []
    for _ in range(4):
        found = poll(keepers, "list")
        waits.append(found.next_poll.timestamp() - keepers.now())
    assert waits == [60.0, 120.0, 240.0, 480.0]
    assert "The feed list could not be read" in next(
        item.sentence for item in to_do(keepers).items if item.kind == "feed"
    )
    assert found.last_poll.failures == 4


# --- TAXII ---


def collection(source: Source, **more: object) -> Feed:
    given = {"kind": "indicators", "format": "taxii", "action": "block", "private_network": True}
    return Feed.model_validate({"key": "watch", "address": f"{source.url}/api/collections/one/", **given, **more})


def with_watch(keepers, source, **more: object) -> None:
    document = {
        "rulesets": [
            {"key": "watch", "kind": "indicator", "feed": "watch"},
            {"key": "watch-files", "kind": "startup", "feed": "watch"},
        ],
        "assignments": [{"key": "all", "ruleset": "watch", "to": ["whole-fleet"]}],
    }
    estate = Estate.model_validate(document)
    configure(keepers, collection(source, **more), rulesets=estate.rulesets, assignments=estate.assignments)


def rules(keepers, key: str = "watch") -> list[str]:
    return [f"{rule.action} {rule.selector}" for rule in keepers.estate.snapshot.estate.ruleset_by_key[key].rules]


def test_a_collection_is_read_page_by_page_and_then_only_what_is_new(keepers, source):
    with_watch(keepers, source, lifetime_days=90)
    pages = iter(
        [
            standins.envelope("[domain-name:value = 'a.example']", more=True, next="2"),
            standins.envelope(
                "[url:value = 'http://b.example/x' OR ipv4-addr:value = '203.0.113.7']",
                f"[file:hashes.'SHA-256' = '{'ab' * 32}']",
                "[file:hashes.MD5 = 'cd']",
                **{"X-TAXII-Date-Added-Last": "2026-11-20T00:00:00Z"},
            ),
        ]
    )
    source.answer = lambda to: next(pages)(to)
    found = poll(keepers, "watch")
    assert (found.in_force.entries, found.in_force.aside, found.in_force.bookmark) == (4, 1, "2026-11-20T00:00:00Z")
    assert rules(keepers) == ["block host a.example", "block url b.example/x", "block address 203.0.113.7"]
    assert rules(keepers, "watch-files") == [f"block sha256 {'ab' * 32}"]
    assert source.asked[0][1]["Accept"] == standins.TAXII
    assert "next=2" in source.asked[1][0]
    assert str(keepers.estate.snapshot.estate.ruleset_by_key["watch"].rules[0].valid_until)[:10] == "2027-01-30"
    gone = standins.stix("[domain-name:value = 'a.example']", revoked=True, modified="2026-11-21T00:00:00.000Z")
    new = standins.stix("[domain-name:value = 'c.example']")
    source.answer = standins.body(standins.json.dumps({"objects": [gone, new]}).encode(), standins.TAXII)
    poll(keepers, "watch")
    assert "added_after=2026-11-20" in source.asked[-1][0]
    assert rules(keepers) == ["block url b.example/x", "block address 203.0.113.7", "block host c.example"]
    source.answer = standins.body(b"{}", standins.TAXII)
    assert poll(keepers, "watch").last_poll.result == "unchanged"


@pytest.fixture
def lying(keepers, source):
    with_watch(keepers, source)
    source.answer = standins.envelope("[domain-name:value = 'a.example']")
    poll(keepers, "watch")
    yield lambda answer: (setattr(source, "answer", answer), in_force_stays(keepers, source, "watch"))[1]
    assert rules(keepers) == ["block host a.example"]


B = "[domain-name:value = 'b.example']"


def test_a_poll_that_is_cut_off_midway_changes_nothing(lying):
    pages = iter([standins.envelope(B, more=True, next="2"), standins.cut_off(5000, b'{"objects": [', standins.TAXII)])
    assert "broke off" in lying(lambda to: next(pages)(to))


def test_a_server_that_lies_about_its_pages(lying):
    assert "more, and does not say where" in lying(standins.envelope(B, more=True))
    assert "lead back to where they were" in lying(standins.envelope(B, more=True, next="2"))
    assert "more, and sends none of it" in lying(standins.envelope(more=True, next="2"))
    odd = b'{"objects": [{"type": "indicator", "id": ["x"], "modified": {}}], "more": true, "next": "2"}'
    assert "lead back to where they were" in lying(standins.body(odd, standins.TAXII))


def test_a_server_that_speaks_something_else(lying):
    assert "does not speak TAXII" in lying(standins.body(b"{}", "application/json"))
    assert "does not read as a TAXII envelope" in lying(standins.body(b'{"objects": 5}', standins.TAXII))
    assert "does not read as a TAXII envelope" in lying(standins.body(b"[" * 50_000, standins.TAXII))
    assert "no collection at this address" in lying(standins.body(b"", status=404))
    assert "does not let this feed in" in lying(standins.body(b"", status=401))


def test_a_server_that_floods_hangs_or_leads_elsewhere(lying):
    let_go = threading.Event()
    assert "more than 5 MB" in lying(standins.flood(standins.TAXII))
    assert "redirects to evil.example" in lying(standins.redirect("http://evil.example/"))
    assert "said nothing for 2 seconds" in lying(standins.hang(let_go))
    let_go.set()


# --- what feeds bring, and what is authored ---


def test_what_feeds_bring_is_in_force_and_not_in_the_document(keepers, source):
    with_watch(keepers, source)
    revision = keepers.estate.snapshot.revision
    source.answer = standins.envelope("[domain-name:value = 'a.example']")
    poll(keepers, "watch")
    assert keepers.estate.snapshot.revision == revision, "nobody has authored anything"
    assert keepers.estate.snapshot.authored.ruleset_by_key["watch"].rules == ()
    keepers.estate.change(
        lambda snapshot: snapshot.estate.replacing(rulesets=tuple(
            ruleset.model_copy(update={"name": "Harbour watch", "rules": ()}) for ruleset in snapshot.estate.rulesets
        )),
         by="tests",
    )  # fmt: skip
    assert rules(keepers) == ["block host a.example"], "who saves a ruleset without them does not lose them"
    assert keepers.estate.at(revision).ruleset_by_key["watch"].name is None
    assert len(keepers.estate.at(revision).ruleset_by_key["watch"].rules) == 1
    with keepers.store.reading() as connection:
        stored = connection.execute("SELECT body FROM authored WHERE noun = 'ruleset' AND key = 'watch'").fetchone()[0]
        written = connection.execute("SELECT group_concat(after) FROM change").fetchone()[0]
    assert "a.example" not in stored + written


def test_what_is_in_force_is_there_after_a_restart(tmp_path, source):
    with keepers_at(tmp_path, NOON) as (keepers, _):
        with_watch(keepers, source)
        source.answer = standins.envelope("[domain-name:value = 'a.example']")
        poll(keepers, "watch")
        index, generations = keepers.holdings.index_in_force.digest, keepers.estate.snapshot.naming.generations
    with keepers_at(tmp_path, NOON) as (keepers, _):
        assert rules(keepers) == ["block host a.example"]
        assert (keepers.holdings.index_in_force.digest, keepers.estate.snapshot.naming.generations) == (
            index,
            generations,
        )
        assert generations == (("watch", 1),)


def test_a_generation_that_is_too_much_for_machines_is_not_taken(keepers, source, tmp_path):
    with_watch(keepers, source)
    keepers.estate.change(
        lambda snapshot: snapshot.estate.replacing(settings=Settings(indicator_capacity=1)), by="tests"
    )
    enrol(keepers, "laptop-1")
    source.answer = standins.envelope("[domain-name:value = 'a.example' OR domain-name:value = 'b.example']")
    found = poll(keepers, "watch")
    assert (
        "would have 2 indicators to carry (0 written by hand, 2 from feeds), and may have 1" in found.last_poll.problem
    )
    assert (rules(keepers), found.in_force) == ([], None)
    keepers.estate.change(
        lambda snapshot: snapshot.estate.replacing(settings=Settings(indicator_capacity=9)), by="tests"
    )
    assert poll(keepers, "watch").last_poll.result == "new"
    assert len(rules(keepers)) == 2


def enrol(keepers, hostname: str) -> None:
    from portero.core.nouns.device import Facts
    from portero.core.nouns.enrolment import NewEnrolmentCode

    code = keepers.enrolment.make_code(NewEnrolmentCode(), "tests").code
    keepers.enrolment.join(code, Facts(hostname=hostname))
