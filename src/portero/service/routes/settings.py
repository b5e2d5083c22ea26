"""What holds for the whole estate."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Annotated
from zoneinfo import ZoneInfo

from fastapi import Query, Response

from portero.core import wording
from portero.core.nouns.estate import Estate
from portero.core.nouns.moments import MomentRead, moment_in_full, read_moment
from portero.core.nouns.preview import Preview
from portero.core.nouns.settings import Settings, SettingsState
from portero.service.auditing import audited_router
from portero.service.problems import Refusal
from portero.service.routes.common import (
    IfMatch,
    Keeping,
    Signed,
    TheKeepers,
    answered,
    as_json,
    expect_version,
    tagged,
)
from portero.service.state import Snapshot

router = audited_router("settings")


def _shown(snapshot: Snapshot, response: Response) -> SettingsState:
    version = snapshot.version("settings", "settings")
    tagged(response, version)
    return SettingsState(**snapshot.estate.settings.model_dump(), version=version)


@router.get("/settings", summary="The estate's settings", operation_id="getSettings")
def get_settings(response: Response, _who: Signed, keepers: TheKeepers) -> SettingsState:
    """What holds for the whole estate: layer modes and gateway networks."""
    return _shown(keepers.estate.snapshot, response)


@router.put(
    "/settings", summary="Change the settings", operation_id="putSettings", response_model=SettingsState | Preview
)
def put_settings(body: Settings, response: Response, change: Keeping, if_match: IfMatch = None) -> SettingsState:
    """Change what holds for the whole estate."""

    def edit(snapshot: Snapshot) -> Estate:
        settings, version = snapshot.estate.settings, snapshot.version("settings", "settings")
        expect_version(if_match, "the state of the settings", version, lambda: as_json(settings))
        return snapshot.estate.replacing(settings=body)

    return answered(change(edit), lambda snapshot: _shown(snapshot, response))


@router.get("/moment", summary="Read a moment", operation_id="readMoment")
def read_a_moment(
    _who: Signed,
    keepers: TheKeepers,
    text: Annotated[str, Query(max_length=60, description="A day, a day with a time, “in 3 days”, or RFC 3339.")],
    ends: Annotated[bool, Query(description="Something ends with it: a bare day is taken to its end.")] = False,
) -> MomentRead:
    """What is meant by a moment as people write it, on the clock of the settings."""
    name = keepers.estate.snapshot.estate.settings.zone
    zone, now = ZoneInfo(name), datetime.fromtimestamp(int(keepers.now()), UTC)
    try:
        moment = read_moment(text, zone, now, ends=ends)
    except ValueError as problem:
        raise Refusal("invalid", wording.as_sentence(str(problem))) from problem
    local = f"{moment.astimezone(zone):%Y-%m-%d %H:%M}"
    return MomentRead(moment=moment, local=local, sentence=moment_in_full(moment, zone, name))
