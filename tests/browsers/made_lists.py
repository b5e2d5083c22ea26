"""Lists and URLs at random, half of the URLs within one edit of an entry: for each family in its own form of entries.

Each little list has a host of its own, so that many of them go into one list of a browser; entries for any host go into
lists of their own.
"""

from __future__ import annotations

import random
import re
from collections.abc import Sequence
from typing import NamedTuple

from portero.core.nouns.urls import BadUrl, parse_whole

PORTS = (80, 443, 8080, 8443)
_LABELS = ("a", "b", "www", "bücher", "xn--bcher-kva", "A", "a_b", "x1")
_PATHS = (
    *("", "/", "/a", "/a/", "/a/b", "/vid", "/videos", "/Vid", "/a b", "/a%20b", "/ä", "/%C3%A4", "/%c3%a4"),
    *(
        "/a/../b",
        "/b",
        "/a|b",
        "/a^b",
        "/a%7Cb",
        "/a*b",
        "/a*",
        "/*",
        "//a",
        "/a//b",
        "/a;b",
        "/%41",
        "/A",
        "/.",
        "/a/..",
    ),
    *(
        "/a.b",
        "/a'b",
        '/a"b',
        "/a{b",
        "/~a",
        "/a\\b",
        "/a@b",
        "/a:b",
        "/[a]",
        "/a<b",
        "/%zz",
        "/%2541",
        "/a%2fb",
        "/a%5cb",
    ),
    *("/a%3fb", "/%252e%252e/b", "/%25", "/%2", "/a%00b", "/e%2Db", "/e-b"),
)
_QUERIES = (
    *(
        "",
        "",
        "",
        "?",
        "?k",
        "?k=",
        "?k=v",
        "?k=vw",
        "?k=v&a",
        "?a&k=v",
        "?k=v&k=w",
        "?k=w&k=v",
        "?k=v&k=v",
        "?kk=v",
        "?K=V",
    ),
    *(
        "?*",
        "?k*",
        "?k=v*",
        "?k=*",
        "?k&kk",
        "?=v",
        "?a b",
        "?ä",
        "?k=v;a",
        "?a?k=v",
        "?%41",
        "?k=v#f",
        "#k=v",
        "?'",
        "?a=b=c",
    ),
)
_PLAIN_PATHS = ("/", "/a", "/a/b", "/Vid")
_MOST_LIMIT = {"chromium": 1500, "firefox": 1000}


class Run(NamedTuple):
    """Both lists of a browser, and what is visited under them."""

    block: list[str]
    allow: list[str]
    urls: list[str]


class _About(NamedTuple):
    """What a little list is about: its entries and URLs are all near it."""

    host: str
    path: str
    query: str


