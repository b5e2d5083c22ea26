"""Ways past the guard of feeds: other addresses, origins, networks; and sources that are slow on purpose."""

from __future__ import annotations

import socket
import threading
import time

import pytest

from portero.core.nouns.feed import FeedCredential
from portero.service.feeds.fetching import Bounds, is_public
from portero.store import feeds
from service import standins
from service.standins import NOON, categories, configure, keepers_at, listing, poll, text


@pytest.fixture
def source():
    made = standins.Source()
    yield made
    made.close()


@pytest.fixture
def keepers(tmp_path):
    with keepers_at(tmp_path, NOON) as (made, _clock):
        yield made


# --- ways past the guard ---


def test_a_redirect_that_two_parsers_would_read_differently_leads_nowhere(keepers, source):
    other = standins.Source()
    other.answer = text("b.example,games\n")
    host = source.url.removeprefix("http://")
    configure(keepers, listing(source))
    forms = [
        rf"{source.url}\@{other.url.removeprefix('http://')}/",
        f"{other.url}/#@{host}/",
        f"http://{host}@{other.url.removeprefix('http://')}/",
        f"//{other.url.removeprefix('http://')}/",
        rf"\\{other.url.removeprefix('http://')}\list.csv",
        f"http:\t//{other.url.removeprefix('http://')}/",
    ]
    for form in forms:
        asked = iter((standins.redirect(form), text("a.example,games\n")))
        source.answer = lambda to, asked=asked: next(asked)(to)
        poll(keepers, "list")
    assert other.asked == []
    other.close()


def test_a_credential_goes_to_the_configured_origin_only(keepers, source):
    other = standins.Source()
    other.answer = text("b.example,games\n")
    configure(keepers, listing(source))
    with keepers.store.writing() as connection:
        feeds.note(connection, "list", credential=FeedCredential(user="we", password="secret").model_dump_json())
    source.answer = standins.redirect(f"{other.url}/list.csv")
    assert "which is not where this feed" in poll(keepers, "list").last_poll.problem
    assert [bool(headers.get("Authorization")) for _, headers in source.asked] == [True]
    assert other.asked == []
    other.close()


PRIVATE = ["127.0.0.1", "10.0.0.1", "169.254.1.1", "::1", "fe80::1", "fc00::1", "fec0::1", "ff0e::1", "224.0.0.1"]
PRIVATE += ["64:ff9b::7f00:1", "64:ff9b:1::a00:1", "2002:7f00:1::", "2001:0:4136::1", "::ffff:127.0.0.1", "0.0.0.0"]
PRIVATE += ["192.0.2.1", "100.64.0.1", "255.255.255.255", "::"]


@pytest.mark.parametrize("address", PRIVATE)
def test_what_is_no_public_address(address):
    assert not is_public(address)


# of ranges that were given back, and that nobody uses
@pytest.mark.parametrize("address", ["192.88.99.1", "3ffe::1"])
def test_what_is_a_public_address(address):
    assert is_public(address)


def test_a_name_is_resolved_once_and_the_connection_goes_there(keepers, source, monkeypatch):
    looked: list[str] = []
    real = socket.getaddrinfo

    def lookup(host, port, *rest, **more):
        if host != "list.example":
            return real(host, port, *rest, **more)
        looked.append(host)
        # the second time it would be somewhere else
        address = "127.0.0.1" if len(looked) == 1 else "127.0.0.2"
        return [(socket.AF_INET, socket.SOCK_STREAM, 6, "", (address, port))]

    monkeypatch.setattr(socket, "getaddrinfo", lookup)
    port = source.url.rpartition(":")[2]
    configure(keepers, listing(source, address=f"http://list.example:{port}/list.csv"))
    source.answer = text("a.example,games\n")
    assert poll(keepers, "list").in_force.entries == 1
    assert looked == ["list.example"]
    assert source.asked[0][1]["Host"] == f"list.example:{port}"


# --- slow ones ---


def test_headers_that_come_letter_by_letter_are_given_up_in_time(tmp_path, source):
    with keepers_at(tmp_path, NOON, Bounds(2.0, 1.0, 5_000_000)) as (keepers, _):
        configure(keepers, listing(source))

        def drip(to):
            for letter in b"HTTP/1.1 200 OK\r\nX-Slow: " + b"x" * 500:
                to.wfile.write(bytes((letter,)))
                to.wfile.flush()
                time.sleep(0.05)

        source.answer = drip
        began = time.monotonic()
        assert "took longer than 1 seconds; it was given up" in poll(keepers, "list").last_poll.problem
        assert time.monotonic() - began < 5


def test_a_slow_feed_keeps_no_other_waiting(keepers, source):
    slow, let_go = standins.Source(), threading.Event()
    slow.answer = standins.hang(let_go)
    keepers.estate.change(
        lambda snapshot: snapshot.estate.replacing(
            feeds=(listing(slow, key="slow"), listing(source)),
        ),
        by="tests",
    )
    source.answer = text("a.example,games\n")
    by_key = {feed.key: feed for feed in keepers.estate.snapshot.estate.feeds}
    held = keepers.feeds.poll(by_key["slow"], "tests")
    keepers.feeds.poll(by_key["list"], "tests").result(10)
    assert not held.done()
    assert categories(keepers, "a.example") == ("games",)
    let_go.set()
    slow.close()
