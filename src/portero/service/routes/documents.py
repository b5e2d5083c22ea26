"""The estate as a document: read whole, compared, put in force."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Query, Response

from portero.core import sentences
from portero.core.insight.contents import emptied
from portero.core.insight.differences import differences
from portero.core.insight.merging import keeping_others
from portero.core.nouns.comparison import EstateChange
from portero.core.nouns.estate import Estate
from portero.formats.estate_document import written_estate
from portero.service.problems import Problem
from portero.service.routes.common import Authoring, IfMatch, Signed, TheDesk, etag, expect_tag, tagged

router = APIRouter(tags=["estate"])

KeepOthers = Annotated[bool, Query(description="Leave alone what the document does not name.")]


@router.get("/estate", summary="The estate as a document", operation_id="getEstate")
def get_estate(response: Response, _who: Signed, desk: TheDesk) -> dict[str, Any]:
    """All that administrators author, in the shape of an estate document. Its ETag is the newest revision."""
    snapshot = desk.snapshot
    tagged(response, snapshot.revision)
    return written_estate(desk.authored)


@router.put("/estate", summary="Put a document in force", operation_id="putEstate")
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
    desk, seen = change.desk, change.desk.snapshot
    after = desk.with_frozen(keeping_others(seen.estate, body) if keep_others else body)
    change.refuse_guarded(seen.estate, after, "The document")

    def edit(before: Estate, _versions: Any) -> Estate:
        if not change.preview:
            _expect(if_match, desk.snapshot.revision)
        if before is not seen.estate:
            raise Problem("changed-meanwhile", "The estate was changed just now; compare again, then put it.")
        return after

    change(edit, noun="settings")
    contents = desk.holdings.held.contents
    changes = tuple(differences(emptied(seen.estate, contents), emptied(after, contents)))
    tagged(response, desk.snapshot.revision)
    return EstateChange(
        revision=desk.snapshot.revision, changes=changes, sentences=tuple(map(sentences.change_sentence, changes))
    )


def _expect(if_match: str | None, revision: int) -> None:
    expect_tag(if_match, etag(revision), "the estate", f"The estate was changed in revision {revision}")
