"""Signing in, and API tokens."""

from __future__ import annotations

from portero.client.connection import Part
from portero.core.nouns.access import MadeToken, NewToken, Session, SessionState, Token


class AccessPart(Part):
    """Who uses the service, and by which token."""

    def sign_in(self, name: str, password: str, *, label: str, days: int = 30) -> MadeToken:
        """Make an API token by name and password, and use it from now on. NotSignedIn."""
        transport = self.connection.transport
        # a token that is there would go before the session, and make the new one its own
        transport.token = None
        answer = self.connection.ask("POST", "/session", json={"name": name, "password": password})
        cookie = answer.headers["set-cookie"].partition(";")[0]
        session = {"X-CSRF-Token": answer.json()["csrf_token"], "Cookie": cookie}
        body = {"label": label, "days": days}
        made = MadeToken.model_validate_json(self.connection.ask("POST", "/tokens", json=body, headers=session).content)
        self.connection.ask("DELETE", "/session", headers=session)
        transport.token = made.secret
        return made

    def who_am_i(self) -> Session:
        """Who the token belongs to."""
        return self.connection.get("/session", Session)

    def sign_out(self) -> None:
        """End the token that is used, with those that it made."""
        self.connection.ask("DELETE", "/session")

    def tokens(self, *, everybody: bool = False) -> list[Token]:
        """Your own API tokens, or everybody's. NotAllowed."""
        return self.connection.get_list("/tokens", Token, everybody=everybody or None)

    def create_token(self, new: NewToken) -> MadeToken:
        """Make a token with this one: it may less, and ends no later. NotAllowed."""
        body = new.model_dump(mode="json", exclude_none=True)
        return MadeToken.model_validate_json(self.connection.ask("POST", "/tokens", json=body).content)

    def end_token(self, id: str) -> None:
        """End this token, or one that it made, with those that that one made. NotAllowed, NotFound."""
        self.connection.ask("DELETE", f"/tokens/{id}")

    def sessions(self, *, everybody: bool = False) -> list[SessionState]:
        """Your own browser sessions, or everybody's. NotAllowed."""
        return self.connection.get_list("/sessions", SessionState, everybody=everybody or None)
