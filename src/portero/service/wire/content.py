"""What devices fetch: their document, its parts, the category index. All is named by digest, and never changes."""

from __future__ import annotations

import io
import re
import tarfile
from typing import Annotated
from urllib.parse import unquote

import msgspec
from starlette.responses import FileResponse

from portero.core.digests import digits_of
from portero.service.keepers import Keepers
from portero.service.problems import Refusal
from portero.service.register import Registered
from portero.service.wire.calls import Call, DeviceAnswer, Headers
from portero.store import classes, overlays

MOST_AT_ONCE = 4_000_000
"""So many bytes of parts come in one answer; the rest is asked for again."""
FOR_EVER = (b"cache-control", b"private, max-age=31536000, immutable")
PACKED = b"application/zstd"

_FROM = re.compile(r"bytes=(\d{1,12})-")


_DIGEST = r"(sha256(?::|%3A)[0-9a-f]{64})"
_ADDRESS = re.compile(rf"/device/v1/(bundle|overlay|part|index|index-file)/{_DIGEST}(?:\?from={_DIGEST})?")
"""What a cache may answer: nothing that a cache and the service could understand in two ways."""


class WantedParts(msgspec.Struct, forbid_unknown_fields=True):
    """The parts that a device lacks."""

    want: Annotated[
        tuple[Annotated[str, msgspec.Meta(max_length=80)], ...], msgspec.Meta(min_length=1, max_length=2_000)
    ]


_WANTED = msgspec.json.Decoder(WantedParts)


def _immutable(call: Call, body: bytes, media_type: bytes, headers: Headers | None = None) -> DeviceAnswer:
    """Content that is named by the last name of the address, whole or from where it broke off (RFC 9110, 14)."""
    tag = f'"{call.rest}"'
    headers = [(b"etag", tag.encode()), FOR_EVER, *(headers or ())]
    if call.header(b"if-none-match") == tag:
        return DeviceAnswer(304, b"", headers)
    ranged = _FROM.fullmatch(call.header(b"range"))
    if ranged is None:
        return DeviceAnswer(200, body, headers, media_type)
    begin, size = int(ranged[1]), len(body)
    if begin >= size:
        return DeviceAnswer(416, b"", [*headers, (b"content-range", b"bytes */%d" % size)])
    headers.append((b"content-range", b"bytes %d-%d/%d" % (begin, size - 1, size)))
    return DeviceAnswer(206, body[begin:], headers, media_type)


async def bundle(call: Call) -> DeviceAnswer:
    """GET bundle/DIGEST: the document of the device's bundle, zstd-compressed; 304 where it has it."""
    known, digest, keepers = await call.device(), call.rest, call.keepers

    def read() -> bytes | None:
        with keepers.store.reading() as connection:
            is_its_own = classes.may_have(connection, known.id, digest)
        if is_its_own:
            return keepers.bundles.document(digest)
        older = keepers.older_forms.of(keepers.register.wanted(known).digest).bundle
        return older.packed if older.digest == digest else None

    # most are in the class that was asked for just before
    is_wanted = keepers.register.wanted(known).digest == digest
    packed = (keepers.bundles.at_hand(digest) if is_wanted else None) or await call.looking(read)
    if packed is None:
        raise Refusal("not-found", "This device has no such bundle; check in to learn which it should have.")
    if keepers.pushes.concern(known.id):
        await call.looking(keepers.pushes.fetched, known.id)
    return _immutable(call, packed, PACKED)


async def overlay(call: Call) -> DeviceAnswer:
    """GET overlay/DIGEST: what the device gets on top of its bundle, zstd-compressed; 304 as above."""
    known, digest, keepers = await call.device(), call.rest, call.keepers

    def read() -> bytes | None:
        with keepers.store.reading() as connection:
            if classes.may_have(connection, known.id, digest):
                found = overlays.get_overlay(connection, digest)
                return found[0] if found else None
        older = keepers.older_forms.of(keepers.register.wanted(known).digest).overlay
        return older.packed if older is not None and older.digest == digest else None

    packed = await call.looking(read)
    if packed is None:
        raise Refusal("not-found", "This device has no such overlay; check in to learn which it should have.")
    return _immutable(call, packed, PACKED)


def _part_of(keepers: Keepers, known: Registered, digest: str) -> bytes:
    """A part that the device's bundle names, packed. Refusal."""
    packed = None
    if digest in keepers.bundles.parts_of(keepers.register.wanted(known).digest):
        packed = keepers.bundles.part(digest)
    if packed is None:
        raise Refusal("not-found", "This device's bundle has no such part; check in to learn which it should have.")
    return packed


