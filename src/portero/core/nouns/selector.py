"""What a rule matches, in one normalised form. How narrow selectors are stands in core.resolving.ladder."""

from __future__ import annotations

from typing import NamedTuple

OF_SERVICES = ("service", "decision", "suitability")
"""The kinds of selectors that mean services of the catalogue."""


class Selector(NamedTuple):
    """A kind of selector and its value; `exact` where a host or URL stands for itself alone.

    Values: a category's, family's, service's or application set's key; a host; a URL without its scheme; an address
    or a range; a decision; `from..to` for suitability; a search term's words; a media type; a site pattern; a SHA-256.
    """

    kind: str
    value: str = ""
    exact: bool = False

    def __str__(self) -> str:
        value = _bounds(self.value) if self.kind == "suitability" else self.value
        return " ".join(part for part in (self.kind, value, "exact" if self.exact else "") if part)


def _bounds(value: str) -> str:
    low, _, high = value.partition("..")
    if low and high:
        return f"{low}–{high}"
    return f"≥ {low}" if low else f"≤ {high}"


def suitability_bounds(value: str) -> tuple[int, int]:
    """The lowest and the highest suitability that a selector's value takes in."""
    low, _, high = value.partition("..")
    return int(low or 0), int(high or 100)
