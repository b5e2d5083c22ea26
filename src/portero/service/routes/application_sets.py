"""Application sets. One that is frozen without naming its members holds the programs that machines have when saved."""

from __future__ import annotations

from portero.core import sentences
from portero.core.insight.merging import put_in_place
from portero.core.nouns.application_set import ApplicationSet, ApplicationSetSummary
from portero.core.nouns.catalogue import Catch
from portero.core.nouns.estate import NOUNS, Estate
from portero.core.nouns.ruleset import Sentence
from portero.service.auditing import asks, audited_router
from portero.service.catching import catch_of
from portero.service.keepers import Keepers
from portero.service.refusals import refuse_faults
from portero.service.routes.common import Signed, TheKeepers
from portero.service.routes.nouns import NounRoutes, Tell
from portero.service.routes.uses import rulesets_naming
from portero.service.state import Snapshot

router = audited_router("application sets")
_rulesets = rulesets_naming("application_set")


def _users(estate: Estate, key: str) -> list[str]:
    """The rulesets that name a set, and the sets that take it in."""
    return [*_rulesets(estate, key), *(one.key for one in estate.application_sets if key in one.sets)]


def _telling(_keepers: Keepers, snapshot: Snapshot) -> Tell:
    def tell(application_set: ApplicationSet, version: int | None) -> ApplicationSetSummary:
        return ApplicationSetSummary(
            **{**dict(application_set), "name": application_set.name or application_set.key},
            sentence=sentences.application_set_sentence(application_set),
            rulesets=tuple(_rulesets(snapshot.estate, application_set.key)),
            version=version or 0,
        )

    return tell


ROUTES = NounRoutes(
    NOUNS["application set"],
    telling=_telling,
    users=_users,
    prepared=lambda keepers, body: keepers.estate.frozen(body),
)


@router.post("/application-sets/catch", summary="What a set catches now", operation_id="catchApplicationSet")
@asks
def catch_application_set(body: ApplicationSet, who: Signed, keepers: TheKeepers) -> Catch:
    """The programs of the fleet that a set, saved or not, holds now, on how many machines, and who started them in the
    last 14 days; and what it takes in and lets go beside the saved one of its key. Nothing is kept.
    """
    snapshot = keepers.estate.snapshot
    whole = keepers.estate.frozen(body)
    refuse_faults(snapshot.estate.replacing(application_sets=put_in_place(whole, snapshot.estate.application_sets)))
    with keepers.store.reading() as connection:
        return catch_of(
            connection,
            whole,
            snapshot.estate,
            keepers.now(),
            lambda person: keepers.pseudonyms.shown(person, who) or "",
        )


@router.post("/sentences/application-set", summary="An application set in words", operation_id="describeApplicationSet")
@asks
def describe_application_set(body: ApplicationSet, _who: Signed, keepers: TheKeepers) -> Sentence:
    """Which programs a set, saved or not, holds, in words. Nothing is kept."""
    return Sentence(sentence=sentences.application_set_sentence(keepers.estate.frozen(body)))
