"""Times as they are stored: seconds since 1970 in UTC."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import overload


@overload
def moment(seconds: float) -> datetime: ...
@overload
def moment(seconds: None) -> None: ...
def moment(seconds: float | None) -> datetime | None:
    """Stored seconds as a moment in UTC."""
    return None if seconds is None else datetime.fromtimestamp(seconds, UTC)
