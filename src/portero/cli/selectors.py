"""Selectors of rules as they are written on the command line."""

from __future__ import annotations

from typing import Any

from portero.cli.command import UsageProblem

_NO_VALUE = ("everything",)


def selected(kind: str, value: str | None) -> dict[str, Any]:
    """A rule's selector, of its kind and value. UsageProblem."""
    if (value is None) != (kind in _NO_VALUE):
        raise UsageProblem(f"“{kind}” takes no value" if value else f"“{kind}” needs its value: {_HELP[kind]}")
    if kind != "suitability":
        return {kind: True if value is None else value}
    low, dash, high = (value or "").partition("-")
    if not dash or not (low + high).isdigit():
        raise UsageProblem(f"“{value}” is not a span of suitability: write {_HELP[kind]}")
    return {kind: {name: int(text) for name, text in (("from", low), ("to", high)) if text}}


_HELP = {
    "category": "a web category",
    "family": "a family of categories",
    "search_term": "words that are searched for",
    "media_type": "as in video/mp4 or video/*",
    "host": "a host and all below it",
    "url": "a URL and all below it",
    "address": "an address, or a range as in 203.0.113.0/24",
    "service": "key of a service",
    "suitability": "services of this suitability, as in 0-25 or 50-100",
    "decision": "services on which this was decided",
    "pattern": "a site pattern, for browsers",
    "application_set": "key of an application set",
    "sha256": "a program by its SHA-256",
}