async def part(call: Call) -> DeviceAnswer:
    """GET part/DIGEST?from=DIGEST: a part of the device's bundle, zstd-compressed; 304 and 206 as above.

    Where the service still has the part that the device comes from, it answers with the difference, if that is smaller,
    and says so in `Portero-From`.
    """
    known, keepers, begin = await call.device(), call.keepers, call.query.get("from", "")

    def read() -> tuple[bytes, bytes | None]:
        packed = _part_of(keepers, known, call.rest)
        # of parts that were never its own, a device learns not even how far they are from its own
        if begin and begin in keepers.bundles.parts_of(keepers.register.given(known)):
            return packed, keepers.bundles.difference(begin, call.rest)
        return packed, None

    # most ask for what was asked for just before
    is_named = call.rest in keepers.bundles.names_at_hand(keepers.register.wanted(known).digest)
    at_hand = keepers.bundles.at_hand(call.rest) if is_named and not begin else None
    packed, difference = (at_hand, None) if at_hand is not None else await call.looking(read)
    if difference is None:
        return _immutable(call, packed, PACKED)
    return DeviceAnswer(200, difference, [(b"portero-from", begin.encode("latin-1", "replace")), FOR_EVER], PACKED)


async def parts(call: Call) -> DeviceAnswer:
    """POST parts `{"want": [DIGEST…]}`: several of them at once, as a tar (POSIX.1-2001), each named by the digits of
    its digest. Where they are too many, the last ones are left out, and asked for again.
    """
    known, wanted = await call.device(), await call.message(_WANTED)

    def read() -> bytes:
        out = io.BytesIO()
        with tarfile.open(fileobj=out, mode="w", format=tarfile.PAX_FORMAT) as archive:
            for digest in dict.fromkeys(wanted.want):
                packed = _part_of(call.keepers, known, digest)
                if out.tell() and out.tell() + len(packed) > MOST_AT_ONCE:
                    break
                member = tarfile.TarInfo(digits_of(digest))
                member.size = len(packed)
                archive.addfile(member, io.BytesIO(packed))
        return out.getvalue()

    return DeviceAnswer(200, await call.looking(read), [(b"cache-control", b"no-store")], b"application/x-tar")


async def may_have(call: Call) -> DeviceAnswer:
    """GET may-have, with the address of a document, a part or an index file in `X-Original-URI`: 204 where the device
    may have what stands there, else 403. A proxy asks it before it answers out of its cache.
    """
    known, keepers = await call.device(), call.keepers
    asked = _ADDRESS.fullmatch(call.header(b"x-original-uri"))
    kind, digest, begin = (unquote(one or "") for one in asked.groups()) if asked else ("", "", "")

    def look() -> bool:
        if kind == "part":
            named = digest in keepers.bundles.parts_of(keepers.register.wanted(known).digest)
            return named and (not begin or begin in keepers.bundles.parts_of(keepers.register.given(known)))
        if begin or not kind:
            return False
        return kind.startswith("index") or _may_have_document(keepers, known, digest)

    if not await call.looking(look):
        raise Refusal("not-allowed", "This device was not given what stands there; ask for it without a cache between.")
    if kind == "bundle" and keepers.pushes.concern(known.id):
        await call.looking(keepers.pushes.fetched, known.id)
    return DeviceAnswer(204, is_news=False)


def _may_have_document(keepers: Keepers, known: Registered, digest: str) -> bool:
    with keepers.store.reading() as connection:
        if classes.may_have(connection, known.id, digest):
            return True
    older = keepers.older_forms.of(keepers.register.wanted(known).digest)
    return digest in (older.bundle.digest, older.overlay.digest if older.overlay else None)


async def index(call: Call) -> DeviceAnswer:
    """GET index/DIGEST: of which files the category index consists, as JSON; 304 where it is known."""
    await call.device()
    kept = call.keepers.holdings.held.kept
    if call.rest != kept.digest:
        raise Refusal("not-found", "There is no such category index (any more); check in to learn which there is.")
    return _immutable(call, kept.parts.written(), b"application/json")


async def index_file(call: Call) -> FileResponse:
    """GET index-file/DIGEST: one of its files; with `Range` what is missing of it (RFC 9110, 14)."""
    await call.device()
    holdings, digest = call.keepers.holdings, call.rest
    if digest not in {file.digest for file in holdings.held.kept.parts.files}:
        raise Refusal("not-found", "The category index has no such file (any more); check in to learn what it has.")
    headers = {"ETag": f'"{digest}"', "Cache-Control": FOR_EVER[1].decode()}
    return FileResponse(holdings.artefacts.path(digest), media_type="application/octet-stream", headers=headers)
