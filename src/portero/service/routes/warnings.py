"""What should be known while a rule or an assignment is being written."""

from __future__ import annotations

from portero.core.insight.warnings import warn_of_assignment, warn_of_ruleset
from portero.core.nouns.estate import assignment_faults
from portero.core.nouns.worklist import AuthoringWarning, Writing
from portero.service.auditing import asks, audited_router
from portero.service.refusals import refuse_faults
from portero.service.routes.common import Author, TheKeepers

router = audited_router()


@router.post("/warnings", summary="What to know of a rule", operation_id="listWarnings", tags=["rulesets"])
@asks
def list_warnings(body: Writing, _who: Author, keepers: TheKeepers) -> list[AuthoringWarning]:
    """What should be known of a ruleset or an assignment that is being written: what will not hold where, mistyped
    hosts, what is said already, what can never win. Nothing is kept.
    """
    estate = keepers.estate.snapshot.estate
    world = keepers.foresight.world()
    found: list[AuthoringWarning] = []
    if body.ruleset is not None:
        found += warn_of_ruleset(body.ruleset, estate, world, keepers.holdings.index_in_force, keepers.lookups.beside)
    if body.assignment is not None:
        one = body.assignment.keyed(())
        ruleset = estate.ruleset_by_key.get(one.ruleset)
        if ruleset is None or list(assignment_faults((), one, ruleset)):
            return found
        refuse_faults(estate.replacing(assignments=(one,)))
        found += warn_of_assignment(one, estate, world)
    return found
