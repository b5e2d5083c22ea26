"""An endpoint's folder as one leaves it that has joined and taken its bundle, without a service."""

from __future__ import annotations

from pathlib import Path

from portero.core.nouns.estate import Estate
from portero.core.resolving.compiling import compile_bundle
from portero.endpoint.folder import Folder, Identity
from portero.formats.bundles import pack_bundle
from portero.formats.manifests import Manifest, key_to_text, new_signing_key, public_text_of, sign_manifest


def joined_folder(path: Path, estate: Estate) -> Folder:
    """A machine of the whole fleet alone."""
    key, folder = key_to_text(new_signing_key()), Folder(path)
    packed = pack_bundle(compile_bundle(estate, ("whole-fleet",)))
    manifest = Manifest(1, packed.digest, packed.size, 1, "2026-01-01T00:00:00Z", "sha256:0")
    folder.keep_identity(Identity("", "made", "", public_text_of(key), {"hostname": "made-01"}))
    folder.write("bundles/" + packed.digest.partition(":")[2], packed.packed)
    folder.write("manifest.jws", sign_manifest(manifest, key).encode())
    return folder
