"""What is to be settled."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from portero.client.connection import Part, segment
from portero.core.nouns.finding import ChosenRemedy, DeviceName, Finding, Findings, NewAcceptance

MOST_AT_ONCE = 200


class FindingsPart(Part):
    """Findings: what an administrator should settle."""

    def list(
        self,
        *,
        severity: str | None = None,
        kind: str | None = None,
        accepted: bool | None = None,
        group: str | None = None,
        ruleset: str | None = None,
    ) -> Findings:
        """All findings, the most urgent first; of a severity or higher, of a kind, about a group or ruleset."""
        asked = {"severity": severity, "kind": kind, "accepted": accepted, "group": group, "ruleset": ruleset}
        found = self.connection.get("/findings", Findings, limit=MOST_AT_ONCE, **asked)
        items, cursor = list(found.items), found.next
        while cursor is not None:
            page = self.connection.get("/findings", Findings, limit=MOST_AT_ONCE, cursor=cursor, **asked)
            items, cursor = [*items, *page.items], page.next
        return found.model_copy(update={"items": tuple(items), "next": None})

    def get(self, id: str) -> Finding:
        """One finding. NotFound."""
        return self.connection.get(f"/findings/{segment(id)}", Finding)

    def devices(self, id: str) -> Iterator[DeviceName]:
        """All machines that it is about, by hostname. NotFound."""
        return self.connection.pages(f"/findings/{segment(id)}/devices", DeviceName)

    def accept(self, id: str, *, reason: str, until: datetime) -> Finding:
        """Say why it may stay as it is, and until when. NotFound, Invalid."""
        body = NewAcceptance(reason=reason, until=until)
        return self.connection.put(f"/findings/{segment(id)}/acceptance", body, Finding, None)

    def reopen(self, id: str) -> None:
        """Take an acceptance back. NotFound."""
        self.connection.delete(f"/findings/{segment(id)}/acceptance")

    def take_remedy(self, id: str, remedy: str, *, reason: str | None = None) -> None:
        """Make the change that settles it. NotFound, Invalid."""
        body = ChosenRemedy(remedy=remedy).model_dump()
        path = f"/findings/{segment(id)}/remedy"
        self.connection.change("POST", path, json=body, params={"reason": reason})
