"""A word in place of each person, always the same one, for those who may not see who people are."""

from __future__ import annotations

import base64
import hashlib
import hmac
import secrets
import sqlite3

from portero.store import activity, settings
from portero.store.access import Principal
from portero.store.database import Store

_KEY = "pseudonym key"
PREFIX = "person-"


class Pseudonyms:
    """Made with a key that only the store holds: nobody finds the person by trying names."""

    def __init__(self, store: Store) -> None:
        with store.writing() as connection:
            kept = settings.get(connection, _KEY)
            if kept is None:
                settings.put(connection, _KEY, kept := secrets.token_hex(32))
        self._key = bytes.fromhex(kept)

    def of(self, person: str) -> str:
        """The word for a person; the same however the name is written."""
        digest = hmac.digest(self._key, person.casefold().encode("utf-8", "replace"), hashlib.sha256)
        return PREFIX + base64.b32encode(digest[:6]).decode().rstrip("=").lower()

    def shown(self, person: str | None, who: Principal) -> str | None:
        """A person, as somebody may see them."""
        return person if person is None or who.sees_names else self.of(person)

    def meant(self, connection: sqlite3.Connection, shown: str, who: Principal) -> list[str]:
        """Those people of activity whom somebody means who sees them as that. A name, from who sees none, is nobody's:
        otherwise trying them would tell who is who.
        """
        if who.sees_names:
            return [shown]
        return [person for person in activity.people(connection) if self.of(person) == shown.strip().lower()]