class Maker:
    """Makes runs for one family of browsers."""

    def __init__(self, family: str, seed: int) -> None:
        self._random, self._family, self._number = random.Random(f"{family} {seed}"), family, 0
        self._entry = self._filter if family == "chromium" else self._match_pattern
        self._situations = _CHROMIUM_SITUATIONS if family == "chromium" else _FIREFOX_SITUATIONS
        self._anywhere = _CHROMIUM_ANYWHERE if family == "chromium" else _FIREFOX_ANYWHERE

    def run(self, urls: int, anywhere: int = 0) -> Run:
        """One run; with `anywhere`, so many entries that are for any host."""
        made, random_ = Run([], [], []), self._random
        for entry in random_.sample(self._anywhere, anywhere):
            random_.choice((made.block, made.block, made.allow)).append(entry)
        everywhere = [*made.block, *made.allow]
        for situation in random_.sample(self._situations, len(self._situations)) if not anywhere else ():
            self._add_situation(made, situation)
        while len(made.urls) < urls:
            self._number += 1
            about = self._about(f"n{self._number}.example")
            entries = [self._entry(about) for _ in range(random_.choice((1, 2, 2, 3, 4)))]
            made.block.append(entries[0])
            for entry in entries[1:]:
                random_.choice((made.block, made.allow, made.allow)).append(entry)
            found = (self._url(about, [*entries, *everywhere]) for _ in range(random_.choice((2, 3, 4))))
            made.urls.extend(url for url in found if _is_visited(url))
        return made

    def _add_situation(self, made: Run, situation: Run) -> None:
        """What is known to be told apart, at a host of its own; some of its URLs with an edit."""
        self._number += 1
        block, allow, urls = ([text.replace("H", f"n{self._number}.example") for text in texts] for texts in situation)
        made.block.extend(block)
        made.allow.extend(allow)
        edited = [f"http://{self._edited(url.partition('//')[2])}" for url in urls if self._random.random() < 0.3]
        made.urls.extend(url for url in (*urls, *edited) if _is_visited(url))

    def filled(self, run: Run) -> Run:
        """The run with its lists filled to as much as the browser takes, and some more: with URLs about that end."""
        limit, form = (
            _MOST_LIMIT[self._family],
            {"chromium": "{}.example", "firefox": "*://*.{}.example/*"}[self._family],
        )
        fill = [form.format(f"block{number}") for number in range(len(run.block), limit + 3)]
        for place in self._random.sample(range(limit // 2), 40):
            fill[place] = self._random.choice(("", "::", "*://", "http://:99999", fill[-1]))
        fill_allow = [form.format(f"allow{number}") for number in range(len(run.allow), limit - 1)]
        ends = [form.format(f"block{limit + number}") for number in (-3, -2)]
        urls = [f"http://block{limit + number}.example/" for number in (-4, -3, -2, -1, 0, 1)]
        return Run([*run.block, *fill], [*run.allow, *fill_allow, *ends], [*run.urls, *urls])

    # --- entries ---

    def _about(self, host: str) -> _About:
        """What a little list is about."""
        for _ in range(self._random.choice((0, 1, 1, 2))):
            host = f"{self._random.choice(_LABELS)}.{host}"
        path = self._random.choice(_PATHS) if self._random.random() < 0.4 else self._random.choice(_PLAIN_PATHS)
        return _About(host, path or "/", self._random.choice(_QUERIES) if self._random.random() < 0.5 else "")

    def _some(self, chance: float, *choices: str) -> str:
        return self._random.choice(choices) if self._random.random() < chance else ""

    def _hosts(self, about: _About) -> str:
        """Its host, or one above or below it."""
        above = about.host.partition(".")[2] if about.host.count(".") > 1 else about.host
        return self._random.choice(
            (about.host, about.host, about.host, above, f"{self._random.choice(_LABELS)}.{about.host}")
        )

    def _paths(self, path: str) -> str:
        """The path, or one that is like it."""
        return self._random.choice((path, path, path, "/", path[:-1] or "/", f"{path}b", f"{path}/b", path.swapcase()))

    def _filter(self, about: _About) -> str:
        """An entry for Chromium."""
        some = self._some
        scheme = some(
            0.25, *("http://", "https://") * 3, "HTTP://", "http:", "http;//", "http:/", "ws://", "*://", "ftp://"
        )
        before = some(0.35, ".", ".", ".", ".", "..", "*.", "u@", "u:p@")
        port = some(0.25, ":80", ":443", ":8080", ":8080", ":", ":*", ":0", ":080", ":+80", ":x")
        after = some(0.05, ".", "..", "*", "%2e")
        query = some(0.6, about.query, about.query, about.query.partition("&")[0], *_QUERIES)
        text = before + self._hosts(about) + after + port + some(0.7, self._paths(about.path)) + query
        return some(0.03, " ", "\\", "/") + scheme + text + some(0.03, " ")

    def _match_pattern(self, about: _About) -> str:
        """An entry for Firefox."""
        some = self._some
        scheme = self._random.choice(("*", "*", "*", "http", "https", "HTTP", "ws", "http*"))
        before, after = some(0.6, "*.", "*.", "*.", "."), some(0.07, ":80", ":*", ".", "*")
        query, glob = some(0.3, about.query, *_QUERIES), some(0.7, "*", "*", "/*", "*b", "*?k=v", "*&*", "**")
        return f"{scheme}://{before}{self._hosts(about)}{after}{self._paths(about.path)}{query}{glob}"

    # --- URLs ---

    def _url(self, about: _About, entries: Sequence[str]) -> str:
        scheme = self._random.choice(("http://", "http://", "https://"))
        if self._random.random() < 0.5:
            return scheme + self._edited(self._held_by(about.host, self._random.choice(entries)))
        port = self._some(0.25, ":80", ":443", ":8080", ":8443")
        query = self._some(0.7, about.query, about.query, *_QUERIES)
        return scheme + self._hosts(about) + self._some(0.05, ".") + port + self._paths(about.path) + query

    def _held_by(self, host: str, entry: str) -> str:
        """A URL's text behind the scheme that an entry may well hold."""
        told = re.sub(r"^(?:[a-z*]*[:;]//?)?", "", entry.strip(" \\/"), count=1, flags=re.IGNORECASE).lstrip("*./\\@")
        told = re.sub(r":[*x0+]?(?=[/?]|$)", "", told.partition("@")[2] or told)
        if not told or told[0] in ":/?<":
            told = host + told.replace("<all_urls>", "")
        if self._random.random() < 0.6:
            told = told.replace("*", "")
        if self._random.random() < 0.15:
            told = f"{self._random.choice(_LABELS)}.{told}"
        return told

    def _edited(self, text: str) -> str:
        """The text, or one a single edit away."""
        if self._random.random() < 0.3 or not text:
            return text
        at, sign = self._random.randrange(len(text)), self._random.choice("abkvw/.&=?*%1A;|")
        return self._random.choice(
            (text[:at] + sign + text[at:], text[:at] + sign + text[at + 1 :], text[:at] + text[at + 1 :])
        )


def _is_visited(url: str) -> bool:
    """Whether a browser would ask our small web for it."""
    try:
        visit = parse_whole(url)
    except BadUrl:
        return False
    authority = url.partition("//")[2].partition("/")[0]
    # a name with nothing between two dots is none, and Firefox looks for a likelier one
    if "@" in authority or ".." in authority:
        return False
    return visit.request.port in PORTS and '"' not in visit.host and "*" not in visit.host


_CHROMIUM_ANYWHERE = (
    *(
        "*",
        "http://*",
        "https://*",
        "*:8080",
        "*:80",
        "*/a",
        "*/vid",
        "*?k=v",
        "*?k",
        "*?*",
        "http:*",
        "https:*",
        "example",
    ),
    *(
        ".example",
        "*.example",
        "http://*/a",
        "*/a?k=v",
        "ftp://*",
        "*/",
        "*#f",
        "*:*",
        "*.",
        "..",
        "203.0.113.7",
        "example.",
    ),
    *(".203.0.113.7", "203.0.113.7/a", "0xcb.0.113.7", "[2001:db8::1]", "[2001:DB8::1]", "[2001:db8:0::1]", "113.7"),
    *(
        "localhost:*",
        "localhost:8080",
        "file://*",
        "javascript:*",
        "https://*:8443",
        "*@*",
        "203.0.113.7:8080",
        "*:80/*",
    ),
)
_FIREFOX_ANYWHERE = (
    *(
        "*://*/*",
        "<all_urls>",
        "http://*/*",
        "*://*/a*",
        "*://example/*",
        "*://*.example/*",
        "*://*/",
        "*://*/*k=v*",
        "*",
    ),
    *(
        "*://203.0.113.7/*",
        "*://*.203.0.113.7/*",
        "*://[2001:db8::1]/*",
        "*://*.[2001:db8::1]/*",
        "<ALL_URLS>",
        "",
        "*://",
    ),
    *("*:///*", "https://*/*?*", "*://*./*", "*://localhost/*", "*://*..example/*"),
)

# H stands for a host
_CHROMIUM_SITUATIONS = (
    Run(["H"], [".H"], ["http://H/", "http://www.H/"]),
    Run([".H"], ["H/a/b"], ["http://H/a/b", "http://www.H/a/b"]),
    Run(["H/a/bcdefgh"], ["www.H"], ["http://www.H/a/bcdefgh", "http://H/a/bcdefgh"]),
    Run(["H"], ["H/"], ["http://H/"]),
    Run(["H/"], ["H"], ["http://H/a"]),
    Run(["H/a"], ["H/a/b"], ["http://H/a/bc", "http://H/a/c", "http://H/A"]),
    Run(["H/a?k=v"], ["H/a"], ["http://H/a?k=v", "http://H/a?k=w", "http://H/a?x&k=v"]),
    Run(["H/a?k=v"], ["H/a?k=v&x"], ["http://H/a?x&k=v", "http://H/a?k=v"]),
    Run(["H:80/a", "http://H/b"], ["H/a", "H/b"], ["http://H/a", "http://H/b"]),
    Run(["H:8080", "https://H"], [], ["http://H:8080/", "http://H/", "https://H/", "https://H:8443/"]),
    Run(["H:80"], [], ["http://H/", "https://H/", "http://H:8080/"]),
    Run(["H:+443", "www.H:080"], [], ["https://H/", "http://www.H/"]),
    Run(["H/a*b"], [], ["http://H/a*b", "http://H/axb"]),
    Run(["H/vid"], [], ["http://H/videos", "http://H/vid/x", "http://H/Vid"]),
    Run(["H?k"], [], ["http://H/?k", "http://H/?k=v", "http://H/?kk"]),
    Run(["H?k*", "www.H?k=v*"], [], ["http://H/?kk=v", "http://H/?k=v", "http://www.H/?k=vw", "http://www.H/?k=w"]),
    Run(["H?*"], [], ["http://H/?x", "http://H/", "http://H/?"]),
    Run(["H?k="], [], ["http://H/?k", "http://H/?k=", "http://H/?k=v"]),
    Run(["H"], ["H/?k=v"], ["http://H/?k=v&k=w", "http://H/?k=w&k=v", "http://H/?k=v&k=v", "http://H/?k=v"]),
    Run(["H"], ["H/?k"], ["http://H/?k&kk", "http://H/?k"]),
    Run(["H?k=v"], [], ["http://H/?k=w&k=v", "http://H/?k=v&k=w", "http://H/?k=v;x"]),
    Run(["H/a#x", "www.H#x"], [], ["http://H/a", "http://www.H/"]),
    Run(["bücher.H", "xn--mnchen-3ya.H"], [], ["http://bücher.H/", "http://münchen.H/"]),
    Run(["H/ä", "H/%C3%B6", "H/b c"], [], ["http://H/ä", "http://H/ö", "http://H/b c"]),
    Run(["H/a|b", "H/c%7Cd"], [], ["http://H/a|b", "http://H/c|d", "http://H/c%7cd"]),
    Run(["H/a/../b", "H/%2e"], [], ["http://H/a/../b", "http://H/b"]),
    Run(["*.H", "H:*", "http://H:x"], [], ["http://H/", "http://www.H/"]),
    Run(["..H"], [".H/a"], ["http://H/", "http://H/a", "http://www.H/"]),
    Run(["H."], ["H"], ["http://H/", "http://H./a"]),
)
_FIREFOX_SITUATIONS = (
    Run(["*://H/a*"], ["*://*.H/*"], ["http://H/a", "http://H/b"]),
    Run(["*://*.H/*"], ["*://H/a*"], ["http://H/a", "http://H/b", "http://www.H/a"]),
    Run(["*://H/*"], [], ["http://H/", "http://www.H/", "https://H/"]),
    Run(["*://*.H/*"], [], ["http://H/", "http://www.H/x"]),
    Run(["http://H/*"], [], ["http://H/", "https://H/"]),
    Run(["*://H:80/*", "*://www.H:*/*"], [], ["http://H/", "http://www.H/"]),
    Run(["*://H/Vid*"], [], ["http://H/vid", "http://H/VID", "http://H/Video"]),
    Run(["*://H/vid"], [], ["http://H/vid", "http://H/videos", "http://H/vid?k", "http://H/vid#k"]),
    Run(["*://H/a*b"], [], ["http://H/axyb", "http://H/a/b", "http://H/ab", "http://H/abc"]),
    Run(["*://H/a?b*"], [], ["http://H/a?b", "http://H/axb"]),
    Run(["*://H/*k=v*"], [], ["http://H/?k=v", "http://H/?x&k=vw", "http://H/k=v"]),
    Run(["*://H/a/b*"], [], ["http://H/a%2Fb", "http://H/a//b", "http://H/a%5Cb", "http://H/%61/b"]),
    Run(["*://H/a%2Fb*", "*://www.H/a//b*"], [], ["http://H/a%2Fb", "http://www.H/a//b"]),
    Run(["*://H/a%20b*", "*://www.H/a b*"], [], ["http://H/a b", "http://H/a%20b", "http://www.H/a b"]),
    Run(["*://H/a|b*", "*://www.H/a%7Cb*"], [], ["http://H/a|b", "http://H/a%7Cb", "http://www.H/a|b"]),
    Run(["*://bücher.H/*", "*://xn--mnchen-3ya.H/*"], [], ["http://bücher.H/", "http://münchen.H/"]),
    Run(["*://H/a?*"], [], ["http://H/a?", "http://H/a?k", "http://H/a"]),
    Run(["*://H/?k=a*"], [], ["http://H/?k=%61", "http://H/?k=%2D", "http://H/?k=a%20"]),
    Run(["*://H/%41*", "*://H/%25*"], [], ["http://H/A", "http://H/%2541", "http://H/%25"]),
    Run(["H", "*://H", "*://H/"], [], ["http://H/", "http://H/a"]),
    Run(["*://*.[2001:db8::2]/*", "*://[2001:db8::3]/*"], [], ["http://[2001:db8::2]/", "http://[2001:db8::3]/"]),
    Run(["*://H/*"], ["https://H/a*"], ["http://H/a", "https://H/a", "http://H./a"]),
)
