"""Groups of devices, and their one order."""

from __future__ import annotations

from typing import ClassVar

from portero.client.collection import Collection
from portero.client.connection import segment
from portero.core.nouns.group import (
    CopiedGroup,
    Group,
    GroupPreview,
    GroupSummary,
    Precedence,
    PrecedenceState,
)


class Groups(Collection[Group, GroupSummary, GroupSummary]):
    """Groups, strongest first."""

    model: ClassVar = Group

    def preview(self, group: Group) -> GroupPreview:
        """Whom the group, saved or not, would hold; who comes in and who drops out. Nothing is kept."""
        return self.connection.consult("/groups/preview", group, GroupPreview)

    def copy(self, key: str, new: CopiedGroup, *, reason: str | None = None) -> GroupSummary:
        """A group with the same rule and pins, right behind the original. AlreadyExists."""
        return self.connection.post(f"/groups/{segment(key)}/copy", new, GroupSummary, reason=reason)

    def order(self) -> PrecedenceState:
        """The one order of groups, strongest first, without the built-in ones."""
        return self.connection.get("/precedence", PrecedenceState)

    def put_order(self, order: Precedence, *, version: int | None, reason: str | None = None) -> PrecedenceState:
        """Put groups into another order, as seen at `version`. ChangedMeanwhile."""
        return self.connection.put("/precedence", order, PrecedenceState, version, reason=reason)
