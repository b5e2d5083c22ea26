"""Groups of devices, and their one order."""

from __future__ import annotations

from typing import ClassVar

from portero.client.collection import Collection
from portero.client.connection import segment
from portero.core.nouns.browser_list import BrowserList, ListPlatform
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

    def site_list(self, key: str, browser: str = "chromium", *, platform: ListPlatform | None = None) -> BrowserList:
        """The site list that a browser of a machine in this group alone is handed now, with the very file. NotFound."""
        asked = {"browser": browser, "platform": platform}
        return self.connection.get(f"/groups/{segment(key)}/site-list", BrowserList, **asked)

    def order(self) -> PrecedenceState:
        """The one order of groups, strongest first, without the built-in ones."""
        return self.connection.get("/precedence", PrecedenceState)

    def put_order(self, order: Precedence, *, version: int | None, reason: str | None = None) -> PrecedenceState:
        """Put groups into another order, as seen at `version`. ChangedMeanwhile."""
        return self.connection.put("/precedence", order, PrecedenceState, version, reason=reason)
