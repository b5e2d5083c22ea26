"""What assignments with a hold-back know of the versions that their sets hold: kept as programs and edits come."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime

from portero.core.matching.hold_back import Fields, fields_of, held_versions
from portero.core.nouns.application_set import Member
from portero.core.nouns.assignment import MOST_VERSIONS, Assignment, CameLater, State
from portero.core.nouns.device import Application
from portero.core.nouns.estate import Estate

Catalogue = Mapping[str, frozenset[str]]
"""What products are for, by product, folded."""


def with_known_members(
    before: Estate | None, after: Estate, programs: Sequence[Application], catalogue: Catalogue
) -> Estate:
    """The estate after an edit, in which each assignment with a hold-back knows what is stopped at once: what its sets
    hold where it does not say yet, and what they hold by this edit, which somebody means; `before` is None where there
    was no estate before.
    """
    if all(one.hold_back is None for one in after.assignments):
        return after
    earlier = {one.key: one for one in before.assignments} if before is not None else {}
    assignments = tuple(
        _known(one, earlier.get(one.key), before, after, programs, catalogue) if one.hold_back else one
        for one in after.assignments
    )
    return after if assignments == after.assignments else after.replacing(assignments=assignments)


def _known(
    one: Assignment,
    was: Assignment | None,
    before: Estate | None,
    after: Estate,
    programs: Sequence[Application],
    catalogue: Catalogue,
) -> Assignment:
    if one.members is not None and (was is None or before is None or _hold_the_same(one, was, before, after)):
        return one
    held = _held(one, after, programs, catalogue)
    if one.members is None or was is None or before is None:
        return one.model_copy(update={"members": tuple(held.values())[:MOST_VERSIONS], "came": ()})
    # what they held before came by itself: only what this edit brings is meant
    by_itself = _held(was, before, programs, catalogue) if was.state is State.ACTIVE else {}
    own = _kept(one)
    meant = [version for known, version in held.items() if known not in own and known not in by_itself]
    return one.model_copy(update={"members": (*one.members, *meant)[:MOST_VERSIONS]}) if meant else one


def _hold_the_same(one: Assignment, was: Assignment, before: Estate, after: Estate) -> bool:
    """Whether nothing was edited on which it hangs what the assignment holds."""
    return (
        (one.ruleset, one.state) == (was.ruleset, was.state)
        and before.application_sets == after.application_sets
        and before.application_corrections == after.application_corrections
        and before.ruleset_by_key.get(one.ruleset) == after.ruleset_by_key.get(one.ruleset)
    )


def _held(
    one: Assignment, estate: Estate, programs: Sequence[Application], catalogue: Catalogue
) -> dict[Fields, Member]:
    ruleset = estate.ruleset_by_key.get(one.ruleset)
    if ruleset is None:
        return {}
    return {fields_of(version): version for version in held_versions(ruleset, estate, programs, catalogue)}


def _kept(one: Assignment) -> set[Fields]:
    return {*map(fields_of, one.members or ()), *(fields_of(other.program) for other in one.came)}


def newcomers(
    estate: Estate, programs: Sequence[Application], catalogue: Catalogue
) -> Iterator[tuple[Assignment, list[Member]]]:
    """The assignments in force with a hold-back whose sets hold versions that they know nothing of, with these."""
    for one in estate.assignments:
        if one.hold_back is not None and one.members is not None and one.state is State.ACTIVE:
            kept = _kept(one)
            new = [version for known, version in _held(one, estate, programs, catalogue).items() if known not in kept]
            if new and len(one.came) < MOST_VERSIONS:
                yield one, new[: MOST_VERSIONS - len(one.came)]


def with_newcomers(estate: Estate, programs: Sequence[Application], catalogue: Catalogue, now: datetime) -> Estate:
    """The estate in which they are noted as having come now."""
    found = {one.key: new for one, new in newcomers(estate, programs, catalogue)}
    if not found:
        return estate
    return estate.replacing(
        assignments=tuple(
            one.model_copy(
                update={"came": (*one.came, *(CameLater(program=version, at=now) for version in found[one.key]))}
            )
            if one.key in found
            else one
            for one in estate.assignments
        )
    )


def accepted(one: Assignment, versions: Sequence[Member] | None) -> Assignment:
    """The assignment in which some of the versions that came, or all, count as if they had been there before."""
    taken = [other for other in one.came if versions is None or other.program in versions]
    return one.model_copy(
        update={
            "members": (*(one.members or ()), *(other.program for other in taken))[:MOST_VERSIONS],
            "came": tuple(other for other in one.came if other not in taken),
        }
    )
