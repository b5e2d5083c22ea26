"""What layers should do, for the estate and by group, and the coverage table."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Response

from portero.core.nouns.coverage import CoverageEntry, CoverageRow
from portero.core.nouns.estate import Estate
from portero.core.nouns.settings import GroupLayers, GroupLayersState, Settings, SettingsState
from portero.service.desk import Edit
from portero.service.problems import Problem
from portero.service.routes.common import (
    Authoring,
    IfMatch,
    Keeping,
    Signed,
    TheDesk,
    as_json,
    expect_version,
    save,
    tagged,
)
from portero.store import estates

router = APIRouter(tags=["enforcement"])


@router.get("/settings", summary="The estate's settings", operation_id="getSettings")
def get_settings(response: Response, _who: Signed, desk: TheDesk) -> SettingsState:
    """What holds for the whole estate: layer modes and gateway networks."""
    with desk.store.reading() as connection:
        version = estates.versions(connection, "settings")["settings"]
    tagged(response, version)
    return SettingsState(**desk.snapshot.estate.settings.model_dump(), version=version)


@router.put("/settings", summary="Change the settings", operation_id="putSettings")
def put_settings(
    body: Settings,
    response: Response,
    change: Keeping,
    if_match: IfMatch = None,
) -> SettingsState:
    """Change what holds for the whole estate."""

    def edit(estate: Estate, versions: Any) -> Estate:
        expect_version(if_match, "the state of the settings", versions["settings"], as_json(estate.settings))
        return estate.replacing(settings=body)

    change(edit, noun="settings")
    return get_settings(response, change.who, change.desk)


# --- layer modes by group ---


@router.get("/layer-modes", summary="Layer modes by group", operation_id="listLayerModes")
def list_layer_modes(_who: Signed, desk: TheDesk) -> list[GroupLayersState]:
    """What groups say about layers, strongest group first; for each layer the strongest that names it counts."""
    with desk.store.reading() as connection:
        versions = estates.versions(connection, "layer modes")
    estate = desk.snapshot.estate
    rank = {key: place for place, key in enumerate(estate.group_order)}
    ordered = sorted(estate.layer_modes, key=lambda modes: rank[modes.group])
    return [GroupLayersState(**modes.model_dump(), version=versions.get(modes.group, 0)) for modes in ordered]


def _modes_edit(group: str, body: GroupLayers | None, if_match: str | None) -> Edit:
    return save("set of layer modes", "layer_modes", group, if_match, body, by="group", may_be_new=True)


@router.put("/layer-modes/{group}", summary="Set a group's layer modes", operation_id="putLayerModes")
def put_layer_modes(
    group: str,
    body: GroupLayers,
    change: Authoring,
    if_match: IfMatch = None,
) -> GroupLayersState:
    """Say what layers should do on a group's devices. If-Match is needed where the group says something already."""
    change(_modes_edit(group, body, if_match), noun="layer modes")
    return next(one for one in list_layer_modes(change.who, change.desk) if one.group == group)


@router.delete(
    "/layer-modes/{group}", summary="Unset a group's layer modes", operation_id="removeLayerModes", status_code=204
)
def remove_layer_modes(
    group: str,
    change: Authoring,
    if_match: IfMatch = None,
) -> None:
    """Leave the layers of a group's devices to weaker groups and the estate again."""
    change(_modes_edit(group, None, if_match), noun="layer modes")


# --- the coverage table ---


@router.get("/coverage", summary="The coverage table", operation_id="getCoverage")
def get_coverage(_who: Signed, desk: TheDesk) -> list[CoverageEntry]:
    """Which control reaches which browser on which platform, over http and https: dated and sourced."""
    estate = desk.snapshot.estate
    with desk.store.reading() as connection:
        versions = estates.versions(connection, "coverage row")
    edited = {row.key for row in estate.coverage}
    return [
        CoverageEntry(**row.model_dump(), shipped=row.key not in edited, version=versions.get(row.key))
        for row in sorted(estate.coverage_table.rows.values(), key=lambda row: row.key)
    ]


def _coverage_edit(key: str, body: CoverageRow | None, if_match: str | None) -> Edit:
    return save("coverage row", "coverage", key, if_match, body, may_be_new=True)


@router.put("/coverage", summary="Edit a coverage row", operation_id="putCoverageRow")
def put_coverage_row(
    body: CoverageRow,
    change: Authoring,
    if_match: IfMatch = None,
) -> CoverageEntry:
    """Put a row into the table, in place of the one with the same control, browser and platform."""
    change(_coverage_edit(body.key, body, if_match), noun="coverage row")
    return next(row for row in get_coverage(change.who, change.desk) if row.key == body.key)


@router.delete(
    "/coverage/{control}/{browser}/{platform}",
    summary="Put a coverage row back",
    operation_id="resetCoverageRow",
    status_code=204,
)
def reset_coverage_row(
    control: str,
    browser: str,
    platform: str,
    change: Authoring,
    if_match: IfMatch = None,
) -> None:
    """Take an edited row out of the table; the shipped one, where there is one, counts again."""
    key = f"{control}/{browser}/{platform}".casefold()
    resetting = _coverage_edit(key, None, if_match)

    def edit(estate: Estate, versions: Any) -> Estate:
        edited = any(row.key == key for row in estate.coverage)
        if not edited and key in estate.coverage_table.rows:
            raise Problem("not-found", f"The coverage row “{key}” is as shipped, and stays.")
        return resetting(estate, versions)

    change(edit, noun="coverage row")
