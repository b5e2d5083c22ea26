"""Manifests: what the service signs, for machines to believe. Our own format: docs/reference/wire.md."""

from __future__ import annotations

from functools import lru_cache

import jwt
import msgspec
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.serialization import (
    Encoding,
    NoEncryption,
    PrivateFormat,
    PublicFormat,
    load_pem_private_key,
)

from portero.formats.packing import BadBundle

MANIFEST_FORMAT = 2
READABLE_MANIFESTS = (1, 2)
_JWS = jwt.PyJWS(algorithms=["EdDSA"])


class Manifest(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What the service signs: which bundle a class has at which revision, and the category index that goes with it.

    Manifest 1 ended with the generations. What came since says which of two is the newer one even after the service
    was restored, and for whom it is.
    """

    portero_manifest: int
    bundle: str
    bytes: int
    revision: int
    made_at: str
    index: str
    overlay: str | None = None
    """What the device that the manifest is for gets on top of the bundle of its class."""
    generations: tuple[tuple[str, int], ...] = ()
    """Of which generation of each feed the bundle and the index were made."""
    epoch: int = 0
    """Which life of the service it comes from: one that was restored begins another, whose revisions count anew."""
    groups: tuple[str, ...] = ()
    """The class that it is for, by its groups, strongest first."""
    format: int = 1
    """The format of the bundle, whose parts are named in it."""

    @property
    def age(self) -> tuple[int, int]:
        """Of two manifests the one with the higher age is the newer one."""
        return self.epoch, self.revision

    @property
    def as_first(self) -> Manifest:
        """As manifest 1, for who reads no other."""
        return msgspec.structs.replace(self, portero_manifest=1, epoch=0, groups=(), format=1)

    @property
    def name(self) -> str:
        """The digest that tells what a device holds: the overlay's, which names its bundle, or the bundle's."""
        return self.overlay or self.bundle


def new_signing_key() -> Ed25519PrivateKey:
    """A fresh Ed25519 key to sign manifests with."""
    return Ed25519PrivateKey.generate()


def key_to_text(key: Ed25519PrivateKey) -> str:
    """The private key as unencrypted PEM, to be kept where only the service reads it."""
    return key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()).decode()


def public_text_of(private_pem: str) -> str:
    """The public half of a private key as PEM, to be pinned by devices."""
    key = load_pem_private_key(private_pem.encode(), password=None)
    return key.public_key().public_bytes(Encoding.PEM, PublicFormat.SubjectPublicKeyInfo).decode()


def sign_manifest(manifest: Manifest, private_pem: str) -> str:
    """The manifest as a compact JWS (RFC 7515) signed with EdDSA (RFC 8037)."""
    return _JWS.encode(msgspec.json.encode(manifest), private_key_of(private_pem), algorithm="EdDSA")


@lru_cache(maxsize=4)
def private_key_of(private_pem: str) -> Ed25519PrivateKey:
    """The private key of its PEM form."""
    key = load_pem_private_key(private_pem.encode(), password=None)
    assert isinstance(key, Ed25519PrivateKey)
    return key


def open_manifest(token: str, public_pem: str) -> Manifest:
    """The manifest in a JWS, its signature verified. BadBundle where it is not signed by that key."""
    try:
        payload = _JWS.decode(token, public_pem, algorithms=["EdDSA"])
        manifest = _MANIFEST.decode(payload)
    except jwt.InvalidTokenError as problem:
        raise BadBundle("the manifest is not signed by this service's key") from problem
    except msgspec.MsgspecError as problem:
        raise BadBundle(f"the manifest does not read as one: {problem}") from problem
    if manifest.portero_manifest not in READABLE_MANIFESTS:
        raise BadBundle(f"the manifest is of format {manifest.portero_manifest}, which is not known here")
    return manifest


# made here, by one thread: see formats.bundles
_MANIFEST = msgspec.json.Decoder(Manifest)
