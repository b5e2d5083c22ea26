"""Passwords: what a good one is, and the hashes that are kept of them."""

from __future__ import annotations

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerifyMismatchError

from portero.core.nouns.administrator import LEAST_PASSWORD
from portero.service.problems import Refusal, field_error

# the least that OWASP's cheat sheet on storing passwords asks of argon2id, on one thread: what it costs is what is seen
_HASHER = PasswordHasher(time_cost=2, memory_cost=19_456, parallelism=1)
_UNKNOWN = _HASHER.hash("nobody's password")
_LOOKED_AT = 72
"""Letters of a password that are weighed: the time that it takes grows with their square."""
_LEAST_SCORE = 3
"""Of zxcvbn's 0 to 4: beyond 100 million guesses."""


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


def refuse_poor(password: str, name: str, field: str) -> None:
    """Refusal where it is no good password for that name: too short, the name, or one of those that many have. Nothing
    is said of which letters it is to be made of (NIST SP 800-63B-4, 3.1.1.2).
    """
    if (problem := _problem(password, name)) is not None:
        raise Refusal("invalid", f"That password {problem}.", errors=[field_error([field], problem)])


def _problem(password: str, name: str) -> str | None:
    if len(password) < LEAST_PASSWORD:
        return f"has {len(password)} letters; take {LEAST_PASSWORD} or more, such as some words that are yours"
    if name in password.casefold() and len(password) - len(name) < LEAST_PASSWORD:
        return f"is little more than your name; take {LEAST_PASSWORD} letters beside it"
    from zxcvbn import zxcvbn  # its lists take their time to load, and are seldom needed

    weighed = zxcvbn(password[:_LOOKED_AT], user_inputs=[name, "portero"])
    if weighed["score"] < _LEAST_SCORE:
        return "is one that many have, or nearly; take some words that do not belong together"
    return None
