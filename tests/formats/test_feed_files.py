"""Host lists, hosts files and CSV: what they say, and files that mean harm."""

from __future__ import annotations

import gzip
import io
import tracemalloc
from datetime import date

import pytest
from hypothesis import given
from hypothesis import strategies as st

from portero.formats import feed_files
from portero.formats.feed_files import BadFeed, HostLine, RefusedLine, read_feed, unpacked


def read(data: bytes, format: str = "host-list", size: int = 1 << 16) -> list[HostLine | RefusedLine]:
    return list(read_feed([data[at : at + size] for at in range(0, len(data), size)], format))


def hosts(data: bytes, format: str = "host-list") -> list[str]:
    return [line.host for line in read(data, format) if isinstance(line, HostLine)]


def test_a_host_list_is_read_with_its_comments():
    data = b"# relays\nRelay-1.Example\n\n*.relay-2.example # all of them\r\nrelay-3.example.\n203.0.113.7\n"
    assert read(data) == [
        HostLine(2, "relay-1.example"),
        HostLine(4, "relay-2.example"),
        HostLine(5, "relay-3.example"),
        HostLine(6, "203.0.113.7"),
    ]


def test_a_hosts_file_names_several_hosts_a_line_and_the_machine_itself():
    data = b"127.0.0.1 localhost\n0.0.0.0 ads.example banners.example # two\n::1 ip6-localhost\nads.example\n"
    assert hosts(data, "hosts-file") == ["ads.example", "banners.example"]
    refused = [line for line in read(data, "hosts-file") if isinstance(line, RefusedLine)]
    assert refused == [
        RefusedLine(4, "“ads.example” is not an address; a line of a hosts file is an address and names")
    ]


def test_csv_goes_by_its_heading_where_it_has_one():
    plain = b"a.example,games music,2026-11-01\nb.example,games;sport\nc.example,,2026-02-30\n"
    assert read(plain, "csv") == [
        HostLine(1, "a.example", ("games", "music"), date(2026, 11, 1)),
        HostLine(2, "b.example", ("games", "sport")),
        RefusedLine(3, "“2026-02-30” is not a day; write it as in 2026-11-30"),
    ]
    turned = b'\xef\xbb\xbfregistered_on,id,host,categories\n2026-11-01,7,a.example,"games music"\n,8,B.EXAMPLE,sport\n'
    assert read(turned, "csv") == [
        HostLine(2, "a.example", ("games", "music"), date(2026, 11, 1)),
        HostLine(3, "b.example", ("sport",)),
    ]


@pytest.mark.parametrize(
    ("line", "why"),
    [
        (b"not a host", "is not a web host"),
        (b"http://a.example/path", "without scheme, port and path"),
        (b"example", "is a whole top-level domain"),
        (b"a..example", "is not a web host"),
        (b"x" * 300 + b".example", "is not a web host"),
        (b"bad\xff\xfe.example", "the line is not UTF-8"),
        (b"a" * 5000, "the line is longer than 4,096 bytes"),
        (b"=cmd|' /C calc'!A0", "is not a web host"),
    ],
)
def test_a_bad_line_is_told_by_its_number_and_the_others_are_read(line, why):
    found = read(b"one.example\n" + line + b"\nthree.example\n")
    assert [one.number for one in found] == [1, 2, 3]
    assert isinstance(found[1], RefusedLine)
    assert why in found[1].problem
    assert [found[0].host, found[2].host] == ["one.example", "three.example"]


def test_a_line_without_an_end_is_let_go_as_it_comes():
    def endless():
        yield b"one.example\n"
        for _ in range(2_000):
            yield b"x" * 65_536
        yield b"\ntwo.example\n"

    tracemalloc.start()
    found = list(read_feed(endless(), "host-list"))
    peak = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert [(one.number, isinstance(one, RefusedLine)) for one in found] == [(1, False), (2, True), (3, False)]
    assert peak < 5_000_000, "130 MB passed by"


def test_a_packed_file_is_unpacked_and_one_that_was_cut_off_is_told():
    packed = gzip.compress(b"one.example\ntwo.example\n")
    assert hosts(packed) == ["one.example", "two.example"]
    with pytest.raises(BadFeed, match="was cut off"):
        read(packed[:-6])


@pytest.mark.parametrize("size", [1, 2, 7, 1 << 16])
def test_a_packed_file_may_have_several_members_however_it_is_cut(size):
    # as a tool that packs in parallel, or `cat a.gz b.gz`, makes it
    packed = gzip.compress(b"one.example\ntwo") + gzip.compress(b"") + gzip.compress(b".example\n") + bytes(512)
    assert [one.host for one in read(packed, size=size)] == ["one.example", "two.example"]
    with pytest.raises(BadFeed, match="was cut off"):
        read(gzip.compress(b"one.example\n") + gzip.compress(b"two.example\n")[:-3], size=size)
    with pytest.raises(BadFeed, match="is damaged"):
        read(gzip.compress(b"one.example\n") + b"and something else", size=size)


def test_a_bomb_goes_off_outside():
    bomb = gzip.compress(b"\n" * 40_000_000)
    assert len(bomb) < 50_000
    tracemalloc.start()
    with pytest.raises(BadFeed, match="more than 10 MB unpacked"):
        for _ in unpacked([bomb], 10_000_000):
            pass
    peak = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert peak < 8_000_000


def test_too_many_lines_are_refused(monkeypatch):
    monkeypatch.setattr(feed_files, "MAX_LINES", 1000)
    with pytest.raises(BadFeed, match="more than 1,000 lines"):
        read(b"a.example\n" * 5000, size=100)


@given(st.binary(max_size=400), st.sampled_from(["host-list", "hosts-file", "csv"]), st.integers(1, 50))
def test_whatever_comes_is_read_or_refused_the_same_however_it_is_cut(data, format, size):
    try:
        whole = read(data, format)
    except BadFeed:
        return
    assert read(data, format, size) == whole
    for line in whole:
        assert isinstance(line, RefusedLine) or line.host == line.host.lower()


@given(st.lists(st.sampled_from(["a.example", "b.example", "", "# x", "é.example"]), max_size=30))
def test_text_comes_out_as_it_went_in(lines):
    data = io.BytesIO("\n".join(lines).encode())
    expected = [{"é.example": "xn--9ca.example"}.get(line, line) for line in lines if line and not line.startswith("#")]
    assert hosts(data.getvalue()) == expected
