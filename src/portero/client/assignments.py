"""Assignments."""

from __future__ import annotations

from collections.abc import Sequence
from typing import ClassVar

from portero.client.collection import Collection
from portero.client.connection import fields_of
from portero.core.nouns.application_set import Member
from portero.core.nouns.assignment import AcceptedVersions, Assignment, AssignmentSummary


class Assignments(Collection[Assignment, AssignmentSummary, AssignmentSummary]):
    """Assignments; lists by `ruleset` and by `group`. One is made of a NewAssignment too, which needs no key."""

    model: ClassVar = Assignment

    def accept(
        self, key: str, versions: Sequence[Member] | None = None, *, reason: str | None = None
    ) -> AssignmentSummary:
        """Have versions that came later stopped at once from now on; all of them where none are given. NotFound."""
        body = AcceptedVersions(versions=None if versions is None else tuple(versions))
        return self.connection.post(self._at(key) + "/accept", body, AssignmentSummary, reason=reason)

    def set_state(self, key: str, state: str, *, reason: str | None = None) -> AssignmentSummary:
        """Pause an assignment (`paused`), or put it in force (`active`). NotFound, ChangedMeanwhile."""
        seen = self.get(key)
        changed = Assignment.model_validate({**fields_of(seen, Assignment), "state": state})
        return self.put(changed, version=seen.version, reason=reason)
