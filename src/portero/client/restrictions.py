"""Restrictions for a room."""

from __future__ import annotations

from collections.abc import Iterable

from portero.client.connection import Part, segment
from portero.core.nouns.restriction import NewRestriction, RestrictionDone, Restrictions


class RestrictionsPart(Part):
    """What some machines may not do for a while."""

    def list(self, *, device: str | None = None) -> Restrictions:
        """What is restricted now, everywhere or on a machine, and what can be put on again."""
        return self.connection.get("/restrictions", Restrictions, device=device)

    def put_on(self, asked: NewRestriction, *, reason: str | None = None) -> RestrictionDone:
        """Put one on, and tell the machines. Invalid where a word means nothing, or too much."""
        return self.connection.post("/restrictions", asked, RestrictionDone, reason=reason)

    def lift(self, key: str, *, on: Iterable[str] = (), reason: str | None = None) -> RestrictionDone:
        """Lift one, everywhere or on some machines and groups. NotFound where it is put on nowhere there."""
        answer = self.connection.change(
            "DELETE", f"/restrictions/{segment(key)}", params={"on": [*on], "reason": reason}
        )
        return RestrictionDone.model_validate_json(answer.content)
