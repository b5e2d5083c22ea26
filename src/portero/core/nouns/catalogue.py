"""The programs of the fleet, by identity: versions, signers, on how many machines, since when."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from portero.core.nouns.application_correction import ApplicationCorrectionSummary
from portero.core.nouns.application_set import ApplicationCondition
from portero.core.nouns.base import Noun, Timestamp


class CatalogueVersion(Noun):
    """One version of a program: what else its files say of themselves, and on how many machines it is."""

    version: str | None = None
    file: str | None = None
    path: str | None = None
    signer: str | None = None
    certificate: str | None = None
    sha256: str | None = None
    devices: int
    starts: Annotated[int, Field(description="How often it was started in the last 14 days.")] = 0
    first_seen: Timestamp


class CatalogueEntry(Noun):
    """A program of the fleet. It is known by its product and vendor, or, where it names no product, by its file."""

    id: int
    name: Annotated[str, Field(description="Its product, or the name of its file.")]
    vendor: str | None = None
    category: Annotated[str | None, Field(description="What it is for, as machines tell, or as it was corrected.")] = (
        None
    )
    is_corrected: Annotated[bool, Field(description="Whether what it is for was corrected here.")] = False
    known_by: Annotated[str | None, Field(description="The feed of programs that names it.")] = None
    machines_tell: Annotated[str | None, Field(description="What it would be for without its correction.")] = None
    devices: Annotated[int, Field(description="On how many machines it is.")]
    starts: Annotated[int, Field(description="How often it was started in the last 14 days.")] = 0
    versions: Annotated[int, Field(description="How many versions of it there are, or were.")]
    newest: Annotated[str | None, Field(description="The version that was first seen last.")] = None
    first_seen: Timestamp
    last_seen: Annotated[Timestamp | None, Field(description="Where no machine has it any more: since when.")] = None
    condition: Annotated[
        ApplicationCondition, Field(description="The condition that holds it in an application set, in all versions.")
    ]


class CatalogueProgram(CatalogueEntry):
    """A program of the fleet with its versions, those first that were seen last."""

    correction: Annotated[
        ApplicationCorrectionSummary | None, Field(description="By whom and why what it is for was corrected.")
    ] = None
    people: Annotated[int, Field(description="How many people started it in the last 14 days.")] = 0
    started_on: Annotated[int, Field(description="On how many machines it was started in the last 14 days.")] = 0
    all_versions: Annotated[tuple[CatalogueVersion, ...], Field(description="The newest two hundred.")] = ()


class CaughtProgram(Noun):
    """A program of the fleet that a set holds."""

    id: Annotated[int, Field(description="Its number in the catalogue.")]
    name: str
    vendor: str | None = None
    category: str | None = None
    versions: tuple[str, ...] = ()
    devices: Annotated[int, Field(description="On how many machines the set holds it.")]
    people: Annotated[int, Field(description="How many people started it in the last 14 days.")] = 0
    started_on: Annotated[int, Field(description="On how many machines it was started in the last 14 days.")] = 0
    condition: Annotated[ApplicationCondition, Field(description="What names it in an application set.")]


class Catch(Noun):
    """What a set holds of the fleet's programs now, and what it would take in and let go where it is another one."""

    programs: Annotated[tuple[CaughtProgram, ...], Field(description="Those on most machines first; the first 500.")]
    devices: Annotated[int, Field(description="On how many machines there is one of them.")]
    people: Annotated[
        tuple[str, ...],
        Field(description="Who started one of them in the last 14 days, the first hundred, or their pseudonyms."),
    ] = ()
    people_in_all: Annotated[int, Field(description="How many people they are.")] = 0
    adds: Annotated[tuple[CaughtProgram, ...], Field(description="Those that the saved set of its key does not hold.")]
    releases: Annotated[tuple[CaughtProgram, ...], Field(description="Those that only the saved set holds.")]
    came: Annotated[
        tuple[CaughtProgram, ...],
        Field(description="Those, in versions, that no machine had yet when the saved set was last written."),
    ] = ()
    written_at: Annotated[Timestamp | None, Field(description="When the saved set was last written.")] = None
    sentence: str


class DeviceWithProgram(Noun):
    """A machine that has a program."""

    id: str
    hostname: str
    versions: Annotated[str | None, Field(description="Those that it has, joined by commas; None where none is known.")]


class ProgramPurpose(Noun):
    """Something that programs of the fleet are for."""

    category: str
    programs: Annotated[int, Field(description="How many programs of the fleet.")]
