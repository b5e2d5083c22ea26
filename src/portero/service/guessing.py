"""Whoever guesses waits, longer each time; who is right gets in all the same."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from ipaddress import IPv6Address, ip_address, ip_network
from urllib.parse import quote

from portero.service.problems import Refusal
from portero.store import guesses
from portero.store.database import Store

FIRST_WAIT, LONGEST_WAIT = 15.0, 3_600.0
TRIES = {"name and address": 5, "address": 20, "name": 200, "code": 5}
"""So many wrong guesses are free. At one name from one address; from one address, whatever it guesses; at one name from
everywhere: that is far more than any one address gets to, so that who is right is not kept out by another's guesses.
"""


def place_of(address: str) -> str:
    """An address as guesses are counted by it: an IPv6 one by its network, as one machine has a whole one."""
    try:
        parsed = ip_address(address.partition("%")[0])
    except ValueError:
        return address
    return str(ip_network(f"{parsed}/64", strict=False)) if isinstance(parsed, IPv6Address) else str(parsed)


def guessers_of(name: str, address: str) -> dict[str, int]:
    """By whom guesses at a name from an address are counted, with how many of each are free."""
    # without a space in it, no name reads like another one with an address
    place, folded = place_of(address), _folded(name)
    return {
        f"at {folded} from {place}": TRIES["name and address"],
        f"from {place}": TRIES["address"],
        f"at {folded}": TRIES["name"],
    }


def _folded(name: str) -> str:
    return quote(name.casefold()[:200], safe="")


def code_guessers(address: str) -> dict[str, int]:
    """By whom wrong enrolment codes are counted. A right one is always taken: many may share an address with one that
    guesses.
    """
    return {f"codes from {place_of(address)}": TRIES["code"]}


class Guessing:
    """Counts wrong guesses, and says who has to wait."""

    def __init__(self, store: Store, clock: Callable[[], float]) -> None:
        self._store, self._now = store, clock

    def wait(self, guessers: Mapping[str, int]) -> float:
        """Seconds until the next guess of these is looked at; 0 where at once."""
        now = self._now()
        with self._store.reading() as connection:
            found = guesses.of(connection, guessers.keys(), now)
        waits = (
            made.last + min(FIRST_WAIT * 2.0 ** (made.number - guessers[guesser]), LONGEST_WAIT) - now
            for guesser, made in found.items()
            if made.number >= guessers[guesser]
        )
        return max(0.0, *waits, 0.0)

    def wrong(self, guessers: Mapping[str, int]) -> int:
        """A guess of these was wrong, or is going to be looked at: then it counts until it turns out to be right. How
        many the narrowest has made.
        """
        now, narrowest = self._now(), next(iter(guessers))
        with self._store.writing() as connection:
            guesses.note(connection, guessers.keys(), now)
            return guesses.of(connection, [narrowest], now)[narrowest].number

    def forgive(self, name: str) -> None:
        """Nobody's guesses at a name count any more."""
        with self._store.writing() as connection:
            guesses.forgive_name(connection, _folded(name))

    def right(self, guessers: Mapping[str, int]) -> None:
        """It was right: the narrowest count is forgiven, of the others this one guess."""
        narrowest, *others = guessers
        with self._store.writing() as connection:
            guesses.forgive(connection, narrowest)
            guesses.take_back(connection, others)
            guesses.forget(connection, self._now())


def too_many(wait: float, what: str) -> Refusal:
    """What is answered to who has to wait."""
    seconds = int(wait) + 1
    told = f"{seconds} seconds" if seconds < 120 else f"{seconds // 60 + 1} minutes"
    return Refusal("too-many-tries", f"{what}; wait {told}.", headers={"Retry-After": str(seconds)})
