"""What is searched for on the search pages that the estate lists, and which search terms it holds."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from typing import Generic, TypeVar
from urllib.parse import parse_qsl, quote_plus

from portero.core.nouns.rule import normal_term
from portero.core.nouns.urls import Visit

Item = TypeVar("Item")
_WORD = re.compile(r"[^\W_]+")


def searched(visit: Visit, pages: Mapping[str, tuple[str, ...]]) -> str | None:
    """What a visit to a search page searches for; `pages` gives the query parameters by host. None for other visits."""
    parameters = pages.get(visit.host)
    if not parameters:
        return None
    _, _, query = visit.url.partition("#")[0].partition("?")
    given = [value for name, value in parse_qsl(query, keep_blank_values=True) if name in parameters]
    return given[0] if given else None


def search_patterns(term: str, pages: Iterable[tuple[str, str]]) -> list[str]:
    """The site patterns that hold searches which begin with a term, written small, on some pages: host and parameter of
    each. Browsers write the space in a query in either of two ways.
    """
    words = normal_term(term).split()
    written = dict.fromkeys(space.join(map(quote_plus, words)) for space in ("+", "%20"))
    return [f".{host}?{parameter}={text}*" for host, parameter in pages for text in written]


class TermTable(Generic[Item]):
    """Items by search term."""

    def __init__(self) -> None:
        self._by_first: dict[str, dict[tuple[str, ...], list[Item]]] = {}

    def __bool__(self) -> bool:
        return bool(self._by_first)

    def add(self, term: str, item: Item) -> None:
        """Put an item under its term, which is normalised."""
        words = tuple(term.split())
        self._by_first.setdefault(words[0], {}).setdefault(words, []).append(item)

    def met_by(self, text: str) -> list[tuple[str, list[Item]]]:
        """Each term whose words stand in the text, whole, adjacent and in order, with its items. Punctuation sets words
        apart as spaces do; a term that holds some is looked for with it.
        """
        folded, found = normal_term(text), {}
        for words in (folded.split(), _WORD.findall(folded)):
            for place, word in enumerate(words):
                for term, items in self._by_first.get(word, {}).items():
                    if tuple(words[place : place + len(term)]) == term:
                        found[" ".join(term)] = items
        return sorted(found.items())


def pages_by_host(pages: Iterable[tuple[str, str]]) -> dict[str, tuple[str, ...]]:
    """Query parameters by the host of their search page."""
    found: dict[str, tuple[str, ...]] = {}
    for host, parameter in pages:
        found[host] = (*found.get(host, ()), parameter)
    return found
