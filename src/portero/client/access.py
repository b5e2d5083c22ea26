"""Signing in, and API tokens."""

from __future__ import annotations

from portero.client.connection import Part
from portero.core.nouns.access import MadeToken, Session, Token


class AccessPart(Part):
    """Who uses the service, and by which token."""

    def sign_in(self, name: str, password: str, *, label: str, days: int | None = 30) -> MadeToken:
        """Make an API token by name and password, and use it from now on. NotSignedIn."""
        transport = self.connection.transport
        # a token that is there would go before the session, and make the new one its own
        transport.token = None
        answer = self.connection.ask("POST", "/session", json={"name": name, "password": password})
        cookie = answer.headers["set-cookie"].partition(";")[0]
        session = {"X-CSRF-Token": answer.json()["csrf_token"], "Cookie": cookie}
        body = {"label": label, "days": days} if days else {"label": label}
        made = MadeToken.model_validate_json(self.connection.ask("POST", "/tokens", json=body, headers=session).content)
        self.connection.ask("DELETE", "/session", headers=session)
        transport.token = made.secret
        return made

    def who_am_i(self) -> Session:
        """Who the token belongs to."""
        return self.connection.get("/session", Session)

    def tokens(self) -> list[Token]:
        """Your own API tokens."""
        return self.connection.get_list("/tokens", Token)
