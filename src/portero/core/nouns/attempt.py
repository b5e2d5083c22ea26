"""What somebody tries on a machine: a visit, or the start of a program."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Annotated, Any, Self

from pydantic import (
    AfterValidator,
    Field,
    SerializerFunctionWrapHandler,
    StringConstraints,
    model_serializer,
    model_validator,
)

from portero.core.nouns.base import Noun, Text, Timestamp
from portero.core.nouns.device import Address, Application, Place
from portero.core.nouns.rule import normal_media_type

Url = Annotated[str, StringConstraints(min_length=1, max_length=8192)]


_ONLY_IF_GIVEN = ("id", "url", "start", "search_term", "media_type", "address")


PROGRAM_WORD = "program:"
_SHA256 = re.compile(r"^[0-9a-fA-F]{64}$")


class Program(Application):
    """What is known of a program about to start. What is not known is left out, and no rule can match it."""


class Attempt(Noun):
    """One visit or one start: device, person, time, and what is tried. What is None was not given.

    `search_term` and `address` are taken from the URL where they are not given and it shows them; a media type never
    is.
    """

    id: Annotated[Text | int | None, Field(description="Your own name for it; echoed.")] = None
    device: Annotated[str, Field(max_length=253, description="Hostname, or permanent id, of the device.")]
    user: Text | None = None
    browser: Text | None = None
    url: Annotated[Url | None, Field(description="What is visited.")] = None
    start: Annotated[Program | None, Field(description="The program that is started.")] = None
    at: Annotated[Timestamp | None, Field(description="When; now where left out.")] = None
    place: Place | None = None
    search_term: Annotated[str, StringConstraints(max_length=2000)] | None = None
    media_type: Annotated[str, StringConstraints(max_length=150), AfterValidator(normal_media_type)] | None = None
    address: Annotated[Address | None, Field(description="The address that the host was found at.")] = None

    @model_serializer(mode="wrap")
    def _written(self, write: SerializerFunctionWrapHandler) -> dict[str, Any]:
        """Who, what, when and where always; what else an attempt may carry only where it does."""
        values: dict[str, Any] = write(self)
        for name in _ONLY_IF_GIVEN if self.start is None else (*_ONLY_IF_GIVEN, "browser"):
            if values.get(name) is None:
                values.pop(name, None)
        if self.start is not None:
            values["start"] = {name: value for name, value in values["start"].items() if value is not None}
        return values

    @model_validator(mode="after")
    def _one_thing(self) -> Self:
        if (self.url is None) == (self.start is None):
            raise ValueError("an attempt is either a visit, with a url, or a start, with a program")
        return self


def word_of(program: Program) -> str:
    """A program as such a word names it."""
    if program.sha256 and not program.product:
        return program.sha256
    return PROGRAM_WORD + (program.product or program.file or program.path or program.signer or "")


def attempted(word: str, known: Mapping[str, str] = {}) -> dict[str, Any]:
    """What a word tries, as the field of an attempt: a visit of a URL or a host; the start of a program by its SHA-256,
    or, written program:NAME, by its product, with what else is `known` of it.
    """
    if _SHA256.match(word):
        return {"start": {**known, "sha256": word.lower()}}
    if word.startswith(PROGRAM_WORD):
        return {"start": {"product": word.removeprefix(PROGRAM_WORD), **known}}
    return {"url": word}
