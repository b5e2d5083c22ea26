"""Deliberate mistakes in the models of the browsers: the run against the real ones has to notice each."""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import partial
from typing import Any

import ada_url

from portero.core.browsers import chromium, firefox
from portero.core.browsers.chromium import PatternTable
from portero.core.browsers.firefox import FilteredUrl, FirefoxLists, MatchPattern
from portero.core.nouns import patterns
from portero.core.nouns.patterns import Pattern, QueryToken, SeenUrl

Mistake = Callable[[Any], None]
"""Makes it, through pytest's monkeypatch."""


def _read(change: Callable[[Pattern], Pattern]) -> Mistake:
    """Patterns are read, and something of them is changed."""
    real = Pattern.read.__func__  # type: ignore[attr-defined]
    return lambda monkeypatch: monkeypatch.setattr(
        Pattern, "read", classmethod(lambda cls, text: change(real(cls, text)))
    )


def _before_reading(change: Callable[[str], str]) -> Mistake:
    real = Pattern.read.__func__  # type: ignore[attr-defined]
    return lambda monkeypatch: monkeypatch.setattr(
        Pattern, "read", classmethod(lambda cls, text: real(cls, change(text)))
    )


def _weight(weigh: Callable[[Pattern], tuple[Any, ...]]) -> Mistake:
    return lambda monkeypatch: monkeypatch.setattr(Pattern, "weight", property(weigh))


def _seen(change: Callable[[SeenUrl], SeenUrl]) -> Mistake:
    real = SeenUrl.of.__func__  # type: ignore[attr-defined]
    return lambda monkeypatch: monkeypatch.setattr(
        SeenUrl, "of", classmethod(lambda cls, visit: change(real(cls, visit)))
    )


def _by_path(test: Callable[[str, str], bool]) -> Mistake:
    """A path holds another one in another way."""
    real = Pattern.holds_rest

    def holds_rest(self: Pattern, seen: SeenUrl, allow: bool) -> bool:
        return test(self.path, seen.path) and real(self._replace(path=""), seen, allow)

    return lambda monkeypatch: monkeypatch.setattr(Pattern, "holds_rest", holds_rest)


def _tokens(test: Callable[[QueryToken, str, bool], bool]) -> Mistake:
    return lambda monkeypatch: monkeypatch.setattr(QueryToken, "is_met", test)


_is_met = QueryToken.is_met


def _whole_segments(path: str, seen: str) -> bool:
    return seen == path or seen.startswith(path.removesuffix("/") + "/")


def _as_glob(path: str, seen: str) -> bool:
    return re.match(".*".join(map(re.escape, path.split("*"))), seen) is not None


def _by_key(token: QueryToken, query: str, allow: bool) -> bool:
    """A key by itself holds whatever value it has."""
    return _is_met(token, query, allow) or (token.value == "&" and f"{token.key}=" in query)


def _canonical(pattern: Pattern) -> Pattern:
    path = ada_url.parse_url(f"http://h{pattern.path}", attributes=("pathname",))["pathname"] if pattern.path else ""
    return pattern._replace(path=path)


def _ace(pattern: Pattern) -> Pattern:
    try:
        host = ada_url.parse_url(f"http://{pattern.host}/", attributes=("hostname",))["hostname"]
    except ValueError:
        return pattern
    return pattern._replace(host=host)


def _without_spoiled(monkeypatch: Any) -> None:
    """One entry that is none spoils its list."""

    def read(texts: Any, allow: bool) -> Any:
        try:
            return [(Pattern.read(text), allow, chromium.ListEntry(allow, place)) for place, text in enumerate(texts)]
        except ValueError:
            return []

    monkeypatch.setattr(chromium, "_read", read)


def _exact_last(monkeypatch: Any) -> None:
    real = PatternTable.matching

    def matching(self: PatternTable[Any], seen: SeenUrl) -> Any:
        exact = {id(item) for _, _, item in self._exact.get(seen.host, ())}
        return iter(sorted(real(self, seen), key=lambda item: id(item) in exact))

    monkeypatch.setattr(PatternTable, "matching", matching)


def _limit(module: Any, name: str, difference: int) -> Mistake:
    def make(monkeypatch: Any) -> None:
        real = getattr(module, name).__init__
        monkeypatch.setattr(
            getattr(module, name),
            "__init__",
            lambda self, blocks, allows, limit: real(self, blocks, allows, limit + difference),
        )

    return make


