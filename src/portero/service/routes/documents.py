"""The estate as a document: read whole, compared, put in force."""

from __future__ import annotations

import time
from typing import Annotated, Any

from fastapi import APIRouter, Query, Response

from portero.core.insight.comparing import compare, keeping_others
from portero.core.nouns.comparison import EstateComparison
from portero.core.nouns.estate import Estate
from portero.formats.estate_document import written_estate
from portero.service.desk import refuse_faults
from portero.service.problems import Problem
from portero.service.routes.common import Author, IfMatch, Reason, Signed, TheDesk, etag, expect_tag, tagged
from portero.store.estates import moment

router = APIRouter(tags=["estate"])

COMPARE_SECONDS = 4.0
KeepOthers = Annotated[bool, Query(description="Leave alone what the document does not name.")]
Preview = Annotated[bool, Query(description="Say what would change, and do nothing.")]


@router.get("/estate", summary="The estate as a document", operation_id="getEstate")
def get_estate(response: Response, _who: Signed, desk: TheDesk) -> dict[str, Any]:
    """All that administrators author, in the shape of an estate document. Its ETag is the newest revision."""
    snapshot = desk.snapshot
    tagged(response, snapshot.revision)
    return written_estate(snapshot.estate)


@router.put("/estate", summary="Put a document in force", operation_id="putEstate")
def put_estate(
    body: Estate,
    response: Response,
    who: Author,
    desk: TheDesk,
    keep_others: KeepOthers = False,
    preview: Preview = False,
    if_match: IfMatch = None,
    reason: Reason = None,
) -> EstateComparison:
    """Make the estate what the document says: all of it in one revision, or nothing.

    What the document does not name goes, unless others are to be kept. With `preview` nothing is kept, and the answer
    is what would change.
    """
    snapshot = desk.snapshot
    after = desk.with_frozen(keeping_others(snapshot.estate, body) if keep_others else body)
    refuse_faults(after)
    if after.settings != snapshot.estate.settings and who.role != "keeper" and not preview:
        raise Problem(
            "not-allowed",
            f"The document changes the settings, which needs the role of a keeper; {who.name} is {who.role}. Leave the"
            " settings as they are, or keep others and do not name them.",
        )
    deadline, now = time.monotonic() + COMPARE_SECONDS, desk.now()
    classes = desk.classes_under(after, now)
    found = compare(snapshot.estate, after, classes, moment(now), lambda: time.monotonic() > deadline)
    tagged(response, snapshot.revision)
    if preview:
        return found.model_copy(update={"revision": snapshot.revision})
    revision = desk.put_estate(after, snapshot, by=who.name, reason=reason, expect=_expected(if_match))
    tagged(response, revision)
    return found.model_copy(update={"revision": revision})


def _expected(if_match: str | None) -> Any:
    def expect(revision: int) -> None:
        expect_tag(if_match, etag(revision), "the estate", f"The estate was changed in revision {revision}")

    return expect
