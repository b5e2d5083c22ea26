"""Moments as they are given to commands: read on the clock of the estate, and said back in full."""

from __future__ import annotations

from datetime import UTC, datetime
from functools import cached_property
from zoneinfo import ZoneInfo

from portero.cli import output
from portero.cli.command import UsageProblem
from portero.client import Portero
from portero.core.nouns.base import rfc3339
from portero.core.nouns.moments import moment_in_full, read_moment


class Moments:
    """Reads moments on the clock that the estate's settings name; of a service, or without one that named."""

    def __init__(self, portero: Portero | None, zone: str = "UTC") -> None:
        self._portero, self._given = portero, zone

    @cached_property
    def _zone(self) -> str:
        return self._given if self._portero is None else self._portero.settings.get().zone

    def read(self, option: str, text: str, *, ends: bool = False) -> datetime:
        """The moment that an option gives. UsageProblem where it is none."""
        try:
            # what names its own zone needs nobody else's
            aware = datetime.fromisoformat(text)
            if aware.tzinfo is not None:
                return aware
        except ValueError:
            pass
        zone = ZoneInfo(self._zone)
        try:
            moment = read_moment(text, zone, datetime.now(UTC).replace(microsecond=0), ends=ends)
        except ValueError as problem:
            raise UsageProblem(f"{option}: {problem}") from problem
        output.note(f"{option} {text}: {moment_in_full(moment, zone, self._zone)}")
        return moment

    def written(self, option: str, text: str, *, ends: bool = False) -> str:
        """The same, as documents have it."""
        return rfc3339(self.read(option, text, ends=ends))
