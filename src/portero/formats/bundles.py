"""Bundles and manifests on the wire. The format is our own, as no open standard has one: docs/reference/wire.md."""

from __future__ import annotations

from functools import lru_cache
from typing import NamedTuple

import jwt
import msgspec
import zstandard
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.serialization import (
    Encoding,
    NoEncryption,
    PrivateFormat,
    PublicFormat,
    load_pem_private_key,
)

from portero.core.resolving.bundles import READABLE_FORMATS, Bundle, Overlay
from portero.formats.digests import digest_of

MANIFEST_FORMAT = 2
READABLE_MANIFESTS = (1, 2)
MAX_BUNDLE_BYTES = 64_000_000
_LEAST_WINDOW = 18
_JWS = jwt.PyJWS(algorithms=["EdDSA"])


class BadBundle(ValueError):
    """A bundle or manifest that must not be applied: altered, unsigned, of another format, or too big."""


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
    """The format of the bundle."""
    parts: tuple[tuple[str, str], ...] = ()
    """Further parts, by name and digest; there are none yet."""

    @property
    def age(self) -> tuple[int, int]:
        """Of two manifests the one with the higher age is the newer one."""
        return self.epoch, self.revision

    @property
    def as_first(self) -> Manifest:
        """As manifest 1, for who reads no other."""
        return msgspec.structs.replace(self, portero_manifest=1, epoch=0, groups=(), format=1, parts=())

    @property
    def name(self) -> str:
        """The digest that tells what a device holds: the overlay's, which names its bundle, or the bundle's."""
        return self.overlay or self.bundle


