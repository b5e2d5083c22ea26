"""Tokens, credentials, codes: made here, kept as hashes only."""

from __future__ import annotations

import hashlib
import secrets
from pathlib import Path

from portero.core.nouns.enrolment import CODE_LETTERS
from portero.formats.manifests import key_to_text, new_signing_key
from portero.formats.owned_files import write_owned
from portero.store.data_folder import EVIDENCE_KEY, SIGNING_KEY


def new_secret(prefix: str) -> str:
    """A fresh secret of 256 bits; the prefix says what it is for."""
    return f"{prefix}_{secrets.token_urlsafe(32)}"


def new_id() -> str:
    """A fresh id for a session or a token: it names, and opens nothing."""
    return secrets.token_hex(5)


def new_code() -> str:
    """A code that people can type: four groups of four."""
    return "-".join("".join(secrets.choice(CODE_LETTERS) for _ in range(4)) for _ in range(4))


def hash_secret(secret: str) -> str:
    """SHA-256 of a random secret. No slow hash is needed: nobody guesses 256 (a code: 79) random bits."""
    return hashlib.sha256(secret.encode()).hexdigest()


def signing_key(folder: Path) -> str:
    """The key by which the service signs what machines hold."""
    return _key(folder / SIGNING_KEY)


def evidence_key(folder: Path) -> str:
    """The key by which the service signs evidence: another one, so that neither is ever taken for the other."""
    return _key(folder / EVIDENCE_KEY)


def _key(path: Path) -> str:
    """A private key as PEM, made when it is first asked for and readable by its owner only."""
    if not path.exists():
        write_owned(path, key_to_text(new_signing_key()).encode())
    return path.read_text()
