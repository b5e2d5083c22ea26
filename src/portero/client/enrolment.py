"""EnrolmentPart codes and invitations."""

from __future__ import annotations

from collections.abc import Iterator

from portero.client.connection import Part, segment
from portero.core.nouns.enrolment import EnrolmentCode, EnrolmentCodeSummary, Invitations, Invited, NewEnrolmentCode


class EnrolmentPart(Part):
    """EnrolmentPart codes and invitations."""

    def codes(self) -> Iterator[EnrolmentCodeSummary]:
        """All enrolment codes, newest first, without the codes themselves."""
        return self.connection.pages("/enrolment-codes", EnrolmentCodeSummary)

    def create_code(self, new: NewEnrolmentCode | None = None) -> EnrolmentCode:
        """An enrolment code by which devices join; shown this once."""
        return self.connection.post("/enrolment-codes", new or NewEnrolmentCode(), EnrolmentCode)

    def revoke_code(self, id: str) -> None:
        """Take a code back. NotFound."""
        self.connection.delete(f"/enrolment-codes/{segment(id)}")

    def invite(self, invitations: Invitations) -> Invited:
        """Make machines known before they join, with a code each where wanted; all of them or none. Invalid."""
        return self.connection.post("/invitations", invitations, Invited)

    def invite_csv(self, data: bytes, *, hours: int = 24 * 14, codes: bool = True) -> Invited:
        """The same from a list as CSV; Invalid names each bad line in its errors."""
        params = {"hours": hours, "codes": codes}
        headers = {"Content-Type": "text/csv; charset=utf-8"}
        answer = self.connection.ask("POST", "/invitations/csv", content=data, params=params, headers=headers)
        return Invited.model_validate_json(answer.content)
