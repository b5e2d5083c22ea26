"""The kernel's questions before a program is opened to be run, and our answers: fanotify(7), by way of ctypes."""

from __future__ import annotations

import ctypes
import errno
import os
import struct
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

_CLASS_CONTENT, _CLOEXEC, _NONBLOCK, _UNLIMITED_QUEUE, _UNLIMITED_MARKS = 0x04, 0x01, 0x02, 0x10, 0x20
_MARK_ADD, _MARK_FILESYSTEM = 0x01, 0x100
_OPEN_EXEC_PERM, _OVERFLOW = 0x4_0000, 0x4000
_ALLOW, _DENY, _NO_FILE = 1, 2, -1
_EVENT, _ANSWER = struct.Struct("=IBBHQii"), struct.Struct("=iI")
_VERSION = 3
_MOST_READ = 64
"""So many questions are taken at once; the others stay with the kernel."""


class CannotGuard(Exception):
    """The kernel does not let this process guard anything; the message says why, and what it would need."""


class Question(NamedTuple):
    """A start that the kernel holds: the program, as an open file, and the process that starts it."""

    file: int
    pid: int


class KernelQuestions:
    """A group of fanotify. Of processes that share it each sees the questions that it reads itself; any may answer."""

    def __init__(self) -> None:
        """CannotGuard where this process may not, or the kernel cannot."""
        self._libc = ctypes.CDLL(None, use_errno=True)
        self._libc.fanotify_mark.argtypes = [
            *(ctypes.c_int, ctypes.c_uint, ctypes.c_uint64),
            *(ctypes.c_int, ctypes.c_char_p),
        ]
        flags = _CLASS_CONTENT | _CLOEXEC | _NONBLOCK | _UNLIMITED_QUEUE | _UNLIMITED_MARKS
        self.descriptor = self._libc.fanotify_init(flags, os.O_RDONLY | os.O_LARGEFILE | os.O_CLOEXEC)
        if self.descriptor < 0:
            raise CannotGuard(_why(ctypes.get_errno()))

    def fileno(self) -> int:
        """What becomes readable with a question."""
        return int(self.descriptor)

    def ask_of(self, place: Path) -> None:
        """Have the kernel ask before every start from the file system that a place is on. OSError where it cannot."""
        done = self._libc.fanotify_mark(
            self.descriptor, _MARK_ADD | _MARK_FILESYSTEM, _OPEN_EXEC_PERM, -1, os.fsencode(place)
        )
        if done < 0:
            number = ctypes.get_errno()
            raise OSError(number, os.strerror(number), str(place))

    def read(self) -> Iterator[Question]:
        """The questions that wait, as many as are taken at once; none where none does."""
        with suppress(BlockingIOError):
            data = os.read(self.descriptor, _EVENT.size * _MOST_READ)
            for _, version, _, _, mask, file, pid in _EVENT.iter_unpack(data):
                if version != _VERSION:
                    raise CannotGuard(f"the kernel asks in version {version} of fanotify, and {_VERSION} is understood")
                if file != _NO_FILE and not mask & _OVERFLOW:
                    yield Question(file, pid)

    def answer(self, file: int, allow: bool) -> None:
        """Let the start go on, or refuse it: “Operation not permitted”. One that was answered before stays so."""
        with suppress(FileNotFoundError):
            os.write(self.descriptor, _ANSWER.pack(file, _ALLOW if allow else _DENY))

    def close(self) -> None:
        """Ask no longer; what waits goes on, once no process has the group."""
        os.close(self.descriptor)


def _why(number: int) -> str:
    if number == errno.EPERM:
        return "stopping programs needs root"
    if number in (errno.ENOSYS, errno.EINVAL):
        return "this kernel does not ask before programs start (it needs fanotify with FAN_OPEN_EXEC_PERM, Linux 5.0)"
    return f"the kernel does not ask before programs start: {os.strerror(number)}"
