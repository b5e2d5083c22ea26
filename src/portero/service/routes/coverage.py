"""The coverage table: rows as shipped, and those that administrators put in their place."""

from __future__ import annotations

from portero.core.nouns.coverage import CoverageEntry, CoverageRow
from portero.core.nouns.estate import NOUNS, Estate
from portero.service.keepers import Keepers
from portero.service.problems import Refusal
from portero.service.routes.nouns import NounRoutes, Tell
from portero.service.state import Snapshot


def _listing(snapshot: Snapshot) -> list[CoverageRow]:
    return sorted(snapshot.estate.coverage_table.rows.values(), key=lambda row: row.key)


def _telling(_keepers: Keepers, _snapshot: Snapshot) -> Tell:
    return lambda row, version: CoverageEntry(**row.model_dump(), shipped=version is None, version=version)


def _removing(estate: Estate, key: str) -> Estate:
    """The shipped row, where there is one, counts again."""
    edited = any(row.key == key for row in estate.coverage)
    if not edited and key in estate.coverage_table.rows:
        raise Refusal("not-found", f"The coverage row “{key}” is as shipped, and stays.")
    return estate


ROUTES = NounRoutes(
    NOUNS["coverage row"],
    telling=_telling,
    listing=_listing,
    removing=_removing,
    is_made_by_post=False,
    is_paged=False,
    folded=str.casefold,
)