class CategoryPart(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One index file: its digest, its size in bytes, how many hosts it has."""

    digest: str
    bytes: int
    hosts: int


class CategoryParts(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Of which files a category index consists: a base that stays for long, and what is different since.

    A slow link fetches the difference; the base only where a new one is made.
    """

    portero_index: int
    base: CategoryPart
    difference: CategoryPart | None
    hosts: int
    newly_registered_days: int

    @classmethod
    def read(cls, data: bytes) -> CategoryParts:
        """Read what `written` wrote. BadBundle."""
        try:
            return _CATEGORY_PARTS.decode(data)
        except msgspec.MsgspecError as problem:
            raise BadBundle(f"the category index does not read as one: {problem}") from problem

    def written(self) -> bytes:
        """As JSON."""
        return msgspec.json.encode(self)

    @property
    def digest(self) -> str:
        """The name of the index: the digest of its JSON."""
        return digest_of(self.written())

    @property
    def files(self) -> tuple[CategoryPart, ...]:
        """Its files."""
        return (self.base,) if self.difference is None else (self.base, self.difference)


class PackedBundle(NamedTuple):
    """A bundle ready to travel: its digest, its size unpacked, and the compressed bytes."""

    digest: str
    size: int
    packed: bytes


def pack_bundle(bundle: Bundle) -> PackedBundle:
    """The bundle as zstd-compressed JSON, named by the SHA-256 of the JSON."""
    plain = msgspec.json.encode(bundle, order="deterministic")
    packed = zstandard.ZstdCompressor(level=9).compress(plain)
    return PackedBundle(digest_of(plain), len(plain), packed)


def write_difference(before: bytes, after: bytes) -> bytes:
    """What makes of one bundle's packed bytes another's: zstd with the former, unpacked, as its dictionary."""
    old, new = _plain(before), _plain(after)
    window = (len(old) + len(new)).bit_length() + 1
    parameters = zstandard.ZstdCompressionParameters.from_level(12, window_log=max(_LEAST_WINDOW, window))
    dictionary = zstandard.ZstdCompressionDict(old, dict_type=zstandard.DICT_TYPE_RAWCONTENT)
    return zstandard.ZstdCompressor(dict_data=dictionary, compression_params=parameters).compress(new)


def apply_difference(before: bytes, difference: bytes, digest: str) -> bytes:
    """The packed bytes of the bundle of a digest, of the packed bytes of the one before and the difference.

    BadBundle where they do not come to that bundle.
    """
    dictionary = zstandard.ZstdCompressionDict(_plain(before), dict_type=zstandard.DICT_TYPE_RAWCONTENT)
    packed = zstandard.ZstdCompressor(level=3).compress(_plain(difference, "difference to the bundle", dictionary))
    _unpacked(packed, digest, "bundle")
    return packed


def _plain(packed: bytes, what: str = "bundle", dictionary: zstandard.ZstdCompressionDict | None = None) -> bytes:
    reader = zstandard.ZstdDecompressor(dict_data=dictionary, max_window_size=1 << 27)
    try:
        # the reader sets aside at once whatever size the header claims, its own bound notwithstanding
        if zstandard.frame_content_size(packed) > MAX_BUNDLE_BYTES:
            raise BadBundle(f"the {what} says that it is larger than {MAX_BUNDLE_BYTES // 1_000_000} MB unpacked")
        return reader.decompress(packed, max_output_size=MAX_BUNDLE_BYTES)
    except zstandard.ZstdError as problem:
        raise BadBundle(f"the {what} is damaged: it cannot be unpacked") from problem


def _unpacked(packed: bytes, digest: str, what: str) -> bytes:
    plain = _plain(packed, what)
    if digest_of(plain) != digest:
        raise BadBundle(f"the {what} is not the one that its manifest names: the digests differ")
    return plain


def is_packed(packed: bytes, digest: str) -> bool:
    """Whether these bytes are, unpacked, what the digest names."""
    try:
        return digest_of(_plain(packed)) == digest
    except BadBundle:
        return False


def unpack_bundle(packed: bytes, digest: str) -> Bundle:
    """The bundle of these bytes. BadBundle where they are not what the digest names."""
    plain = _unpacked(packed, digest, "bundle")
    try:
        bundle = _BUNDLE.decode(plain)
    except msgspec.MsgspecError as problem:
        raise BadBundle(f"the bundle does not read as one: {problem}") from problem
    if bundle.portero_bundle not in READABLE_FORMATS:
        raise BadBundle(f"the bundle is of format {bundle.portero_bundle}, which is not known here")
    return bundle


class PackedOverlay(NamedTuple):
    """An overlay ready to travel: its digest and its bytes."""

    digest: str
    packed: bytes


def pack_overlay(overlay: Overlay, bundle: str) -> PackedOverlay:
    """The overlay as zstd-compressed JSON, bound to the bundle of that digest and named by the SHA-256 of the JSON."""
    plain = msgspec.json.encode({"bundle": bundle, "overlay": overlay}, order="deterministic")
    return PackedOverlay(digest_of(plain), zstandard.ZstdCompressor().compress(plain))


class _BoundOverlay(msgspec.Struct, forbid_unknown_fields=True):
    bundle: str
    overlay: Overlay


def unpack_overlay(packed: bytes, digest: str, bundle: str) -> Overlay:
    """The overlay of these bytes. BadBundle where they are not what the digest names, or for another bundle."""
    plain = _unpacked(packed, digest, "overlay")
    try:
        bound = _BOUND_OVERLAY.decode(plain)
    except msgspec.MsgspecError as problem:
        raise BadBundle(f"the overlay does not read as one: {problem}") from problem
    if bound.bundle != bundle:
        raise BadBundle("the overlay goes with another bundle")
    return bound.overlay


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
    return _JWS.encode(msgspec.json.encode(manifest), _private_key(private_pem), algorithm="EdDSA")


@lru_cache(maxsize=4)
def _private_key(private_pem: str) -> Ed25519PrivateKey:
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


# Made here, by one thread: msgspec works a type out when it is first asked for, and several threads that ask at once
# bring the process down.
_BUNDLE = msgspec.json.Decoder(Bundle)
_BOUND_OVERLAY = msgspec.json.Decoder(_BoundOverlay)
_MANIFEST = msgspec.json.Decoder(Manifest)
_CATEGORY_PARTS = msgspec.json.Decoder(CategoryParts)
