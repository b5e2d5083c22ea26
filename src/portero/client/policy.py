"""Rulesets and assignments."""

from __future__ import annotations

from collections.abc import Iterator

from portero.client.connection import Part, fields_of, segment
from portero.core.nouns.assignment import Assignment, AssignmentSummary, NewAssignment
from portero.core.nouns.ruleset import Ruleset, RulesetState, RulesetSummary


class Rulesets(Part):
    """Rulesets."""

    def list(self) -> Iterator[RulesetSummary]:
        """All rulesets; their rules are counted."""
        return self.connection.pages("/rulesets", RulesetSummary)

    def get(self, key: str) -> RulesetState:
        """One ruleset with its rules. NotFound."""
        return self.connection.get(f"/rulesets/{segment(key)}", RulesetState)

    def create(self, ruleset: Ruleset, *, reason: str | None = None) -> RulesetState:
        """Make a ruleset. AlreadyExists, Invalid."""
        return self.connection.post("/rulesets", ruleset, RulesetState, once=True, reason=reason)

    def put(self, ruleset: Ruleset, *, version: int | None, reason: str | None = None) -> RulesetState:
        """Change a ruleset as seen at `version` (None overwrites whatever there is). ChangedMeanwhile."""
        path = f"/rulesets/{segment(ruleset.key)}"
        return self.connection.put(path, ruleset, RulesetState, version, reason=reason)

    def remove(self, key: str, *, version: int | None = None, reason: str | None = None) -> None:
        """Remove a ruleset that no assignment uses. StillInUse."""
        self.connection.delete(f"/rulesets/{segment(key)}", version, reason=reason)


class Assignments(Part):
    """Assignments."""

    def list(self, *, ruleset: str | None = None, group: str | None = None) -> Iterator[AssignmentSummary]:
        """All assignments, or those of a ruleset or on a group."""
        return self.connection.pages("/assignments", AssignmentSummary, ruleset=ruleset, group=group)

    def get(self, key: str) -> AssignmentSummary:
        """One assignment. NotFound."""
        return self.connection.get(f"/assignments/{segment(key)}", AssignmentSummary)

    def create(self, assignment: NewAssignment, *, reason: str | None = None) -> AssignmentSummary:
        """Put a ruleset on groups. Invalid."""
        return self.connection.post("/assignments", assignment, AssignmentSummary, once=True, reason=reason)

    def put(self, assignment: Assignment, *, version: int | None, reason: str | None = None) -> AssignmentSummary:
        """Change anything about an assignment as seen at `version`. ChangedMeanwhile."""
        path = f"/assignments/{segment(assignment.key)}"
        return self.connection.put(path, assignment, AssignmentSummary, version, reason=reason)

    def set_state(self, key: str, state: str, *, reason: str | None = None) -> AssignmentSummary:
        """Pause an assignment (`paused`), or put it in force (`active`). NotFound, ChangedMeanwhile."""
        seen = self.get(key)
        changed = Assignment.model_validate({**fields_of(seen, Assignment), "state": state})
        return self.put(changed, version=seen.version, reason=reason)

    def remove(self, key: str, *, version: int | None = None, reason: str | None = None) -> None:
        """Take a ruleset off its groups. NotFound."""
        self.connection.delete(f"/assignments/{segment(key)}", version, reason=reason)
