"""What programs are for, in words of our own, and what a program's file says of itself."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

from pydantic import Field, StringConstraints

from portero.core.nouns.base import Noun
from portero.core.nouns.device import Application


class ProgramCategory(StrEnum):
    """What a program is for. Facts may name others: a set's condition names any."""

    ARCHIVER = "archiver"
    BROWSER = "browser"
    CHAT = "chat"
    DEVELOPER_TOOLS = "developer-tools"
    FILE_TRANSFER = "file-transfer"
    GAMES = "games"
    IMAGING = "imaging"
    MAIL = "mail"
    MEDIA = "media"
    OFFICE = "office"
    REMOTE_ACCESS = "remote-access"
    SYSTEM = "system"
    TEXT_EDITOR = "text-editor"
    VIRTUALISATION = "virtualisation"


class ProgramKind(StrEnum):
    """What sort of file it is."""

    ELF = "elf"
    PE = "pe"
    SCRIPT = "script"
    OTHER = "other"


class ReadProgram(Noun):
    """A program as its file, its package and its desktop entry tell of it."""

    application: Application
    kind: ProgramKind
    size: Annotated[int, Field(description="In bytes.")]
    package: Annotated[str | None, Field(description="The package that owns the file.")] = None
    build_id: Annotated[
        str | None, Field(description="What its linker named it by (an ELF note), in hexadecimal digits.")
    ] = None
    problems: Annotated[
        tuple[Annotated[str, StringConstraints(max_length=300)], ...],
        Field(description="What could not be read, or is not as it should be, in words."),
    ] = ()
