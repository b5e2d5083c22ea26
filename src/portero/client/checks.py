"""The verdict on attempts."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from pydantic import TypeAdapter

from portero.client.connection import Part
from portero.core.nouns.action import Verdict
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.verdict import BriefVerdict, Explanation, Unjudged
from portero.core.nouns.why import Why, WhyQuestion, WhyRemedy


class ChecksPart(Part):
    """What machines would do about attempts, and why."""

    def check(self, attempt: Attempt, *, left_aside: bool = False) -> Explanation:
        """The verdict on a visit or a start, with every reason. NotFound for the device, Invalid for the URL."""
        return self.connection.consult("/check", attempt, Explanation, left_aside=left_aside or None)

    def why(self, attempt: Attempt, *, expected: Verdict | None = None) -> Why:
        """Why an attempt does, or does not, come to what was expected. NotFound for the device, Invalid for the URL."""
        return self.connection.consult("/why", WhyQuestion(attempt=attempt, expected=expected), Why)

    def mend(self, wanted: WhyRemedy, *, reason: str | None = None) -> None:
        """Make the change that mends a cause of an answer. Invalid where it has no such remedy (any more)."""
        body = wanted.model_dump(mode="json", exclude_none=True)
        self.connection.change("POST", "/why/remedy", json=body, params={"reason": reason})

    def check_batch(self, attempts: Sequence[dict[str, Any]]) -> list[Explanation | Unjudged]:
        """The verdicts on up to 1,000 attempts, in their order; one that cannot be judged has a problem instead."""
        return TypeAdapter(list[Explanation | Unjudged]).validate_json(self._batch(attempts))

    def check_briefly(self, attempts: Sequence[dict[str, Any]]) -> list[BriefVerdict | Unjudged]:
        """The same in brief: by what each attempt is decided, without the rules that lost."""
        return TypeAdapter(list[BriefVerdict | Unjudged]).validate_json(self._batch(attempts, brief=True))

    def _batch(self, attempts: Sequence[dict[str, Any]], **params: bool) -> bytes:
        body = {"attempts": list(attempts)}
        return self.connection.ask("POST", "/check/batch", json=body, params=params, timeout=120).content
