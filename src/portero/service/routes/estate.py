"""The estate as a document: read whole, compared, put in force."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Query, Response

from portero.core import sentences
from portero.core.insight.brought_rules import emptied
from portero.core.insight.differences import differences
from portero.core.insight.merging import keeping_others
from portero.core.nouns.comparison import EstateChange
from portero.core.nouns.estate import Estate
from portero.core.nouns.preview import Preview
from portero.formats.estate_document import written_estate
from portero.service.auditing import acts, audited_router
from portero.service.problems import Refusal
from portero.service.routes.common import (
    Authoring,
    IfMatch,
    Signed,
    TheKeepers,
    answered,
    etag,
    expect_tag,
    tagged,
)
from portero.service.state import Snapshot

router = audited_router("estate")

KeepOthers = Annotated[bool, Query(description="Leave alone what the document does not name.")]


@router.get("/estate", summary="The estate as a document", operation_id="getEstate")
@acts
def get_estate(response: Response, _who: Signed, keepers: TheKeepers) -> dict[str, Any]:
    """All that administrators author, in the shape of an estate document. Its ETag is the newest revision."""
    snapshot = keepers.estate.snapshot
    tagged(response, snapshot.revision)
    return written_estate(snapshot.authored)


@router.put(
    "/estate", summary="Put a document in force", operation_id="putEstate", response_model=EstateChange | Preview
)
def put_estate(
    body: Estate,
    response: Response,
    change: Authoring,
    keep_others: KeepOthers = False,
    if_match: IfMatch = None,
) -> EstateChange:
    """Make the estate what the document says: all of it in one revision, or nothing.

    What the document does not name goes, unless others are to be kept.
    """
    keeper = change.keepers.estate
    seen = keeper.snapshot
    after = keeper.with_frozen(keeping_others(seen.estate, body) if keep_others else body)
    change.refuse_guarded(seen.estate, after, "the document")

    def edit(snapshot: Snapshot) -> Estate:
        if not change.preview:
            _expect(if_match, snapshot.revision)
        if snapshot is not seen:
            raise Refusal("changed-meanwhile", "The estate was changed just now; compare again, then put it.")
        return after

    def shown(snapshot: Snapshot) -> EstateChange:
        changes = tuple(differences(seen.authored, emptied(snapshot.estate, seen.contents)))
        tagged(response, snapshot.revision)
        return EstateChange(
            revision=snapshot.revision, changes=changes, sentences=tuple(map(sentences.change_sentence, changes))
        )

    return answered(change(edit), shown)


def _expect(if_match: str | None, revision: int) -> None:
    expect_tag(if_match, etag(revision), "the estate", f"The estate was changed in revision {revision}")
