"""Passwords, tokens, credentials: made here, kept as hashes only."""

from __future__ import annotations

import hashlib
import secrets
import threading
from pathlib import Path

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerifyMismatchError

from portero.core.nouns.enrolment import CODE_LETTERS
from portero.formats.bundles import key_to_text, new_signing_key
from portero.formats.owned_files import write_owned
from portero.store.data_folder import SIGNING_KEY

_HASHER = PasswordHasher()
_UNKNOWN = _HASHER.hash("nobody's password")


def hash_password(password: str) -> str:
    """An argon2id hash of the password."""
    return _HASHER.hash(password)


def password_matches(password_hash: str | None, password: str) -> bool:
    """Whether the password is that one. Takes as long for a name that is not there (None)."""
    try:
        matches = _HASHER.verify(password_hash or _UNKNOWN, password)
    except (VerifyMismatchError, InvalidHashError):
        return False
    return matches and password_hash is not None


def new_secret(prefix: str) -> str:
    """A fresh secret of 256 bits; the prefix says what it is for."""
    return f"{prefix}_{secrets.token_urlsafe(32)}"


def new_code() -> str:
    """An enrolment code that people can type: four groups of four."""
    return "-".join("".join(secrets.choice(CODE_LETTERS) for _ in range(4)) for _ in range(4))


def hash_secret(secret: str) -> str:
    """SHA-256 of a random secret. No slow hash is needed: nobody guesses 256 (a code: 79) random bits."""
    return hashlib.sha256(secret.encode()).hexdigest()


def signing_key(folder: Path) -> str:
    """The service's signing key as PEM, made at the first start and readable by its owner only."""
    path = folder / SIGNING_KEY
    if not path.exists():
        write_owned(path, key_to_text(new_signing_key()).encode())
    return path.read_text()


class Throttle:
    """Holds off those who fail too often: after `tries` failures, until `window` seconds have passed."""

    def __init__(self, tries: int = 5, window: float = 300.0) -> None:
        self._tries, self._window = tries, window
        self._failures: dict[str, list[float]] = {}
        self._lock = threading.Lock()

    def wait(self, who: str, now: float) -> float:
        """Seconds until this one may try again; 0 where at once."""
        with self._lock:
            recent = [at for at in self._failures.get(who, ()) if at > now - self._window]
            if recent:
                self._failures[who] = recent
            else:
                self._failures.pop(who, None)
            return recent[-self._tries] + self._window - now if len(recent) >= self._tries else 0.0

    def failed(self, who: str, now: float) -> None:
        """Note a failure."""
        with self._lock:
            if len(self._failures) > 10_000:
                self._failures.clear()
            self._failures.setdefault(who, []).append(now)
