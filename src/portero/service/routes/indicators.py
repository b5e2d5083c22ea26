"""Indicators in bulk: searched over all rulesets, brought in from files and out again, counted, cleaned up."""

from __future__ import annotations

import json
from collections.abc import Iterator
from itertools import islice
from typing import Annotated, Literal, NamedTuple

from fastapi import Body, Depends, Query, Response
from fastapi.responses import StreamingResponse
from pydantic import ValidationError

from portero.core import wording
from portero.core.insight.indicators import has_ended
from portero.core.nouns.action import Action
from portero.core.nouns.assignment import State
from portero.core.nouns.estate import NOUNS, Estate
from portero.core.nouns.faults import fault_of
from portero.core.nouns.indicator import (
    CapacityUse,
    CleanUp,
    CleanUpReason,
    FoundIndicator,
    ImportReport,
    RulesEdit,
    SetAside,
)
from portero.core.nouns.page import Page
from portero.core.nouns.preview import Preview
from portero.core.nouns.ruleset import Ruleset, RulesetState
from portero.formats.rules_csv import write_rules
from portero.formats.stix import write_bundle
from portero.service.auditing import acts, asks, audited_router
from portero.service.indicators import Format, Parcel, found_in, merged, put_in, read_parcel, without
from portero.service.keepers import Keepers
from portero.service.problems import Refusal
from portero.service.routes.common import (
    Author,
    Authoring,
    Cursor,
    IfMatch,
    Limit,
    Signed,
    TheKeepers,
    answered,
    as_json,
    expect_version,
    gives,
    offset_page,
    tagged,
    the,
)
from portero.service.routes.feeds import aside_page
from portero.service.routes.rulesets import ROUTES
from portero.service.state import Snapshot
from portero.store import indicators, revisions
from portero.store.moments import moment

router = audited_router("indicators")
Q = Annotated[str | None, Query(max_length=300, description="Part of the selector, the name or the note.")]
Origin = Annotated[Literal["hand", "feed"] | None, Query(description="Written by hand, or brought in by a feed.")]


@router.get("/indicators", summary="Search indicators", operation_id="listIndicators")
def list_indicators(
    _who: Signed,
    keepers: TheKeepers,
    q: Q = None,
    ruleset: Annotated[str | None, Query(max_length=64)] = None,
    origin: Origin = None,
    action: Action | None = None,
    ended: Annotated[bool | None, Query(description="Only those that have ended, or only those that have not.")] = None,
    cursor: Cursor = None,
    limit: Limit = 100,
) -> Page[FoundIndicator]:
    """The rules of one ruleset of whatever kind, or of all rulesets of indicators, in their order."""
    estate, now = keepers.estate.snapshot.estate, moment(keepers.now())
    assigned = {assignment.ruleset for assignment in estate.assignments if assignment.state is State.ACTIVE}
    page = offset_page(_places(keepers, q, ruleset, origin, action, ended), cursor, limit)
    items = [found_in(own, place, now, own.key in assigned) for own, place in page.items]
    return Page(items=items, next=page.next, total=page.total)


def _places(
    keepers: Keepers, q: str | None, ruleset: str | None, origin: str | None, action: Action | None, ended: bool | None
) -> list[tuple[Ruleset, int]]:
    estate, now = keepers.estate.snapshot.estate, moment(keepers.now())
    if ruleset is not None:
        wanted = [the(estate.rulesets, NOUNS["ruleset"], ruleset)]
    else:
        wanted = [one for one in estate.rulesets if one.kind == "indicator"]
    if origin is not None:
        wanted = [indicator for indicator in wanted if (indicator.feed is not None) is (origin == "feed")]
    found = [(own, place) for own in wanted for place in keepers.texts.numbers(own, q or "")]
    if action is not None:
        found = [(own, place) for own, place in found if own.rules[place].action is action]
    if ended is not None:
        found = [(own, place) for own, place in found if has_ended(own.rules[place], now) is ended]
    return found


