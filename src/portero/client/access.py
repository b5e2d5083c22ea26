"""Signing in, one's password, sessions and API tokens."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from portero.client.connection import Part, segment
from portero.core.nouns.access import MadeToken, NewToken, Session, SessionState, Token


class AccessPart(Part):
    """Who uses the service, and by which token."""

    def sign_in(self, name: str, password: str, *, label: str, days: int = 30) -> MadeToken:
        """Make an API token by name and password, and use it from now on. NotSignedIn, PasswordChangeNeeded."""
        with self.session(name, password):
            made = self.create_token(NewToken(label=label, days=days))
        self.connection.transport.token = made.secret
        return made

    @contextmanager
    def session(self, name: str, password: str) -> Iterator[Session]:
        """Within it whatever is asked is asked in a session of that administrator, not with the token. NotSignedIn."""
        transport = self.connection.transport
        # a token that is there would go before the session
        transport.session = {}
        try:
            answer = self.connection.ask("POST", "/session", json={"name": name, "password": password})
            began = Session.model_validate_json(answer.content)
            cookie = answer.headers["set-cookie"].partition(";")[0]
            transport.session = {"X-CSRF-Token": began.csrf_token or "", "Cookie": cookie}
            try:
                yield began
            finally:
                self.sign_out()
        finally:
            transport.session = None

    def change_password(self, password: str, new_password: str) -> None:
        """Change one's own password, in a session. NotSignedIn where it is not that one; Invalid."""
        body = {"password": password, "new_password": new_password}
        self.connection.ask("PUT", "/password", json=body)

    def who_am_i(self) -> Session:
        """Who the token belongs to."""
        return self.connection.get("/session", Session)

    def sign_out(self) -> None:
        """End the token that is used, with those that it made; or the session."""
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
        self.connection.ask("DELETE", f"/tokens/{segment(id)}")

    def end_session(self, id: str) -> None:
        """End a browser session, in one: one's own, or as a keeper anybody's. NotAllowed, NotFound."""
        self.connection.ask("DELETE", f"/sessions/{segment(id)}")

    def sessions(self, *, everybody: bool = False) -> list[SessionState]:
        """Your own browser sessions, or everybody's. NotAllowed."""
        return self.connection.get_list("/sessions", SessionState, everybody=everybody or None)
