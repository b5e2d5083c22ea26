"""Passwords, tokens, credentials: made here, kept as hashes only."""

from __future__ import annotations

import hashlib
import secrets
from pathlib import Path

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerifyMismatchError

from portero.core.nouns.enrolment import CODE_LETTERS
from portero.formats.bundles import key_to_text, new_signing_key
from portero.formats.owned_files import write_owned
from portero.store.data_folder import SIGNING_KEY

# the least that OWASP's cheat sheet on storing passwords asks of argon2id, on one thread: what it costs is what is seen
_HASHER = PasswordHasher(time_cost=2, memory_cost=19_456, parallelism=1)
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


def needs_rehash(password_hash: str) -> bool:
    """Whether it was made with other costs than today's."""
    return _HASHER.check_needs_rehash(password_hash)


def new_secret(prefix: str) -> str:
    """A fresh secret of 256 bits; the prefix says what it is for."""
    return f"{prefix}_{secrets.token_urlsafe(32)}"


def new_id() -> str:
    """A fresh id for a session or a token: it names, and opens nothing."""
    return secrets.token_hex(5)


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
