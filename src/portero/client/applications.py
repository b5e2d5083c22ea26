"""The catalogue: the programs of the fleet."""

from __future__ import annotations

import builtins
from collections.abc import Iterator
from typing import Any

from portero.client.connection import Part
from portero.core.nouns.catalogue import (
    CatalogueEntry,
    CatalogueProgram,
    CaughtProgram,
    DeviceWithProgram,
    ProgramPurpose,
)


class ApplicationsPart(Part):
    """Programs of the fleet."""

    def list(self, *, limit: int | None = None, **filters: Any) -> Iterator[CatalogueEntry]:
        """Programs by identity, those on most machines first. Filters: q, category, new, gone, corrected, known."""
        return self.connection.pages("/applications", CatalogueEntry, limit, **filters)

    def started(self, group: str, *, days: int = 14) -> builtins.list[CaughtProgram]:
        """The programs that were started on a group's machines today and so many days before. NotFound."""
        return self.connection.get_list("/application-starts", CaughtProgram, group=group, days=days)

    def categories(self) -> builtins.list[ProgramPurpose]:
        """What the programs of the fleet are for, those of most programs first."""
        return self.connection.get_list("/application-categories", ProgramPurpose)

    def get(self, application: int) -> CatalogueProgram:
        """One program with its versions. NotFound."""
        return self.connection.get(f"/applications/{application}", CatalogueProgram)

    def devices(self, application: int, *, limit: int | None = None) -> Iterator[DeviceWithProgram]:
        """The machines that have it, by hostname."""
        return self.connection.pages(f"/applications/{application}/devices", DeviceWithProgram, limit)
