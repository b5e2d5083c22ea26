"""What programs are for, put right here, with who and why."""

from __future__ import annotations

from portero.core.nouns.application_correction import ApplicationCorrection, ApplicationCorrectionSummary
from portero.core.nouns.estate import NOUNS
from portero.service.keepers import Keepers
from portero.service.routes.nouns import NounRoutes, Tell
from portero.service.state import Snapshot
from portero.store import catalogue, revisions
from portero.store.moments import moment


def _telling(keepers: Keepers, snapshot: Snapshot) -> Tell:
    corrections = snapshot.estate.application_corrections
    with keepers.store.reading() as connection:
        told = catalogue.categories_told(connection, [one.product for one in corrections])
        made = revisions.last_made(connection, NOUN.word, [one.product for one in corrections])

    def tell(correction: ApplicationCorrection, version: int | None) -> ApplicationCorrectionSummary:
        by, at = made.get(correction.product, (0, None, None))[1:]
        return ApplicationCorrectionSummary(
            **dict(correction),
            by=by,
            at=moment(at) if at is not None else None,
            machines_tell=told.get(correction.product.casefold(), ()),
            version=version or 0,
        )

    return tell


NOUN = NOUNS["application correction"]
ROUTES = NounRoutes(NOUN, telling=_telling, is_made_by_post=False)
