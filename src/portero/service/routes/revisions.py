"""The estate's history: every revision, two compared, an earlier one restored; who changed what governs a machine."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Path, Query

from portero.core import sentences
from portero.core.insight.differences import differences
from portero.core.insight.governing import governing
from portero.core.nouns.estate import Estate
from portero.core.nouns.page import Page
from portero.core.nouns.preview import Preview
from portero.core.nouns.revision import LastChange, NounWord, Revision, RevisionComparison, ToldRevision
from portero.formats.document_differences import told_change
from portero.formats.estate_document import written_estate
from portero.service.auditing import audited_router
from portero.service.problems import Refusal
from portero.service.routes.common import Authoring, Cursor, Limit, Signed, TheKeepers, answered
from portero.service.state import Snapshot
from portero.store import evidence, proofs, revisions
from portero.store.moments import moment
from portero.store.revisions import RevisionFilter

router = audited_router("revisions")
MOST_CHANGES = 5_000
MOST_EVIDENCE = 20

Number = Annotated[int, Path(ge=0, le=2**53)]
OtherNumber = Annotated[int | None, Query(ge=0, le=2**53)]


@router.get("/revisions", summary="List revisions", operation_id="listRevisions")
def list_revisions(
    _who: Signed,
    keepers: TheKeepers,
    by: Annotated[str | None, Query(max_length=120, description="Made by this administrator.")] = None,
    noun: Annotated[NounWord | None, Query(description="About this noun.")] = None,
    key: Annotated[str | None, Query(max_length=400, description="About the object of this key.")] = None,
    q: Annotated[str | None, Query(max_length=200, description="With these words in summary or reason.")] = None,
    cursor: Cursor = None,
    limit: Limit = 50,
) -> Page[Revision]:
    """Every committed change, newest first: who, when, why, and the first objects that it changed."""
    below = int(cursor) if cursor and cursor.isdigit() and len(cursor) < 16 else None
    if cursor and below is None:
        raise Refusal("bad-request", "The cursor is damaged; begin again without one.")
    with keepers.store.reading() as connection:
        found, total = revisions.list_revisions(connection, RevisionFilter(by, noun, key, q), below, limit + 1)
    more = len(found) > limit
    return Page(items=found[:limit], next=str(found[limit - 1].number) if more else None, total=total)


@router.get("/revisions/compare", summary="Compare two revisions", operation_id="compareRevisions")
def compare_revisions(
    _who: Signed,
    keepers: TheKeepers,
    from_: Annotated[int, Query(alias="from", ge=0, le=2**53)],
    to: OtherNumber = None,
) -> RevisionComparison:
    """What differs between any two revisions, as if it were one change; without `to` from one to the newest."""
    newest = keepers.estate.snapshot.revision if to is None else to
    changes = tuple(differences(keepers.estate.at(from_), keepers.estate.at(newest)))
    return RevisionComparison(
        from_=from_,
        to=newest,
        summary=sentences.summary_of(changes),
        changes=tuple(map(told_change, changes[:MOST_CHANGES])),
    )


@router.get("/revisions/{number}", summary="Show a revision", operation_id="getRevision")
def get_revision(number: Number, _who: Signed, keepers: TheKeepers) -> ToldRevision:
    """One revision with its changes, in words and as differences of documents."""
    with keepers.store.reading() as connection:
        found, proof = revisions.get_revision(connection, number), proofs.get_proof(connection, number)
        signed = evidence.of_revision(connection, number, MOST_EVIDENCE)
    if found is None:
        raise Refusal("not-found", f"There is no revision {number}; the newest is {keepers.estate.snapshot.revision}.")
    told = {"changes": tuple(map(told_change, found.changes)), "proof": proof, "evidence": tuple(signed)}
    return ToldRevision(**{**dict(found), **told})


@router.get("/revisions/{number}/estate", summary="The estate at a revision", operation_id="getEstateAt")
def get_estate_at(number: Number, _who: Signed, keepers: TheKeepers) -> dict[str, Any]:
    """All that administrators authored, as it was at a revision, in the shape of an estate document."""
    return written_estate(keepers.estate.at(number))


@router.post(
    "/revisions/{number}/restore",
    summary="Restore a revision",
    operation_id="restoreRevision",
    response_model=Revision | Preview,
)
def restore_revision(number: Number, change: Authoring) -> Revision:
    """Make the estate what it was at a revision. That is a new revision; what came between stays in the history."""
    keeper = change.keepers.estate
    seen, after = keeper.snapshot, keeper.at(number)
    change.refuse_guarded(seen.estate, after, f"restoring revision {number}")

    def edit(snapshot: Snapshot) -> Estate:
        if snapshot is not seen:
            raise Refusal("changed-meanwhile", "The estate was changed just now; look again, then restore.")
        return after

    def shown(snapshot: Snapshot) -> Revision:
        with change.keepers.store.reading() as connection:
            made = revisions.get_revision(connection, snapshot.revision)
        if made is None or snapshot is seen:
            raise Refusal("invalid", f"The estate is as it was at revision {number}; there is nothing to restore.")
        return made

    return answered(change(edit, reason=f"Restores revision {number}"), shown)


# --- who last changed what governs a machine ---


@router.get(
    "/devices/{device}/governing",
    summary="Who last changed what governs a machine",
    operation_id="listGoverning",
    tags=["devices"],
)
def list_governing(device: str, _who: Signed, keepers: TheKeepers) -> list[LastChange]:
    """Everything that governs a machine, each with the revision that last changed it; the latest first."""
    snapshot = keepers.estate.snapshot
    found = list(governing(snapshot.estate, keepers.fleet.device(device)))
    numbers = {change: snapshot.version(change.noun, change.key) for change in found}
    with keepers.store.reading() as connection:
        made = revisions.last_changes(connection, numbers.values())
    told = [
        LastChange(
            **one._asdict(),
            revision=revision["number"],
            at=moment(revision["at"]),
            by=revision["by"],
            reason=revision["reason"],
        )
        for one, number in numbers.items()
        if (revision := made.get(number)) is not None
    ]
    return sorted(told, key=lambda change: -change.revision)
