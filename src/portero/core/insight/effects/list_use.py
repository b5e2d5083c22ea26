"""How sites that an allow-only list opens are used, and what was refused beside them."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple


class RefusedBeside(NamedTuple):
    """A host that the list refused: how often, and how many visits to allowed sites fell into the same hours on the
    same machines.
    """

    host: str
    refusals: int
    together: int


class ListUse(NamedTuple):
    """Visits to sites that a list allows, on the machines where it refused something, of late."""

    opened: int = 0
    devices: frozenset[str] = frozenset()
    """The ids of those machines."""
    refused: tuple[RefusedBeside, ...] = ()
    """Those that most visits fell together with first."""


IsAllowed = Callable[[str], bool]
"""Whether the list allows a host."""
LookedAt = Callable[[str, IsAllowed], ListUse]
"""How the list of a ruleset is used."""


def nothing_seen(_ruleset: str, _is_allowed: IsAllowed) -> ListUse:
    """Where there is no activity to look at."""
    return ListUse()
