"""The policy that a machine holds: the last good bundle, its overlay, the category index; kept, checked, fetched."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import lru_cache

import httpx
import msgspec

from portero.core.digests import digest_of
from portero.core.matching.categories import EMPTY_INDEX
from portero.core.resolving.bundles import with_overlay
from portero.core.resolving.documents import Document, Shelf, counterparts
from portero.core.resolving.host_rulings import HostRulings
from portero.core.resolving.policy import Policy
from portero.endpoint.category_index import MachineIndex, fetch_part, open_index
from portero.endpoint.fetching import file_name
from portero.endpoint.folder import Folder, Identity
from portero.endpoint.kept_parts import Call, KeptParts, Look, look_of
from portero.formats.bundles import Reader, parts_of_bundle, parts_of_overlay, read_bundle
from portero.formats.category_parts import CategoryParts
from portero.formats.manifests import Manifest, open_manifest
from portero.formats.packing import BadBundle, is_packed

MANIFEST, NEWEST = "manifest.jws", "newest.json"


class Newest(msgspec.Struct, frozen=True):
    """The newest that this machine has taken, kept apart from it: nothing older is taken again, whoever puts it here.

    `groups` is the class that the machine was in then; `coming` the one of a manifest that is being written just now.
    """

    manifest: int = 1
    epoch: int = 0
    revision: int = 0
    groups: tuple[str, ...] = ()
    coming: tuple[str, ...] | None = None

    @classmethod
    def of(cls, manifest: Manifest) -> Newest:
        """Once this manifest has been taken."""
        return cls(manifest.portero_manifest, manifest.epoch, manifest.revision, manifest.groups)

    def refuse_older(self, manifest: Manifest) -> None:
        """BadBundle where the manifest is older than what was taken before."""
        if manifest.portero_manifest < self.manifest:
            raise BadBundle(f"a manifest of format {manifest.portero_manifest} comes after one of {self.manifest}")
        if manifest.age < (self.epoch, self.revision):
            raise BadBundle(
                f"the service offers revision {manifest.revision}, older than {self.revision} held here"
                + (f" (epoch {manifest.epoch} after {self.epoch})" if manifest.epoch != self.epoch else "")
            )

    def refuse_foreign(self, manifest: Manifest) -> None:
        """BadBundle where it is for machines of another class than this one's."""
        if self.manifest == manifest.portero_manifest > 1 and manifest.groups not in (self.groups, self.coming):
            raise BadBundle("it is meant for machines in other groups")


@dataclass(frozen=True)
class _Files:
    """What a manifest names, as it is kept on this machine. Without an index no host has a category."""

    bundle: bytes
    overlay: bytes | None
    categories: MachineIndex | None
    parts: KeptParts = field(compare=False)
    """What the same bundle names is the same, wherever it is kept."""


_SHELF = Shelf()
"""Parts made ready, for all endpoints of this process."""


@lru_cache(maxsize=512)
def _rulings_of(manifest: Manifest, files: _Files, hostname: str) -> HostRulings:
    reader = Reader(_SHELF, files.parts.packed)
    bundle = reader.bundle(files.bundle, manifest.bundle)
    if manifest.portero_manifest > 1 and bundle.groups != manifest.groups:
        raise BadBundle("the bundle is for another class than its manifest says")
    if manifest.overlay and files.overlay is not None:
        try:
            bundle = with_overlay(bundle, reader.overlay(files.overlay, manifest.overlay, manifest.bundle))
        except ValueError as problem:
            raise BadBundle(str(problem)) from problem
    index = open_index(files.categories) if files.categories is not None else EMPTY_INDEX
    return HostRulings(Policy(bundle, hostname if manifest.overlay else ""), index)


