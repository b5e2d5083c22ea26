"""Bundles for devices that read no parts yet: whole, as they were before format 3. They are served for one version."""

from __future__ import annotations

from functools import lru_cache
from typing import NamedTuple

import msgspec

from portero.core.resolving.bundles import WHOLE_FORMAT
from portero.formats.bundles import Packed, pack_bundle, pack_overlay
from portero.formats.manifests import open_manifest, sign_manifest
from portero.service.bundles import Bundles, NoBundle
from portero.service.publishing import Publisher

MOST_NAMES = 50_000
"""Of so many of them it is remembered what they stand for."""


class OlderForm(NamedTuple):
    """What such a device is given in the place of a bundle or overlay."""

    bundle: Packed
    overlay: Packed | None = None

    @property
    def name(self) -> str:
        """The digest by which the device tells that it has this."""
        return self.overlay.digest if self.overlay is not None else self.bundle.digest


class OlderForms:
    """Makes them when they are asked for, and remembers the last ones."""

    def __init__(self, bundles: Bundles, publisher: Publisher, public_key: str) -> None:
        self._bundles, self._publisher, self._public_key = bundles, publisher, public_key
        self.of = lru_cache(maxsize=64)(self._made)
        self._names: dict[str, str] = {}
        self.manifest = lru_cache(maxsize=1024)(self._manifest)

    def _made(self, digest: str) -> OlderForm:
        """The older form of a bundle or overlay of that digest. NoBundle."""
        try:
            overlay, below = self._bundles.overlay(digest)
        except NoBundle:
            made = OlderForm(self._bundle(digest))
        else:
            bundle = self._bundle(below)
            made = OlderForm(bundle, pack_overlay(overlay, bundle.digest))
        while len(self._names) >= MOST_NAMES:
            self._names.pop(next(iter(self._names)), None)
        self._names[made.name] = digest
        return made

    def _bundle(self, digest: str) -> Packed:
        return pack_bundle(self._bundles.bundle(digest))

    def newer_name(self, name: str | None) -> str | None:
        """What a device has, for the service, that says that it has this."""
        return self._names.get(name, name) if name is not None else None

    def _manifest(self, token: str) -> str:
        """The manifest of the older form of what a manifest names. NoBundle."""
        manifest = open_manifest(token, self._public_key)
        older = self.of(manifest.name)
        told = msgspec.structs.replace(
            manifest,
            bundle=older.bundle.digest,
            bytes=older.bundle.size,
            overlay=older.overlay.digest if older.overlay is not None else None,
            format=WHOLE_FORMAT,
        )
        return sign_manifest(told, self._publisher.key)