@router.post(
    "/rulesets/{key}/rules",
    summary="Change some rules",
    operation_id="editRules",
    tags=["rulesets"],
    response_model=RulesetState | Preview,
)
def edit_rules(
    key: str, body: RulesEdit, response: Response, change: Authoring, if_match: IfMatch = None
) -> RulesetState:
    """Put some rules in, or in place of those for the same, and take some out; the others stay whatever they are.

    Without If-Match whatever there is is changed: rules are known by their selectors, so nobody else's are lost.
    """

    def edit(snapshot: Snapshot) -> Estate:
        estate = snapshot.estate
        ruleset = _own(estate, key)
        if if_match is not None:
            version = snapshot.version("ruleset", key)
            expect_version(if_match, f"the ruleset “{key}”", version, lambda: as_json(ruleset))
        known = {str(rule.selector): number for number, rule in enumerate(ruleset.rules, start=1)}
        for selector in body.remove:
            if selector not in known:
                raise Refusal("not-found", f"There is no rule “{selector[:100]}” in “{key}”.")
            if (by := ruleset.address_list_of(known[selector])) is not None:
                raise Refusal(
                    "invalid",
                    f"“{selector[:100]}” comes with the address list “{by}”; take it out there, or say something"
                    f" else of it in “{key}” itself, which goes before.",
                )
        made = merged(without(ruleset, set(body.remove)), body.put)
        return _checked(estate, ruleset, made)

    def shown(snapshot: Snapshot) -> RulesetState:
        made: RulesetState = ROUTES.tell_one(change.keepers, snapshot, key)
        tagged(response, made.version)
        return made

    return answered(change(edit), shown)


def _own(estate: Estate, key: str) -> Ruleset:
    """A ruleset that is written by hand. Refusal."""
    ruleset: Ruleset = the(estate.rulesets, NOUNS["ruleset"], key)
    if ruleset.feed is not None:
        raise Refusal(
            "invalid",
            f"What is in “{key}” is brought in by the feed “{ruleset.feed}”, and nobody else changes it; put an"
            " indicator of your own in another ruleset: one that is written by hand goes before a feed's.",
        )
    return ruleset


def _checked(estate: Estate, before: Ruleset, made: Ruleset) -> Estate:
    """The estate with a ruleset whose new rules fit it. Refusal."""
    known = set(before.rules)
    fresh = tuple(rule for rule in made.rules if rule not in known)
    try:
        Ruleset.model_validate({**made.model_dump(exclude={"rules"}), "rules": fresh})
    except ValidationError as problem:
        raise Refusal("invalid", wording.as_sentence(fault_of(problem.errors()[0]))) from problem
    return estate.replacing(rulesets=tuple(made if ruleset.key == made.key else ruleset for ruleset in estate.rulesets))


# --- files ---

Replace = Annotated[bool, Query(description="Take out what the file does not name.")]
File = Annotated[bytes, Body(media_type="application/octet-stream")]
DefaultAction = Annotated[Action | None, Query(description="Of rules that come without one.")]


class Sent(NamedTuple):
    """A file of rules that was sent for a ruleset, as it was read."""

    ruleset: Ruleset
    parcel: Parcel
    replace: bool


def _sent(
    key: str,
    body: File,
    _who: Author,
    keepers: TheKeepers,
    format: Format = "csv",
    replace: Replace = False,
    action: DefaultAction = None,
) -> Sent:
    ruleset = _own(keepers.estate.snapshot.estate, key)
    return Sent(ruleset, read_parcel(body, format, ruleset, action, moment(keepers.now())), replace)


SentFile = Annotated[Sent, Depends(_sent)]


@router.post("/rulesets/{key}/import/check", summary="Weigh a file of rules", operation_id="weighRules")
@asks
def weigh_rules(_who: Author, keepers: TheKeepers, sent: SentFile) -> ImportReport:
    """What putting a file of rules in would come to: new, changed, doubled, overlapping, ended; and what those rules
    would meet in the activity of the last 30 days. Nothing is kept.
    """
    return keepers.indicators.weigh(*sent, is_kept=False)


@router.post(
    "/rulesets/{key}/import",
    summary="Put a file of rules in",
    operation_id="importRules",
    response_model=ImportReport | Preview,
)
def import_rules(change: Authoring, sent: SentFile) -> ImportReport:
    """Put the rules of a CSV file or a STIX bundle in, in one revision: what can be used of it. Rules for the same are
    put in place of what there is. Hashes of files go to a startup ruleset; what cannot be expressed is kept aside.
    """
    keepers, key = change.keepers, sent.ruleset.key
    report = keepers.indicators.weigh(*sent, is_kept=True)

    def edit(snapshot: Snapshot) -> Estate:
        return put_in(snapshot.estate, _own(snapshot.estate, key), sent.parcel, sent.replace)

    def shown(_snapshot: Snapshot) -> ImportReport:
        with keepers.store.writing() as connection:
            indicators.set_aside(connection, key, sent.parcel.asides, keepers.now())
        return report

    reason = f"{report.new:,} new and {report.changed:,} changed rules from a file"
    return answered(change(edit, reason=reason), shown)


