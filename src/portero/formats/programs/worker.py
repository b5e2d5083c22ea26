"""A process of its own that reads the headers of executables: a hostile file ends or hangs it, and nothing else."""

from __future__ import annotations

import json
import os
import resource
import select
import subprocess
import sys
from contextlib import suppress
from pathlib import Path
from typing import Any

SECONDS = 5.0
"""For one file."""
_MOST_MEMORY = 2 * 10**9


class HeaderReader:
    """Reads one file after another, in a process that is started when it is first needed, and again where it ended."""

    def __init__(self) -> None:
        self._process: subprocess.Popen[bytes] | None = None

    def read(self, path: Path) -> dict[str, Any]:
        """What `executables.described` says of a file; `problems` where it could not be read."""
        process = self._running()
        assert process.stdin is not None
        assert process.stdout is not None
        try:
            process.stdin.write(json.dumps(os.fsencode(path).hex()).encode() + b"\n")
            process.stdin.flush()
            ready = select.select([process.stdout], [], [], SECONDS)[0]
            line = process.stdout.readline() if ready else b""
        except OSError:
            line, ready = b"", [process.stdout]
        if line.endswith(b"\n"):
            found: dict[str, Any] = json.loads(line)
            return found
        self.close()
        how = "are broken" if ready else f"take longer to read than {SECONDS:.0f} s"
        return {"problems": [f"its headers {how}"]}

    def _running(self) -> subprocess.Popen[bytes]:
        if self._process is None:
            self._process = subprocess.Popen(
                [sys.executable, "-m", __name__],
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                stderr=subprocess.DEVNULL,
            )
        return self._process

    def close(self) -> None:
        """End the process."""
        process, self._process = self._process, None
        if process is not None:
            process.kill()
            process.wait()
            for pipe in (process.stdin, process.stdout):
                with suppress(OSError):
                    if pipe is not None:
                        pipe.close()


def _serve() -> None:
    resource.setrlimit(resource.RLIMIT_AS, (_MOST_MEMORY, _MOST_MEMORY))
    # after the bound: what it takes to load counts too
    from portero.formats.programs.executables import described

    for line in sys.stdin.buffer:
        path = Path(os.fsdecode(bytes.fromhex(json.loads(line))))
        try:
            answer = described(path)
        except Exception as problem:
            answer = {"problems": [f"its headers cannot be read: {type(problem).__name__}"]}
        sys.stdout.write(json.dumps(answer) + "\n")
        sys.stdout.flush()


if __name__ == "__main__":
    _serve()
