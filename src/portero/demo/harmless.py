"""Programs that do nothing, made by hand: to be started, or not, where the guard is shown and tested."""

from __future__ import annotations

import platform
import struct
from pathlib import Path

_CODE = {
    # xor edi, edi; mov eax, 60 (exit); syscall
    "x86_64": (62, bytes.fromhex("31ff b83c000000 0f05")),
    # mov x0, 0; mov x8, 93 (exit); svc 0
    "aarch64": (183, bytes.fromhex("000080d2 a80b80d2 010000d4")),
}
_BASE = 0x40_0000
_HEAD, _SEGMENT = struct.Struct("<4sBBBB8sHHIQQQIHHHHHH"), struct.Struct("<IIQQQQQQ")


def harmless(name: str, version: str) -> bytes:
    """A whole program (ELF, 64 bits, statically linked) that ends at once, well; another one for each name and version.
    It is marked as an AppImage, so that its product and version can be read from the name that `file_name` gives it.
    """
    machine, code = _CODE[platform.machine()]
    body = code + f"{name} {version}".encode()
    start = _HEAD.size + _SEGMENT.size
    size = start + len(body)
    head = _HEAD.pack(
        *(b"\x7fELF", 2, 1, 1, 0, b"AI\x02\0\0\0\0\0", 2, machine, 1),
        *(_BASE + start, _HEAD.size, 0, 0, _HEAD.size, _SEGMENT.size, 1, 0, 0, 0),
    )
    return head + _SEGMENT.pack(1, 5, 0, _BASE, _BASE, size, size, 0x1000) + body


def file_name(name: str, version: str) -> str:
    """What its file is called."""
    return f"{name}-{version}-{platform.machine()}.AppImage"


PROGRAMS = (("Deckhand_Viewer", "4.1"), ("Deckhand_Viewer", "4.2"), ("Tide_Table", "1.0"))


def programs_folder(data: Path) -> Path:
    """Where the demo's programs are."""
    return data / "programs"


def put_programs(data: Path) -> Path:
    """The folder of the demo's programs, with all of them in it."""
    folder = programs_folder(data)
    folder.mkdir(exist_ok=True)
    for name, version in PROGRAMS:
        put_harmless(folder, name, version)
    return folder


def put_harmless(folder: Path, name: str, version: str) -> Path:
    """Put one into a folder, ready to be started."""
    path = folder / file_name(name, version)
    contents = harmless(name, version)
    if not path.exists() or path.read_bytes() != contents:
        path.write_bytes(contents)
    path.chmod(0o755)
    return path
