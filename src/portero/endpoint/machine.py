"""What the machine itself says of itself."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

import psutil

MOST_SIGNED_IN = 32
_STAT = Path("/proc/stat")


def last_start() -> datetime | None:
    """When this machine was last started: `btime` of proc_stat(5). None where it does not say."""
    try:
        for line in _STAT.read_text().splitlines():
            name, _, value = line.partition(" ")
            if name == "btime":
                return datetime.fromtimestamp(int(value), UTC)
    except (OSError, ValueError):
        pass
    return None


def signed_in() -> tuple[str, ...]:
    """Who is signed in on this machine, by their names here, as utmp(5) has it; of many the first."""
    return tuple(sorted({user.name for user in psutil.users() if user.name})[:MOST_SIGNED_IN])
