"""The catalogue: the programs of the fleet."""

from __future__ import annotations

from typing import Annotated

from fastapi import Path, Query

from portero.core.nouns.base import MOST_NUMBERED
from portero.core.nouns.catalogue import (
    CatalogueEntry,
    CatalogueProgram,
    CaughtProgram,
    DeviceWithProgram,
    ProgramPurpose,
)
from portero.core.nouns.page import Page
from portero.service.auditing import audited_router
from portero.service.catching import started_programs
from portero.service.keepers import Keepers
from portero.service.problems import Refusal
from portero.service.routes.application_corrections import ROUTES as CORRECTIONS
from portero.service.routes.common import Cursor, Limit, Signed, TheKeepers, refuse_unknown_group
from portero.store import catalogue, starts
from portero.store.catalogue import CatalogueFilter

router = audited_router("applications")


def _corrected(keepers: Keepers) -> catalogue.Corrected:
    return keepers.estate.snapshot.estate.corrected_programs


Number = Annotated[int, Path(ge=0, le=MOST_NUMBERED, description="Its number in the catalogue.")]


@router.get("/applications", summary="List programs of the fleet", operation_id="listApplications")
def list_applications(
    _who: Signed,
    keepers: TheKeepers,
    q: Annotated[
        str | None, Query(max_length=200, description="Words of its name, its vendor or its category.")
    ] = None,
    category: Annotated[str | None, Query(max_length=64, description="What it is for.")] = None,
    new: Annotated[bool, Query(description="New on the fleet within a week, or in a version that is.")] = False,
    gone: Annotated[bool, Query(description="Those that no machine has any more.")] = False,
    corrected: Annotated[bool, Query(description="Those of which it was put right what they are for.")] = False,
    known: Annotated[bool, Query(description="Those that a feed of programs names, and no machine has.")] = False,
    cursor: Cursor = None,
    limit: Limit = 100,
) -> Page[CatalogueEntry]:
    """The programs of the fleet by identity, those on most machines first."""
    filter, purposes = CatalogueFilter(q, category, new, gone, corrected, known), _corrected(keepers)
    with keepers.store.reading() as connection:
        found = catalogue.list_programs(connection, filter, purposes, keepers.now(), cursor, limit)
    items = [catalogue.entry_of(row, purposes) for row in found.rows]
    return Page(items=items, next=found.next, total=found.total)


@router.get("/application-categories", summary="What programs are for", operation_id="listApplicationCategories")
def list_application_categories(_who: Signed, keepers: TheKeepers) -> list[ProgramPurpose]:
    """What the programs of the fleet are for, those of most programs first."""
    with keepers.store.reading() as connection:
        return catalogue.purposes(connection, _corrected(keepers))


@router.get("/application-starts", summary="What was started on a group", operation_id="listApplicationStarts")
def list_application_starts(
    _who: Signed,
    keepers: TheKeepers,
    group: Annotated[str, Query(max_length=64, description="Of its machines.")],
    days: Annotated[int, Query(ge=0, le=365, description="Today, and so many days before.")] = 14,
) -> list[CaughtProgram]:
    """The programs that were started on the machines of a group, those on most machines first: what an allow-list is
    drawn up from. On how many of these machines, and by how many people anywhere.
    """
    estate = keepers.estate.snapshot.estate
    refuse_unknown_group(estate, group)
    devices = keepers.fleet.members.in_group(group).keys()
    with keepers.store.reading() as connection:
        return started_programs(connection, estate, devices, starts.since(keepers.now(), days))


@router.get("/applications/{application}", summary="Show a program", operation_id="getApplication")
def get_application(application: Number, _who: Signed, keepers: TheKeepers) -> CatalogueProgram:
    """A program with its versions: who signed them, on how many machines they are, and since when."""
    with keepers.store.reading() as connection:
        row = catalogue.get_program(connection, application)
        if row is None:
            raise Refusal("not-found", f"There is no program {application} in the catalogue.")
        since = starts.since(keepers.now())
        versions = catalogue.versions_of(connection, application, since)
        use = starts.use_of(connection, versions, since)
    entry, snapshot = catalogue.entry_of(row, _corrected(keepers)), keepers.estate.snapshot
    correction = None
    if entry.is_corrected:
        own = entry.name.casefold()
        key = next(one.product for one in snapshot.estate.application_corrections if one.product.casefold() == own)
        correction = CORRECTIONS.tell_one(keepers, snapshot, key)
    return CatalogueProgram(
        **dict(entry),
        correction=correction,
        people=len(use.people),
        started_on=len(use.devices),
        all_versions=tuple(versions.values()),
    )


@router.get("/applications/{application}/devices", summary="Who has a program", operation_id="listApplicationDevices")
def list_application_devices(
    application: Number, _who: Signed, keepers: TheKeepers, cursor: Cursor = None, limit: Limit = 100
) -> Page[DeviceWithProgram]:
    """The machines that have a program, by hostname, with the versions that each has."""
    with keepers.store.reading() as connection:
        found = catalogue.devices_with(connection, application, cursor, limit)
    items = [
        DeviceWithProgram(id=row["device"], hostname=row["hostname"], versions=row["versions"]) for row in found.rows
    ]
    return Page(items=items, next=found.next, total=found.total)
