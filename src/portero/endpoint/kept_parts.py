"""The parts of bundles that are kept on this machine: checked, and fetched where they are missing or damaged."""

from __future__ import annotations

import io
import tarfile
from collections.abc import Awaitable, Callable, Collection, Mapping
from pathlib import Path

import httpx

from portero.endpoint.fetching import file_name, gather
from portero.endpoint.folder import Folder, Identity
from portero.formats.packing import MAX_BUNDLE_BYTES, BadBundle, apply_difference, is_packed

FEW = 4
"""So many parts are fetched each by itself, so that caches on the way can answer; more of them in one go."""
MOST_IN_ONE = 2_000

Call = Callable[..., Awaitable[httpx.Response]]
"""Asks the service: method, path, options of httpx."""
Look = tuple[int, int, int]
"""How a file looks from outside: another look means that somebody was at it."""


def look_of(path: Path) -> Look:
    """How a file looks; one that is not there looks like nothing."""
    try:
        seen = path.stat()
    except OSError:
        return (0, 0, 0)
    return seen.st_ino, seen.st_size, seen.st_mtime_ns


class KeptParts:
    """Those in a folder."""

    def __init__(self, folder: Folder, identity: Identity) -> None:
        self._folder, self._identity = folder, identity
        self._intact: dict[str, Look] = {}
        """How those looked that were found to be what their names say."""

    @staticmethod
    def name(digest: str) -> str:
        """The name of a part's file in the folder."""
        return "parts/" + file_name(digest)

    def packed(self, digest: str) -> bytes | None:
        """A part's packed bytes, or None."""
        return self._folder.read(self.name(digest))

    def lacking(self, digests: Collection[str]) -> list[str]:
        """Those of these parts that are not here, or are not what their names say."""
        return [digest for digest in digests if not self._is_intact(digest)]

    def _is_intact(self, digest: str) -> bool:
        look = look_of(self._folder.path / self.name(digest))
        if not look[1] or self._intact.get(digest) == look:
            return bool(look[1])
        packed = self.packed(digest)
        if packed is None or not is_packed(packed, digest):
            self._intact.pop(digest, None)
            return False
        self._intact[digest] = look
        return True

    def drop_others(self, digests: Collection[str]) -> None:
        """Remove all but these."""
        self._folder.drop_others("parts", *map(file_name, digests))
        self._intact = {digest: look for digest, look in self._intact.items() if digest in digests}

    # --- fetched ---

    async def fetch(
        self, digests: Collection[str], before: Mapping[str, str], http: httpx.AsyncClient, call: Call
    ) -> None:
        """Fetch those of these parts that are lacking; `before` tells which part, held here, one comes from.

        BadBundle, OSError, NotTaken, ServiceRefused, ServiceUnreachable.
        """
        lacking = self.lacking(digests)
        for digest in [digest for digest in lacking if digest in before]:
            if await self._fetch_difference(digest, before[digest], call):
                lacking.remove(digest)
        while len(lacking) > FEW:
            await self._fetch_together(lacking[:MOST_IN_ONE], call)
            left = self.lacking(lacking)
            if len(left) == len(lacking):
                raise BadBundle("the service does not give the parts that the bundle names; they are asked for again")
            lacking = left
        for digest in lacking:
            await self._fetch_whole(digest, http)

    async def _fetch_difference(self, digest: str, before: str, call: Call) -> bool:
        """A part as it differs from one that is here, or whole; whether it came to what its name says."""
        held = self.packed(before)
        if held is None:
            return False
        answer = await call("GET", f"part/{digest}", params={"from": before})
        packed = answer.content
        if answer.headers.get("Portero-From") == before:
            try:
                packed = apply_difference(held, packed, digest)
            except BadBundle:
                return False
        return self._keep(digest, packed)

    async def _fetch_together(self, digests: Collection[str], call: Call) -> None:
        answer = await call("POST", "parts", json={"want": list(digests)})
        wanted = {file_name(digest): digest for digest in digests}
        try:
            with tarfile.open(fileobj=io.BytesIO(answer.content)) as archive:
                for member in archive:
                    file, digest = archive.extractfile(member), wanted.get(member.name)
                    if file is not None and digest is not None:
                        self._keep(digest, file.read())
        except tarfile.TarError as problem:
            raise BadBundle(f"the parts do not come as they should ({problem}); they are fetched again") from problem

    async def _fetch_whole(self, digest: str, http: httpx.AsyncClient) -> None:
        path = self._folder.part(self.name(digest))
        # another process of this machine may fetch the same into the same file: then once more, from the beginning
        for _ in range(2):
            await gather(http, self._identity, f"part/{digest}", path, look_of(path)[1], MAX_BUNDLE_BYTES)
            kept = self._keep(digest, self._folder.read(self.name(digest) + ".part") or b"")
            path.unlink(missing_ok=True)
            if kept or self._is_intact(digest):
                return
        raise BadBundle("a part of the bundle was damaged on its way; it is fetched again")

    def _keep(self, digest: str, packed: bytes) -> bool:
        """Keep a part, if it is what its name says; whether it is."""
        if not is_packed(packed, digest):
            return False
        self._folder.write(self.name(digest), packed)
        return True
