"""What every noun has in common: frozen, no unknown fields, bounded text."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime
from difflib import get_close_matches
from typing import Annotated, NamedTuple

from pydantic import AfterValidator, AwareDatetime, BaseModel, ConfigDict, PlainSerializer, StringConstraints

from portero.core.nouns import building


class Noun(BaseModel):
    """Base of all nouns. Instances never change; a field that is not known is an error."""

    model_config = ConfigDict(frozen=True, extra="forbid", str_strip_whitespace=True, defer_build=building.deferred)


class Fault(NamedTuple):
    """Something that does not fit together: where (a path of keys and positions) and what."""

    path: tuple[str | int, ...]
    message: str


def doubled(where: tuple[str | int, ...], names: Iterable[str]) -> Iterator[Fault]:
    """A fault for each name in the list at `where` that stood there before."""
    names = list(names)
    if len(set(names)) == len(names):
        return
    seen: dict[str, int] = {}
    for number, name in enumerate(names):
        first = seen.setdefault(name, number)
        if first != number:
            yield Fault((*where, number), f"“{name}” stands twice, first as number {first + 1}; keep one of them")


def unknown_word(what: str, word: str, known: Iterable[str]) -> str:
    """A sentence that says the word is not known, and which known one is nearest."""
    near = get_close_matches(word, list(known), n=1)
    return f"there is no {what} “{word[:64]}”" + (f"; did you mean “{near[0]}”?" if near else "")


def tag(name: str) -> str:
    """The name of a form that a value may take. It stands in the paths of errors, where no key can look like it."""
    return f"‹{name}›"


def without_tags(path: Iterable[str | int]) -> tuple[str | int, ...]:
    """The path of an error as the document has it."""
    return tuple(part for part in path if not (isinstance(part, str) and part.startswith("‹")))


Key = Annotated[str, StringConstraints(pattern=r"^[a-z0-9][a-z0-9-]*$", max_length=64)]
"""Names one object among its kind: lower-case letters, digits and '-'; never changes."""

Name = Annotated[str, StringConstraints(min_length=1, max_length=120)]
Note = Annotated[str, StringConstraints(max_length=2000)]
Text = Annotated[str, StringConstraints(min_length=1, max_length=255)]

_LABEL = re.compile(r"^(?!-)[a-z0-9_-]{1,63}(?<!-)$")


def normal_hostname(value: str) -> str:
    """The hostname in lower case without its trailing dot; ValueError where it is not one (RFC 1123, plus '_')."""
    host = value.strip().rstrip(".").lower()
    if not host or len(host) > 253 or not all(_LABEL.match(label) for label in host.split(".")):
        raise ValueError(
            f"“{value[:80]}” is not a hostname: use letters, digits and '-' in labels of up to 63, joined by dots"
        )
    return host


Hostname = Annotated[str, AfterValidator(normal_hostname)]
"""A hostname of a machine or a web host, folded to lower case."""


def rfc3339(moment: datetime) -> str:
    """The moment as RFC 3339 in UTC with a 'Z', to the millisecond where it has one."""
    moment = moment.astimezone(UTC)
    return moment.isoformat(timespec="milliseconds" if moment.microsecond else "seconds").replace("+00:00", "Z")


_EARLIEST, _LATEST = datetime(1970, 1, 1, tzinfo=UTC), datetime(3000, 1, 1, tzinfo=UTC)


def _of_this_age(moment: datetime) -> datetime:
    if not _EARLIEST <= moment < _LATEST:
        raise ValueError("a moment must lie between 1970 and 2999")
    return moment


Timestamp = Annotated[
    AwareDatetime, AfterValidator(_of_this_age), PlainSerializer(rfc3339, return_type=str, when_used="json")
]
"""A moment between 1970 and 2999 with its zone; written as RFC 3339 in UTC."""

MOST_NUMBERED = 2**53
"""The largest whole number from outside: what every JSON reader keeps exactly (RFC 8259, 6)."""
