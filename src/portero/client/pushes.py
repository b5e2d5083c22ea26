"""Telling machines at once to ask for what is new."""

from __future__ import annotations

import builtins
from collections.abc import Iterator

from portero.client.connection import Part, segment
from portero.core.nouns.push import NewPush, Push, Receipt, ReceiptState


class PushesPart(Part):
    """Pushes, and the receipts of machines."""

    def create(self, new: NewPush) -> Push:
        """Tell machines now, or when they come. NotFound, AmbiguousDevice; Invalid where there is none to be told."""
        return self.connection.post("/pushes", new, Push)

    def list(self) -> builtins.list[Push]:
        """The last pushes, the newest first."""
        return self.connection.get_list("/pushes", Push)

    def get(self, push: str) -> Push:
        """One push by its id, as far as machines are with it. NotFound."""
        return self.connection.get(f"/pushes/{segment(push)}", Push)

    def receipts(self, push: str, *, state: ReceiptState | None = None, limit: int | None = None) -> Iterator[Receipt]:
        """How far each machine is with a push, by hostname, or those in one state. NotFound."""
        return self.connection.pages(f"/pushes/{segment(push)}/receipts", Receipt, limit, state=state)