def _numbers_as_ports(monkeypatch: Any) -> None:
    monkeypatch.setattr(patterns, "_PORT", re.compile(r"^[1-9][0-9]*$"))


_CHROMIUM: dict[str, Mistake] = {
    "an exact host counts last": _exact_last,
    "longer hosts weigh no more": _weight(lambda one: (one.below, 0, -len(one.path), -len(one.query))),
    "longer paths weigh no more": _weight(lambda one: (one.below, -len(one.host), 0, -len(one.query))),
    "more tokens weigh no more": _weight(lambda one: (one.below, -len(one.host), -len(one.path), 0)),
    "a bare slash weighs nothing": _weight(
        lambda one: (one.below, -len(one.host), -len(one.path) if one.path != "/" else 0, -len(one.query))
    ),
    "a port weighs": _weight(
        lambda one: (one.below, -len(one.host), one.port is None, -len(one.path), -len(one.query))
    ),
    "a scheme weighs": _weight(
        lambda one: (one.below, -len(one.host), not one.scheme, -len(one.path), -len(one.query))
    ),
    "paths ignore case": _by_path(lambda path, seen: seen.lower().startswith(path.lower())),
    "paths hold whole segments": _by_path(_whole_segments),
    "an asterisk in a path stands for anything": _by_path(_as_glob),
    "ports do not count": _read(lambda one: one._replace(port=None)),
    "a port that is not said is none": _seen(lambda seen: seen._replace(port=0) if seen.port in (80, 443) else seen),
    "schemes do not count": _read(lambda one: one._replace(scheme="")),
    "a leading dot says nothing": _read(lambda one: one._replace(below=True)),
    "a key holds any value": _tokens(_by_key),
    "an asterisk in a query is plain": _tokens(
        lambda token, query, allow: _is_met(token if token.value else token._replace(value="*&"), query, allow)
    ),
    "an allow needs one of several values": _tokens(lambda token, query, allow: _is_met(token, query, False)),
    "a block needs all of several values": _tokens(lambda token, query, allow: _is_met(token, query, True)),
    "a fragment counts": _before_reading(lambda text: text.replace("#", "%23")),
    "a path in another form is made canonical": _read(_canonical),
    "a Unicode host is read as punycode": _read(_ace),
    "a bar in a visited path stays": _seen(lambda seen: seen._replace(path=seen.path.replace("%7C", "|"))),
    "a lone question mark is no query": _seen(lambda seen: seen._replace(query="") if seen.query == "&" else seen),
    "an entry that is none spoils its list": _without_spoiled,
    "one entry more is taken": _limit(chromium, "ChromiumLists", 1),
    "one entry less is taken": _limit(chromium, "ChromiumLists", -1),
    "ports with a sign or zeros are none": _numbers_as_ports,
}

_filtered = FilteredUrl.of.__func__  # type: ignore[attr-defined]
_match_pattern = MatchPattern.read.__func__  # type: ignore[attr-defined]


def _filtered_as(change: Callable[[FilteredUrl], FilteredUrl]) -> Mistake:
    made = classmethod(lambda cls, visit: change(_filtered(cls, visit)))
    return lambda monkeypatch: monkeypatch.setattr(FilteredUrl, "of", made)


def _matched_as(change: Callable[[MatchPattern], MatchPattern]) -> Mistake:
    made = classmethod(lambda cls, text: change(_match_pattern(cls, text)))
    return lambda monkeypatch: monkeypatch.setattr(MatchPattern, "read", made)


def _matched_with(change: Callable[[MatchPattern, str], MatchPattern]) -> Mistake:
    made = classmethod(lambda cls, text: change(_match_pattern(cls, text), text))
    return lambda monkeypatch: monkeypatch.setattr(MatchPattern, "read", made)


def _entries_as(change: Callable[[str], str]) -> Mistake:
    made = classmethod(lambda cls, text: _match_pattern(cls, change(text)))
    return lambda monkeypatch: monkeypatch.setattr(MatchPattern, "read", made)


def _globbed(test: Callable[[str, str], bool]) -> Mistake:
    made = property(lambda self: partial(test, self.glob))
    return lambda monkeypatch: monkeypatch.setattr(MatchPattern, "test", made)


_test = MatchPattern.test.fget  # type: ignore[attr-defined]


def _globs(glob: str, text: str) -> bool:
    return bool(_test(MatchPattern("*", "", True, glob))(text))


