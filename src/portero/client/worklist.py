"""What needs a decision, and what should be known while something is being written."""

from __future__ import annotations

from portero.client.connection import Part
from portero.core.nouns.assignment import NewAssignment
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.worklist import AuthoringWarning, Worklist, Writing


class WorklistPart(Part):
    """What needs a decision, and what should be known while something is being written."""

    def get(self) -> Worklist:
        """What needs a decision, most urgent first."""
        return self.connection.get("/worklist", Worklist)

    def warnings(
        self, *, ruleset: Ruleset | None = None, assignment: NewAssignment | None = None
    ) -> list[AuthoringWarning]:
        """What should be known of a ruleset or an assignment, saved or not. Nothing is kept."""
        body = Writing(ruleset=ruleset, assignment=assignment).model_dump(mode="json", exclude_none=True)
        answer = self.connection.ask("POST", "/warnings", json=body)
        return [AuthoringWarning.model_validate(warning) for warning in answer.json()]