class HeldPolicy:
    """What this machine holds, and how it comes to hold what it should."""

    def __init__(self, folder: Folder, identity: Identity, hostname: str, *, looks_up: bool = True) -> None:
        """Without `looks_up` the category index is left alone, and no host has a category."""
        self._looks_up = looks_up
        self._folder, self._identity, self._hostname = folder, identity, hostname
        self.manifest: Manifest | None = None
        self.rulings: HostRulings | None = None
        self.index = ""
        """The digest of the category index in use; empty where none can be used."""
        self.broken = False
        """Whether what is kept on the disk cannot be taken up again."""
        self._newest = Newest()
        self._parts = KeptParts(folder, identity)
        self._named: frozenset[str] = frozenset()
        """The parts of what is in force."""
        self._signature: tuple[Look, ...] = ()

    # --- what is kept here ---

    def load(self) -> str | None:
        """Take up what is kept, verified anew: nobody can slip in another while the endpoint is off.

        What cannot be trusted is left alone, and fetched again at the next check-in. Returns why, in words.
        """
        problem = self._load_newest()
        token = self._folder.read(MANIFEST)
        if token is None:
            return problem
        try:
            manifest = open_manifest(token.decode(), self._identity.signing_key)
            self._newest.refuse_older(manifest)
            self._newest.refuse_foreign(manifest)
            return self._take(manifest) or problem
        except (BadBundle, UnicodeDecodeError, OSError) as refused:
            self.broken = True
            return f"the bundle kept on this machine cannot be trusted: {refused}"

    def _load_newest(self) -> str | None:
        try:
            self._newest = msgspec.json.decode(self._folder.read(NEWEST) or b"{}", type=Newest)
        except (msgspec.MsgspecError, OSError):
            return "what this machine has taken before could not be read; it is noted anew"
        return None

    def look_again(self) -> str | None:
        """As `load`, where files that are in use have changed since they were taken up; what was read stays in use."""
        if self.manifest is None or self._signed(self.manifest) == self._signature:
            return None
        return self.load()

    def _take(self, manifest: Manifest) -> str | None:
        """Rule by these files from now on; says where the index cannot be used. BadBundle, OSError."""
        packed = self._folder.read(self._bundle(manifest.bundle))
        overlay = self._folder.read(self._overlay(manifest.overlay)) if manifest.overlay else None
        if packed is None or (manifest.overlay and overlay is None):
            raise BadBundle("the bundle or its overlay is missing")
        named = self._parts_of(manifest, packed, overlay)
        if self._parts.lacking(named):
            raise BadBundle("a part of the bundle is missing or damaged")
        index, problem = None, None
        try:
            index = self._kept_index(manifest.index) if self._looks_up else None
        except BadBundle as damaged:
            problem = f"{damaged}; until there is one, no host has a category here"
        # the revision does not change what is decided: the same files give the same rulings
        alike = msgspec.structs.replace(manifest, revision=0, epoch=0, made_at="", generations=())
        self.rulings = _rulings_of(alike, _Files(packed, overlay, index, self._parts), self._hostname)
        self._named = named
        self.manifest, self.index = manifest, manifest.index if index is not None else ""
        self._signature, self.broken = self._signed(manifest), False
        return problem

    @staticmethod
    def _parts_of(manifest: Manifest, packed: bytes, overlay: bytes | None) -> frozenset[str]:
        """The parts that a bundle and its overlay name. BadBundle."""
        named = parts_of_bundle(packed, manifest.bundle)
        if manifest.overlay and overlay is not None:
            named |= parts_of_overlay(overlay, manifest.overlay, manifest.bundle)
        return named

    def _kept_index(self, digest: str) -> MachineIndex:
        """The index of that digest, each of its files looked through. BadBundle."""
        written = self._folder.read(self._index(digest))
        if written is None or digest_of(written) != digest:
            raise BadBundle("the category index kept on this machine is missing or damaged")
        index = MachineIndex(digest, CategoryParts.read(written), self._folder.path / "index")
        if not index.intact:
            # what is mapped of it may be damaged as well
            open_index.cache_clear()
            _rulings_of.cache_clear()
            raise BadBundle("a file of the category index kept on this machine is missing or damaged")
        return index

    def _signed(self, manifest: Manifest) -> tuple[Look, ...]:
        """How the files look that a manifest names: another look means that somebody was at them."""
        names = [MANIFEST, self._bundle(manifest.bundle), self._index(manifest.index)]
        names += map(self._parts.name, sorted(self._named))
        written = self._folder.read(self._index(manifest.index))
        if written is not None and digest_of(written) == manifest.index:
            names += [self._index(file.digest) for file in CategoryParts.read(written).files]
        return tuple(look_of(self._folder.path / name) for name in names)

    # --- what should be here ---

    async def apply(self, token: str, http: httpx.AsyncClient, call: Call) -> None:
        """Take what the service offers: all of it is fetched and checked before any of it counts.

        BadBundle, OSError, NotTaken, ServiceRefused, ServiceUnreachable.
        """
        manifest = open_manifest(token, self._identity.signing_key)
        self._newest.refuse_older(manifest)
        overlay = None
        bundle = await self._fetch(f"bundle/{manifest.bundle}", self._bundle(manifest.bundle), is_packed, call)
        if manifest.overlay:
            overlay = await self._fetch(f"overlay/{manifest.overlay}", self._overlay(manifest.overlay), is_packed, call)
        before = self._counterparts(manifest, bundle)
        await self._parts.fetch(self._parts_of(manifest, bundle, overlay), before, http, call)
        parts = await self._fetch_index(manifest.index, http, call)
        if problem := self._take(manifest):
            raise BadBundle(problem)
        self._keep(manifest, token)
        self._folder.drop_others("bundles", file_name(manifest.bundle))
        self._folder.drop_others("overlays", file_name(manifest.overlay or "none"))
        self._parts.drop_others(self._named)
        self._folder.drop_others("index", file_name(manifest.index), *(file_name(file.digest) for file in parts.files))

    def _keep(self, manifest: Manifest, token: str) -> None:
        """Keep what was taken, so that a kill at any moment leaves what can be taken up again. OSError."""
        self.broken = True
        if manifest.groups != self._newest.groups:
            self._note(msgspec.structs.replace(self._newest, coming=manifest.groups))
        self._folder.write(MANIFEST, token.encode())
        if self._newest != Newest.of(manifest):
            self._note(Newest.of(manifest))
        self._signature, self.broken = self._signed(manifest), False

    def _note(self, newest: Newest) -> None:
        self._folder.write(NEWEST, msgspec.json.encode(newest))
        self._newest = newest

    def _counterparts(self, manifest: Manifest, packed: bytes) -> dict[str, str]:
        """For each part of a bundle that stands where another one stands in the bundle held here, that one."""
        held = self._folder.read(self._bundle(self.manifest.bundle)) if self.manifest else None
        if held is None or self.manifest is None:
            return {}
        before, after = read_bundle(held, self.manifest.bundle), read_bundle(packed, manifest.bundle)
        if not isinstance(before, Document) or not isinstance(after, Document):
            return {}
        return counterparts(before, after)

    async def _fetch_index(self, digest: str, http: httpx.AsyncClient, call: Call) -> CategoryParts:
        """What the category index consists of, and those of its files that are not here yet."""
        written = await self._fetch(f"index/{digest}", self._index(digest), _is_plain, call)
        parts = CategoryParts.read(written)
        for part in parts.files:
            await fetch_part(self._folder, http, self._identity, part)
        return parts

    async def _fetch(self, path: str, name: str, is_it: Callable[[bytes, str], bool], call: Call) -> bytes:
        """What its digest names: as it is kept here, where that is what it should be, else fetched anew. BadBundle."""
        digest = path.partition("/")[2]
        held = self._folder.read(name)
        if held is not None and is_it(held, digest):
            return held
        fetched: bytes = (await call("GET", path)).content
        if not is_it(fetched, digest):
            raise BadBundle(f"the {path.partition('/')[0]} is not what its digest names; it is fetched again")
        self._folder.write(name, fetched)
        return fetched

    @staticmethod
    def _bundle(digest: str) -> str:
        return "bundles/" + file_name(digest)

    @staticmethod
    def _overlay(digest: str) -> str:
        return "overlays/" + file_name(digest)

    @staticmethod
    def _index(digest: str) -> str:
        return "index/" + file_name(digest)


def _is_plain(data: bytes, digest: str) -> bool:
    return digest_of(data) == digest