@router.get("/rulesets/{key}/aside", summary="What was kept aside", operation_id="listRulesetAside")
def list_aside(
    key: str, _who: Signed, keepers: TheKeepers, cursor: Cursor = None, limit: Limit = 100
) -> Page[SetAside]:
    """Objects that came with files for the ruleset and cannot be expressed here, one by one, with the reason."""
    the(keepers.estate.snapshot.estate.rulesets, NOUNS["ruleset"], key)
    return aside_page(keepers, key, cursor, limit)


@router.get(
    "/rulesets/{key}/rules.csv",
    summary="Rules as CSV",
    operation_id="exportRulesCsv",
    response_class=Response,
    responses=gives("text/csv"),
)
@acts
def export_csv(key: str, _who: Signed, keepers: TheKeepers) -> StreamingResponse:
    """All rules of a ruleset but what its address lists bring, with the columns that are read again: nothing is lost
    on the way.
    """
    ruleset: Ruleset = the(keepers.estate.snapshot.estate.rulesets, NOUNS["ruleset"], key)
    lines = write_rules(ruleset.own_rules)

    def batches() -> Iterator[str]:
        while some := "".join(islice(lines, 500)):
            yield some

    return StreamingResponse(batches(), media_type="text/csv; charset=utf-8")


@router.get(
    "/rulesets/{key}/rules.stix",
    summary="Rules as a STIX bundle",
    operation_id="exportRulesStix",
    response_class=Response,
    responses={200: {"content": {"application/stix+json": {"schema": {"type": "object"}}}}},
)
@acts
def export_stix(key: str, _who: Signed, keepers: TheKeepers) -> Response:
    """What STIX 2.1 can express of a ruleset, as indicators; `Portero-Left-Out` says how many rules it cannot."""
    ruleset: Ruleset = the(keepers.estate.snapshot.estate.rulesets, NOUNS["ruleset"], key)
    with keepers.store.reading() as connection:
        began = revisions.last_made(connection, "ruleset", [key]).get(key)
    now = moment(keepers.now())
    bundle, aside = write_bundle(key, ruleset.rules, now, moment(began[2]) if began else now)
    headers = {"Portero-Left-Out": str(len(aside))}
    return Response(json.dumps(bundle), media_type="application/stix+json;version=2.1", headers=headers)


# --- how many ---


@router.get("/indicators/capacity", summary="What machines carry", operation_id="getCapacity")
def get_capacity(_who: Signed, keepers: TheKeepers) -> CapacityUse:
    """How many indicators machines carry, of how many they may; by origin; how that grows, and when it is full."""
    return keepers.indicators.capacity()


Reasons = Annotated[
    list[CleanUpReason] | None, Query(alias="because", description="What can go because of this only; may be repeated.")
]
_ALL: tuple[CleanUpReason, ...] = ("ended", "duplicate", "overshadowed")


@router.get("/indicators/clean-up", summary="What can go", operation_id="getCleanUp")
def get_clean_up(
    _who: Signed,
    keepers: TheKeepers,
    because: Reasons = None,
    ruleset: Annotated[str | None, Query(max_length=64)] = None,
) -> CleanUp:
    """Indicators that can go without any verdict becoming another one: ended, doubled, overshadowed."""
    return keepers.indicators.clean_up(because or _ALL, ruleset)[0]


@router.post("/indicators/clean-up", summary="Clean up", operation_id="cleanUp", response_model=CleanUp | Preview)
def clean_up(
    change: Authoring, because: Reasons = None, ruleset: Annotated[str | None, Query(max_length=64)] = None
) -> CleanUp:
    """Take out what can go, in one revision; answers what went. What feeds bring is left to them."""
    told, gone = change.keepers.indicators.clean_up(because or _ALL, ruleset)

    def edit(snapshot: Snapshot) -> Estate:
        estate = snapshot.estate
        by_ruleset: dict[str, set[str]] = {}
        for item in gone:
            by_ruleset.setdefault(item.ruleset, set()).add(item.selector)
        return estate.replacing(
            rulesets=tuple(
                without(ruleset, by_ruleset[ruleset.key]) if ruleset.key in by_ruleset else ruleset
                for ruleset in estate.rulesets
            )
        )

    return answered(change(edit, reason="cleaned up"), lambda _snapshot: told)
