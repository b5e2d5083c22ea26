"""The board, and what overlapping groups come to."""

from __future__ import annotations

from portero.client.connection import Part
from portero.core.nouns.board import Board, GroupOverlaps, Overlap


class BoardPart(Part):
    """All that is assigned, seen at once, and what wins where groups overlap."""

    def get(self) -> Board:
        """All that is assigned, seen at once."""
        found = self.connection.get("/board", Board)
        rows, cells, cursor = list(found.rows), list(found.cells), found.next
        while cursor is not None:
            page = self.connection.get("/board", Board, cursor=cursor)
            rows, cells, cursor = [*rows, *page.rows], [*cells, *page.cells], page.next
        return found.model_copy(update={"rows": tuple(rows), "cells": tuple(cells), "next": None})

    def overlap(
        self,
        *groups: str,
        device: str | None = None,
        visit: str | None = None,
        program: str | None = None,
    ) -> Overlap:
        """What groups, or one machine's groups, each contribute, and what wins where they meet. NotFound, Invalid."""
        asked = {"group": list(groups) or None, "device": device, "visit": visit, "program": program}
        return self.connection.get("/overlaps", Overlap, **asked)

    def group_overlaps(self) -> GroupOverlaps:
        """How many machines every two groups share."""
        return self.connection.get("/group-overlaps", GroupOverlaps)
