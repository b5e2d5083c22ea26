"""What the desktop calls a program and what it says it is for: .desktop files (Desktop Entry Specification)."""

from __future__ import annotations

import configparser
import shlex
import shutil
from collections.abc import Iterable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

from portero.core.nouns.program import ProgramCategory

FOLDERS = (Path("/usr/share/applications"), Path("/usr/local/share/applications"))
MOST_BYTES, MOST_ENTRIES = 200_000, 5_000
_CATEGORIES = {
    "WebBrowser": ProgramCategory.BROWSER,
    "Email": ProgramCategory.MAIL,
    "InstantMessaging": ProgramCategory.CHAT,
    "Chat": ProgramCategory.CHAT,
    "IRCClient": ProgramCategory.CHAT,
    "VideoConference": ProgramCategory.CHAT,
    "RemoteAccess": ProgramCategory.REMOTE_ACCESS,
    "FileTransfer": ProgramCategory.FILE_TRANSFER,
    "P2P": ProgramCategory.FILE_TRANSFER,
    "Archiving": ProgramCategory.ARCHIVER,
    "Compression": ProgramCategory.ARCHIVER,
    "Emulator": ProgramCategory.VIRTUALISATION,
    "Game": ProgramCategory.GAMES,
    "TextEditor": ProgramCategory.TEXT_EDITOR,
    "Development": ProgramCategory.DEVELOPER_TOOLS,
    "Office": ProgramCategory.OFFICE,
    "AudioVideo": ProgramCategory.MEDIA,
    "Audio": ProgramCategory.MEDIA,
    "Video": ProgramCategory.MEDIA,
    "Graphics": ProgramCategory.IMAGING,
    "System": ProgramCategory.SYSTEM,
    "Settings": ProgramCategory.SYSTEM,
}
"""The registered categories, the telling ones first: a mail program is in Office too."""


class DesktopEntry(NamedTuple):
    """An entry of the desktop's menu."""

    name: str
    category: ProgramCategory | None


def desktop_entries(folders: Iterable[Path] = FOLDERS) -> dict[Path, DesktopEntry]:
    """The entries of these folders, by the real path of the program that each starts."""
    found: dict[Path, DesktopEntry] = {}
    for file in _files(folders):
        with suppress(OSError, ValueError, configparser.Error, RuntimeError):
            program, entry = _read(file)
            if program is not None:
                found.setdefault(program.resolve(), entry)
    return found


def _files(folders: Iterable[Path]) -> Iterator[Path]:
    for folder in folders:
        yield from sorted(folder.glob("*.desktop"))[:MOST_ENTRIES]


def _read(file: Path) -> tuple[Path | None, DesktopEntry]:
    with file.open("rb") as opened:
        text = opened.read(MOST_BYTES).decode(errors="replace")
    parser = configparser.RawConfigParser(strict=False, delimiters=("=",), comment_prefixes=("#",))
    parser.optionxform = str  # type: ignore[assignment,method-assign]
    parser.read_string(text)
    values = parser["Desktop Entry"] if parser.has_section("Desktop Entry") else {}
    words = shlex.split(values.get("Exec", ""))
    while words and (words[0] == "env" or "=" in words[0]):
        words.pop(0)
    program = shutil.which(words[0]) if words else None
    named = values.get("Categories", "").split(";")
    category = next((ours for theirs, ours in _CATEGORIES.items() if theirs in named), None)
    return Path(program) if program else None, DesktopEntry(values.get("Name", file.stem)[:255], category)
