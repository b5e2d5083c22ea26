"""Of which files a category index consists, as machines are told it."""

from __future__ import annotations

import msgspec

from portero.core.digests import digest_of
from portero.formats.packing import BadBundle


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


# made here, by one thread: see formats.bundles
_CATEGORY_PARTS = msgspec.json.Decoder(CategoryParts)
