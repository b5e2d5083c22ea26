"""What classes and single devices should have, compiled and signed. Nothing is read or kept here."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from functools import lru_cache
from typing import Protocol

from portero.core.nouns.base import rfc3339
from portero.core.resolving.compiling import compile_bundle, compile_overlay
from portero.core.resolving.documents import DOCUMENT_FORMAT, Parts, in_parts, overlay_in_parts
from portero.formats.bundles import pack_document, pack_named_overlay
from portero.formats.manifests import MANIFEST_FORMAT, Manifest, open_manifest, public_text_of, sign_manifest
from portero.service.state import Naming, Snapshot
from portero.store.classes import DeviceClass
from portero.store.moments import moment
from portero.store.overlays import DeviceOverlay
from portero.store.plans import Groups, PlannedClass, PlannedOverlay


class HasDigest(Protocol):
    """A bundle by its digest, and its size unpacked."""

    @property
    def digest(self) -> str: ...
    @property
    def size(self) -> int: ...


@lru_cache(maxsize=1024)
def _as_first(token: str, key: str) -> str:
    return sign_manifest(open_manifest(token, public_text_of(key)).as_first, key)


@dataclass(frozen=True)
class Publisher:
    """Compiles and signs with the service's key."""

    key: str

    def manifest(
        self, naming: Naming, own: HasDigest, groups: Groups, revision: int, now: float, overlay: str | None = None
    ) -> str:
        """The signed manifest of the bundle of a class at a revision, and of an overlay on top of it."""
        manifest = Manifest(
            portero_manifest=MANIFEST_FORMAT,
            bundle=own.digest,
            bytes=own.size,
            revision=revision,
            made_at=rfc3339(moment(now)),
            index=naming.index,
            overlay=overlay,
            generations=naming.generations,
            epoch=naming.epoch,
            groups=groups,
            format=DOCUMENT_FORMAT,
        )
        return sign_manifest(manifest, self.key)

    def readable(self, token: str, formats: Collection[int]) -> str:
        """A manifest in the newest form that a device reads."""
        return token if MANIFEST_FORMAT in formats else _as_first(token, self.key)

    def compiled(
        self, snapshot: Snapshot, groups: Groups, known: DeviceClass | None, now: float, parts: Parts
    ) -> PlannedClass | None:
        """The class of these groups with its bundle compiled anew; where that is the one it has, as `refreshed`."""
        packed = pack_document(in_parts(compile_bundle(snapshot.estate, groups), parts))
        if known is not None and packed.digest == known.digest:
            return self.refreshed(snapshot, known, now)
        manifest = self.manifest(snapshot.naming, packed, groups, snapshot.revision, now)
        return PlannedClass(known.id if known else None, groups, packed, manifest, snapshot.revision)

    def refreshed(self, snapshot: Snapshot, known: DeviceClass, now: float) -> PlannedClass | None:
        """A class's bundle signed for the newest revision: devices that move into the class go forward, never back.
        None where it is.
        """
        return self.signed(snapshot, known, snapshot.revision, now) if known.revision < snapshot.revision else None

    def signed(self, snapshot: Snapshot, known: DeviceClass, revision: int, now: float) -> PlannedClass:
        """A class's bundle as it is, signed for a revision."""
        manifest = self.manifest(snapshot.naming, known, known.groups, revision, now)
        return PlannedClass(known.id, known.groups, None, manifest, revision)

    def overlay(
        self,
        snapshot: Snapshot,
        device: str,
        names: Collection[str],
        own: DeviceClass,
        had: DeviceOverlay | None,
        now: float,
        parts: Parts,
    ) -> tuple[PlannedOverlay | None, bool]:
        """What a device gets on top of its class's bundle, None where that is what it has; and whether what it then
        has is something else.
        """
        overlay = compile_overlay(snapshot.estate, own.groups, names)
        if overlay is None:
            return (PlannedOverlay(device), True) if had is not None else (None, False)
        packed = pack_named_overlay(overlay_in_parts(overlay, parts), own.digest)
        other = had is None or had.digest != packed.digest
        if not other and had is not None and had.revision >= own.revision:
            return None, False
        manifest = self.manifest(snapshot.naming, own, own.groups, snapshot.revision, now, packed.digest)
        return PlannedOverlay(device, manifest, packed, own.digest, snapshot.revision), other
