"""Site lists as browsers are handed them, by machine and by group."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Depends, Query, Response

from portero.core.insight.brought_rules import with_included
from portero.core.insight.site_lists import (
    browser_list,
    browser_standing,
    groups_alone,
    list_in_force,
    platform_of,
    switched,
)
from portero.core.insight.site_trials import try_sites
from portero.core.nouns.browser_list import BrowserList, ListPlatform
from portero.core.nouns.browser_policy import BrowserStanding
from portero.core.nouns.device import Device
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.site_trial import SiteTrial, TriedUrl
from portero.formats.policy_files import with_policy_file
from portero.service.auditing import asks, audited_router
from portero.service.keepers import Keepers
from portero.service.problems import Refusal
from portero.service.routes.common import Signed, TheKeepers, refuse_unknown_group
from portero.store.moments import moment

router = audited_router("site lists")
Browser = Annotated[str, Query(max_length=100, description="Name of the browser, as machines report it.")]
_FILE: dict[int | str, dict[str, Any]] = {200: {"content": {"application/octet-stream": {}}}}
Platform = Annotated[ListPlatform | None, Query(description="In the form of this platform; else the machine's own.")]


def _of_device(
    device: str, _who: Signed, keepers: TheKeepers, browser: Browser = "chromium", platform: Platform = None
) -> BrowserList:
    one, estate = keepers.fleet.device(device), keepers.estate.snapshot.estate
    merged = list_in_force(estate, one.groups, (one.id, one.hostname), moment(keepers.now()))
    form = platform or platform_of(one.facts.os.family if one.facts.os else None)
    made = browser_list(one.hostname, merged, estate.coverage_table, browser, form, one.facts.browsers)
    return with_policy_file(made)


def _of_group(
    group: str, _who: Signed, keepers: TheKeepers, browser: Browser = "chromium", platform: Platform = None
) -> BrowserList:
    estate = keepers.estate.snapshot.estate
    refuse_unknown_group(estate, group)
    merged = list_in_force(estate, groups_alone(group), (), moment(keepers.now()))
    return with_policy_file(browser_list(group, merged, estate.coverage_table, browser, platform or "linux"))


def _standing(keepers: Keepers, device: Device) -> list[BrowserStanding]:
    estate, facts = keepers.estate.snapshot.estate, device.facts
    platform = facts.os.family if facts.os else None
    merged = list_in_force(estate, device.groups, (device.id, device.hostname), moment(keepers.now()))
    found = []
    for browser in facts.browsers:
        own = browser_list(
            device.hostname, merged, estate.coverage_table, browser.name, platform_of(platform), facts.browsers
        )
        reach = estate.coverage_table.reach("site-list", browser.name, platform, "https")
        found.append(browser_standing(browser, reach, with_policy_file(own).file.digest))
    return found


OfDevice = Annotated[BrowserList, Depends(_of_device)]
OfGroup = Annotated[BrowserList, Depends(_of_group)]


@router.get("/devices/{device}/browsers", summary="A device's browsers", operation_id="listDeviceBrowsers")
def list_device_browsers(device: str, _who: Signed, keepers: TheKeepers) -> list[BrowserStanding]:
    """The browsers of a device, who governs each, and how its policy file stands, as the device told last."""
    return _standing(keepers, keepers.fleet.device(device))


@router.get("/devices/{device}/site-list", summary="A device's site list", operation_id="getDeviceSiteList")
def get_device_site_list(_who: Signed, made: OfDevice) -> BrowserList:
    """The site list that a browser of the device is handed now, by the newest revision; with what became of patterns on
    the way, and the very file.
    """
    return made


@router.get(
    "/devices/{device}/site-list/file",
    summary="A device's policy file",
    operation_id="getDeviceSiteListFile",
    response_class=Response,
    responses=_FILE,
)
def get_device_site_list_file(_who: Signed, made: OfDevice) -> Response:
    """The very file by which a browser of the device is handed its site list."""
    return _as_file(made)


@router.post("/site-lists/try", summary="Try a site list", operation_id="trySiteList")
@asks
def try_site_list(body: SiteTrial, _who: Signed, keepers: TheKeepers) -> list[TriedUrl]:
    """What each family of browsers would make of some addresses under a ruleset of sites, saved or being written; with
    the pattern that counts. Nothing is kept.
    """
    _refuse_other(body.ruleset)
    estate = keepers.estate.snapshot.estate
    whole = SiteTrial(ruleset=with_included(body.ruleset, estate.address_list_by_key), urls=body.urls)
    return try_sites(whole, estate.coverage_table, moment(keepers.now()))


@router.post("/site-lists/switch", summary="Begin a site list the other way", operation_id="switchSiteList")
@asks
def switch_site_list(body: Ruleset, _who: Signed) -> Ruleset:
    """The ruleset with “everything is open but these” turned into “nothing is open but these”, or back. Nothing is
    kept: put it where you want it.
    """
    _refuse_other(body)
    return switched(body)


def _refuse_other(ruleset: Ruleset) -> None:
    """Refusal where a ruleset is no list of sites."""
    if ruleset.kind != "site":
        raise Refusal("invalid", f"A ruleset of kind {ruleset.kind} is no site list; name one of kind site.")


@router.get("/groups/{group}/site-list", summary="A group's site list", operation_id="getGroupSiteList")
def get_group_site_list(_who: Signed, made: OfGroup) -> BrowserList:
    """The same for a machine that is in no other group than this, as for machines without an agent."""
    return made


@router.get(
    "/groups/{group}/site-list/file",
    summary="A group's policy file",
    operation_id="getGroupSiteListFile",
    response_class=Response,
    responses=_FILE,
)
def get_group_site_list_file(_who: Signed, made: OfGroup) -> Response:
    """The very file by which a browser of a machine in this group alone is handed its site list."""
    return _as_file(made)


def _as_file(made: BrowserList) -> Response:
    headers = {"Content-Disposition": f'attachment; filename="{made.file.name}"'}
    return Response(made.file.text.encode(made.file.encoding), media_type="application/octet-stream", headers=headers)
