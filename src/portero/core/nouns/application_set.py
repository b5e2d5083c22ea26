"""A named set of applications: include conditions less exclude conditions."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Annotated, ClassVar, Self

from pydantic import AfterValidator, BeforeValidator, Field, StringConstraints, model_validator

from portero.core.nouns.base import Hostname, Key, Name, Noun, Text
from portero.core.nouns.membership import VersionBounds, bounds_of
from portero.core.nouns.registry import Authored, Declared, shows

Sha256 = Annotated[str, StringConstraints(pattern=r"^[0-9a-fA-F]{64}$", to_lower=True)]


class ApplicationCondition(Noun):
    """What a program must be; all that is given must hold. A version needs more beside it."""

    sha256: Sha256 | None = None
    path: Annotated[str, StringConstraints(min_length=1, max_length=1024)] | None = None
    product: Text | None = None
    file: Text | None = None
    version: Annotated[VersionBounds | None, BeforeValidator(bounds_of)] = None
    signer: Text | None = None
    certificate: Annotated[Sha256 | None, Field(description="The thumbprint of the signer's certificate.")] = None
    vendor: Text | None = None
    category: Key | None = None

    @model_validator(mode="after")
    def _says_something(self) -> Self:
        given = self.model_fields_set - {"version"}
        if not any(getattr(self, name) is not None for name in given):
            raise ValueError(
                "a condition names at least one of sha256, path, product, file, signer, certificate, vendor, category"
            )
        return self


class FrozenProgram(Noun):
    """A program of which no SHA-256 is known, by what is: all of it must be the same. Its path or file only counts
    where its product is not known.
    """

    product: Text | None = None
    vendor: Text | None = None
    version: Text | None = None
    signer: Text | None = None
    certificate: Sha256 | None = None
    path: Annotated[str, StringConstraints(min_length=1, max_length=1024)] | None = None
    file: Text | None = None

    @model_validator(mode="after")
    def _says_which(self) -> Self:
        if not (self.product or self.path or self.file):
            raise ValueError("a frozen program names its product, its path or its file; else give its SHA-256")
        return self


MOST_CONDITIONS = 2_000
"""So many conditions a set has of each sort."""


def _is_whole(folder: str) -> str:
    if not (folder.startswith("/") or folder[1:3] in (":\\", ":/")):
        raise ValueError(f"“{folder[:80]}” is no whole path; write it as in /srv/unwanted, or C:\\Unwanted")
    return folder


class WatchedFolder(Noun):
    """A folder of a machine: what is put into it becomes a member of the set."""

    device: Hostname
    folder: Annotated[str, StringConstraints(min_length=1, max_length=1024), AfterValidator(_is_whole)]


Member = Sha256 | FrozenProgram
"""A program that a list keeps: its SHA-256, or what identifies it where that is not known."""


class ApplicationSet(Authored):
    """Include conditions, and what other sets hold, less exclude conditions; exclusions win.

    A *following* set takes in what the catalogue adds later. A frozen one holds the programs in `frozen_members`, and
    no others: each by its SHA-256 where that is known, else by what identifies it best.
    """

    declared: ClassVar = Declared("application set", "application_sets", about="Named sets of programs.")
    key: Key
    name: Name | None = None
    following: bool = True
    include: Annotated[tuple[ApplicationCondition, ...], Field(max_length=MOST_CONDITIONS)] = ()
    sets: Annotated[tuple[Key, ...], Field(max_length=100, description="Other sets, whose programs it holds too.")] = ()
    watches: Annotated[
        tuple[WatchedFolder, ...],
        Field(max_length=20, description="Folders of machines: what is put there becomes a member, by its SHA-256."),
    ] = ()
    exclude: Annotated[tuple[ApplicationCondition, ...], Field(max_length=MOST_CONDITIONS)] = ()
    frozen_members: Annotated[
        tuple[Member, ...] | None, Field(max_length=20_000, description="What a frozen set holds.")
    ] = None

    @model_validator(mode="after")
    def _frozen_or_following(self) -> Self:
        if self.following and self.frozen_members is not None:
            raise ValueError("frozen_members go with “following: false”; leave one of the two out")
        if self.watches and not self.following:
            raise ValueError("a frozen set watches no folder; leave watches out, or let it follow")
        return self


def with_taken_in(keys: Iterable[str], sets: Mapping[str, ApplicationSet]) -> Iterator[str]:
    """These sets and all that they take in, each once, of those that there are."""
    waiting, seen = list(keys), set[str]()
    while waiting:
        key = waiting.pop()
        if key not in seen and key in sets:
            seen.add(key)
            yield key
            waiting += sets[key].sets


@shows(ApplicationSet)
class ApplicationSetSummary(ApplicationSet):
    """An application set as lists show it."""

    name: Name
    sentence: Annotated[str, Field(description="Whom it holds, in words.")]
    rulesets: tuple[Key, ...] = ()
    version: Annotated[int, Field(description="The revision that last changed it; also its ETag.")]