def _undone(test: str) -> Mistake:
    """Escapes are undone of other characters."""
    real = firefox._undone

    def undone(text: str, which: re.Pattern[str]) -> str:
        return real(text, re.compile(test) if which is firefox._PRINTABLE else which)

    return lambda monkeypatch: monkeypatch.setattr(firefox, "_undone", undone)


def _in_order(monkeypatch: Any) -> None:
    """The narrower entry counts, as in Chromium."""
    real = FirefoxLists.matching

    def matching(self: FirefoxLists, visit: Any) -> Any:
        kept = ((below, *one) for below, hosts in ((0, self._exact), (1, self._below)) for one in hosts.items())
        ranks = {row.entry: (below, -len(host), at) for below, host, rows in kept for at, row in enumerate(rows)}
        return iter(sorted(real(self, visit), key=ranks.__getitem__))

    monkeypatch.setattr(FirefoxLists, "matching", matching)


def _blocks_first(monkeypatch: Any) -> None:
    real = FirefoxLists.matching
    monkeypatch.setattr(
        FirefoxLists, "matching", lambda self, visit: iter(sorted(real(self, visit), key=lambda entry: entry.allow))
    )


_FIREFOX: dict[str, Mistake] = {
    "the narrower counts": _in_order,
    "what is blocked counts first": _blocks_first,
    "upper case in an entry never matches": _matched_with(
        lambda one, text: one._replace(glob=text[len(text) - len(one.glob) :])
    ),
    "a host holds all below it": _matched_as(lambda one: one._replace(below=True)),
    "*. does not hold the host itself": _matched_as(
        lambda one: one._replace(glob="\n") if one.below and one.host and one.host.count(".") < 2 else one
    ),
    "*. says nothing": _matched_as(lambda one: one._replace(below=not one.host)),
    "schemes do not count": _matched_as(lambda one: one._replace(scheme="*")),
    "* is http alone": _matched_as(lambda one: one._replace(scheme="http") if one.scheme == "*" else one),
    "a port is taken and ignored": _entries_as(lambda text: re.sub(r":(80|\*)/", "/", text)),
    "a glob's end is open": _globbed(lambda glob, text: _globs(glob.rstrip("*") + "*", text)),
    "an asterisk at the end says nothing": _globbed(
        lambda glob, text: _globs(glob[:-1], text) if glob.endswith("*") and len(glob) > 2 else _globs(glob, text)
    ),
    "an asterisk within is plain": _globbed(
        lambda glob, text: text.startswith(glob[:-1]) if glob.endswith("*") else text == glob
    ),
    "an asterisk stops at a slash": _globbed(
        lambda glob, text: re.fullmatch("[^/]*".join(map(re.escape, glob.split("*"))), text) is not None
    ),
    "a question mark stands for any sign": _globbed(
        lambda glob, text: (
            re.fullmatch(re.escape(glob).replace(r"\*", ".*").replace(r"\?", "."), text, re.DOTALL) is not None
        )
    ),
    "a query is not looked at": _filtered_as(lambda seen: seen._replace(rest=seen.rest.partition("?")[0])),
    "escapes stay as they are": _undone(r"(?!)"),
    "only unreserved escapes are undone": _undone(r"[A-Za-z0-9_.~-]"),
    "slashes stay as they are": lambda monkeypatch: monkeypatch.setattr(firefox, "_SLASHES", re.compile("(?!)")),
    "a path in another form is made canonical": _matched_as(
        lambda one: one._replace(glob=firefox.merged_path(one.glob))
    ),
    "a Unicode host is read as punycode": _matched_as(lambda one: one._replace(host=_ace_of(one.host))),
    "a bar in a visited path is escaped": _filtered_as(lambda seen: seen._replace(rest=seen.rest.replace("|", "%7c"))),
    "one entry more is taken": _limit(firefox, "FirefoxLists", 1),
    "one entry less is taken": _limit(firefox, "FirefoxLists", -1),
    "a bare question mark is dropped": _filtered_as(lambda seen: seen._replace(rest=seen.rest.removesuffix("?"))),
}


def _ace_of(host: str) -> str:
    try:
        return str(ada_url.parse_url(f"http://{host}/", attributes=("hostname",))["hostname"])
    except ValueError:
        return host


MISTAKES: dict[str, dict[str, Mistake]] = {"chromium": _CHROMIUM, "firefox": _FIREFOX}
"""By family and by what each would say of the browser."""
