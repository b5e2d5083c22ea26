"""Who does something on this machine, when and where."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime

from portero.core.nouns.device import Facts, Kind
from portero.core.resolving.situations import OFF_SITE, Situation

PEOPLE, UNTIL_RESTART = "people.json", "until-restart.json"
"""Where an endpoint keeps the user groups of the people seen here, and since when assignments hold until restart."""


def situation_of(
    own: Facts, user: str | None, people: Mapping[str, Sequence[str]], since: Mapping[str, float], at: datetime
) -> Situation:
    """The situation of a person (None: nobody that is known) on a machine with these facts."""
    folded = user.casefold() if user else None
    return Situation(
        at=at,
        user=folded,
        user_groups=frozenset(people.get(folded or "", ())),
        place=own.place.value if own.place else OFF_SITE,
        zone=own.zone,
        last_start=own.last_start.timestamp() if own.last_start else None,
        applied=since,
        is_server=own.kind is Kind.SERVER,
    )
