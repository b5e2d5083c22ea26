"""Evidence as a file: a compact JWS (RFC 7515) signed with EdDSA (RFC 8037), with a `typ` and a key of its own; and the
page that is read and printed.
"""

from __future__ import annotations

import base64
import hashlib
from functools import cache
from importlib import resources

import jinja2
import jwt
from pydantic import ValidationError

from portero.core.nouns.base import without_tags
from portero.core.nouns.evidence import Evidence
from portero.core.nouns.faults import fault_at, fault_of
from portero.formats.manifests import private_key_of

TYPE = "portero-evidence+jws"
MOST_BYTES = 100_000_000
_JWS = jwt.PyJWS(algorithms=["EdDSA"])


class BadEvidence(ValueError):
    """The file is no evidence, or not signed by that key; the message says which."""


def fingerprint(public_pem: str) -> str:
    """A public key's fingerprint: the SHA-256 of its DER form, in hexadecimal digits."""
    body = "".join(line for line in public_pem.strip().splitlines() if not line.startswith("-----"))
    return hashlib.sha256(base64.b64decode(body)).hexdigest()


def sign_evidence(evidence: Evidence, private_pem: str) -> str:
    """The evidence as a signed file."""
    payload = evidence.model_dump_json(exclude_none=True).encode()
    headers = {"typ": TYPE, "kid": evidence.key}
    return _JWS.encode(payload, private_key_of(private_pem), algorithm="EdDSA", headers=headers)


def open_evidence(token: str, public_pem: str) -> Evidence:
    """The evidence in a file, its signature verified. BadEvidence."""
    try:
        key = _JWS.get_algorithm_by_name("EdDSA").prepare_key(public_pem)
    except (jwt.InvalidKeyError, ValueError) as problem:
        raise BadEvidence(
            "it is to be checked by what is no public key; “portero evidence key” writes one"
        ) from problem
    try:
        token = token.strip()
        if jwt.get_unverified_header(token).get("typ") != TYPE:
            raise BadEvidence("this file is signed, but it is no evidence")
        payload = _JWS.decode(token, key, algorithms=["EdDSA"])
        return Evidence.model_validate_json(payload)
    except ValidationError as problem:
        first = problem.errors()[0]
        raise BadEvidence(
            f"it does not read as evidence: {fault_at(without_tags(first['loc']), fault_of(first))}"
        ) from problem
    except BadEvidence:
        raise
    except (jwt.InvalidTokenError, ValueError) as problem:
        raise BadEvidence("it is not signed by this key, or something in it was altered") from problem


def evidence_page(evidence: Evidence) -> str:
    """The page that is made of it: whole in itself, with nothing to load, and made to be printed."""
    return _template().render(evidence=evidence, style=_style())


def page_policy() -> str:
    """The content security policy of the page: its own style, and nothing else."""
    digest = base64.b64encode(hashlib.sha256(_style().encode()).digest()).decode()
    return f"default-src 'none'; style-src 'sha256-{digest}'; base-uri 'none'; frame-ancestors 'none'"


@cache
def _style() -> str:
    return (resources.files("portero.formats") / "evidence.css").read_text(encoding="utf-8")


@cache
def _template() -> jinja2.Template:
    text = (resources.files("portero.formats") / "evidence.html").read_text(encoding="utf-8")
    return jinja2.Environment(autoescape=True, trim_blocks=True, lstrip_blocks=True).from_string(text)
