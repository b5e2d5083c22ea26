"""IndicatorsPart in bulk."""

from __future__ import annotations

from collections.abc import Iterator

from portero.client.connection import LONG_SECONDS, STREAM, Part, given, segment
from portero.core.nouns.indicator import CapacityUse, CleanUp, FoundIndicator, ImportReport, RulesEdit, SetAside
from portero.core.nouns.ruleset import RulesetState


class IndicatorsPart(Part):
    """Rules in bulk, of rulesets of indicators mostly."""

    def search(
        self,
        q: str | None = None,
        *,
        ruleset: str | None = None,
        origin: str | None = None,
        action: str | None = None,
        ended: bool | None = None,
        limit: int | None = None,
    ) -> Iterator[FoundIndicator]:
        """Rules in which a text stands; of a ruleset; of an origin, `hand` or `feed`; of an action; ended or not."""
        asked = {"q": q, "ruleset": ruleset, "origin": origin, "action": action, "ended": ended}
        return self.connection.pages("/indicators", FoundIndicator, limit, **asked)

    def edit(self, ruleset: str, edit: RulesEdit, *, reason: str | None = None) -> RulesetState:
        """Put some rules in and take some out. NotFound, Invalid."""
        return self.connection.post(f"/rulesets/{segment(ruleset)}/rules", edit, RulesetState, reason=reason)

    def weigh(
        self, ruleset: str, data: bytes, *, format: str = "csv", replace: bool = False, action: str | None = None
    ) -> ImportReport:
        """What putting a file in would come to; nothing is kept. NotFound, Invalid, BadRequest."""
        params = given({"format": format, "replace": replace, "action": action})
        path = f"/rulesets/{segment(ruleset)}/import/check"
        answer = self.connection.ask("POST", path, params=params, content=data, headers=STREAM, timeout=LONG_SECONDS)
        return ImportReport.model_validate_json(answer.content)

    def put_in(
        self,
        ruleset: str,
        data: bytes,
        *,
        format: str = "csv",
        replace: bool = False,
        action: str | None = None,
        reason: str | None = None,
    ) -> ImportReport:
        """Put the rules of a CSV file or a STIX bundle in, in one revision. NotFound, Invalid, BadRequest."""
        params = {"format": format, "replace": replace, "action": action, "reason": reason}
        path = f"/rulesets/{segment(ruleset)}/import"
        answer = self.connection.change("POST", path, params=params, content=data, headers=STREAM, timeout=LONG_SECONDS)
        return ImportReport.model_validate_json(answer.content)

    def export(self, ruleset: str, *, format: str = "csv") -> tuple[bytes, int]:
        """All rules of a ruleset as CSV or as a STIX bundle, and how many could not be expressed. NotFound."""
        path = f"/rulesets/{segment(ruleset)}/rules.{format}"
        answer = self.connection.ask("GET", path, timeout=LONG_SECONDS)
        return answer.content, int(answer.headers.get("portero-left-out", 0))

    def aside(self, ruleset: str) -> Iterator[SetAside]:
        """What came with files for a ruleset and cannot be expressed here."""
        return self.connection.pages(f"/rulesets/{segment(ruleset)}/aside", SetAside)

    def capacity(self) -> CapacityUse:
        """How many indicators machines carry, of how many they may."""
        return self.connection.get("/indicators/capacity", CapacityUse)

    def cleanable(self, *, reasons: list[str] | None = None, ruleset: str | None = None) -> CleanUp:
        """What can go without any verdict becoming another one."""
        return self.connection.get("/indicators/clean-up", CleanUp, because=reasons, ruleset=ruleset)

    def clean_up(
        self, *, reasons: list[str] | None = None, ruleset: str | None = None, reason: str | None = None
    ) -> CleanUp:
        """Take it out, in one revision; answers what went."""
        params = {"because": reasons, "ruleset": ruleset, "reason": reason}
        answer = self.connection.change("POST", "/indicators/clean-up", params=params, timeout=LONG_SECONDS)
        return CleanUp.model_validate_json(answer.content)
