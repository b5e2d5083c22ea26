"""The test program: it does nothing, and has the product and the version that it is made with. So there is something to
start, or not, for any rule that names programs.
"""

from __future__ import annotations

import platform
import re
import struct
from pathlib import Path

_CODE = {
    # xor edi, edi; mov eax, 60 (exit); syscall
    "x86_64": (62, bytes.fromhex("31ff b83c000000 0f05")),
    # mov x0, 0; mov x8, 93 (exit); svc 0
    "aarch64": (183, bytes.fromhex("000080d2 a80b80d2 010000d4")),
}
_BASE = 0x40_0000
_NAME, _VERSION = re.compile(r"[A-Za-z0-9][A-Za-z0-9_.-]{0,99}"), re.compile(r"[0-9]+(\.[0-9]+){0,5}")
_HEAD, _SEGMENT = struct.Struct("<4sBBBB8sHHIQQQIHHHHHH"), struct.Struct("<IIQQQQQQ")


def test_program(name: str, version: str) -> bytes:
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


def put_test_program(folder: Path, name: str, version: str) -> Path:
    """Put one into a folder, ready to be started; its path. OSError; ValueError where no file may be called so."""
    if not _NAME.fullmatch(name) or not _VERSION.fullmatch(version):
        raise ValueError("a product is of letters, digits, “_”, “-” and “.”; a version of digits and dots, as in 4.1")
    path = folder / file_name(name, version)
    contents = test_program(name, version)
    if not path.exists() or path.read_bytes() != contents:
        path.write_bytes(contents)
    path.chmod(0o755)
    return path
