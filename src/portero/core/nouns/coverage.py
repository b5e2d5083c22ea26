"""The coverage table: which control reaches which browser on which platform. Data, dated and sourced, not constants."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import date
from enum import StrEnum
from typing import Annotated, ClassVar, Literal, NamedTuple, Self

from pydantic import Field, PlainSerializer, model_validator

from portero.core.nouns.base import Noun, Text
from portero.core.nouns.registry import Authored, Declared, shows
from portero.core.nouns.versions import is_older, version_key

ANY = "any"


class Reach(StrEnum):
    """How much of a visit a control gets hold of."""

    PAGE = "page"
    HOST = "host"
    NONE = "none"


Control = Literal["filter", "site-list", "startup"]
BrowserFamily = Literal["chromium", "firefox"]
"""By whose rules a browser reads its site list."""
Day = Annotated[date, PlainSerializer(date.isoformat, return_type=str)]


class ListLimit(Noun):
    """How many entries browsers take of each of their two lists, from some version on."""

    browser_from: Annotated[Text | None, Field(description="From this version on; None: from the first.")] = None
    entries: Annotated[int, Field(ge=1, le=1_000_000)]


class CoverageRow(Authored):
    """How far one control reaches into one browser on one platform.

    `page`: the whole address is seen, and a notice shows in its place. `host`: only the host is seen, and the notice
    shows beside it. `none`: visits of that sort pass by. `any` stands for every browser or platform without a row of
    its own.
    """

    declared: ClassVar = Declared(
        *("coverage row", "coverage"),
        about="Which control reaches which browser on which platform.",
        key_has_strokes=True,
    )
    control: Control
    browser: Annotated[Text, Field(description="Name of the browser as machines report it, or any.")] = ANY
    platform: Annotated[Text, Field(description="Family of the operating system, or any.")] = ANY
    http: Reach
    https: Reach
    browser_from: Annotated[Text | None, Field(description="Lowest version of the browser for which it holds.")] = None
    layer_from: Annotated[Text | None, Field(description="Lowest version of the layer for which it holds.")] = None
    platform_from: Annotated[
        Text | None, Field(description="Lowest version of the operating system for which it holds.")
    ] = None
    family: Annotated[
        BrowserFamily | None, Field(description="By whose rules the browser reads its site list; None: as shipped.")
    ] = None
    list_limits: Annotated[
        tuple[ListLimit, ...],
        Field(max_length=20, description="How many entries it takes of each list; empty: as shipped."),
    ] = ()
    policy_file: Annotated[
        Text | None, Field(description="Where the browser looks for its managed policy; None: as shipped.")
    ] = None
    passed_by: Annotated[
        tuple[Text, ...],
        Field(max_length=20, description="Known ways past a startup rule, in words."),
    ] = ()
    date: Day
    source: Annotated[Text, Field(description="Who found it out, and how.")]

    @property
    def key(self) -> str:
        """Names the row: control, browser and platform."""
        return f"{self.control}/{self.browser.casefold()}/{self.platform.casefold()}"

    @model_validator(mode="after")
    def _fits(self) -> Self:
        if self.control != "site-list" and (self.family or self.list_limits or self.policy_file):
            raise ValueError("family, list_limits and policy_file are of the control site-list")
        if self.control != "startup" and self.passed_by:
            raise ValueError("passed_by is of the control startup")
        limits = (limit.browser_from for limit in self.list_limits)
        for value in (self.browser_from, self.layer_from, self.platform_from, *limits):
            if value is not None and version_key(value) is None:
                raise ValueError(f"“{value[:60]}” is not a version; it must begin with a number, as in 4.2")
        if self.platform_from is not None and self.platform.casefold() == ANY:
            raise ValueError("platform_from is a version of one platform; name it in “platform”")
        if "/" in self.browser or "/" in self.platform:
            raise ValueError("names of browsers and platforms hold no “/”")
        return self


@shows(CoverageRow)
class CoverageEntry(CoverageRow):
    """A row of the table as it counts, with where it comes from."""

    shipped: Annotated[bool, Field(description="As shipped; not edited by an administrator.")]
    version: Annotated[int | None, Field(description="The revision that last changed it; None as shipped.")] = None


class ListSupport(NamedTuple):
    """What a browser on a platform makes of site lists."""

    family: BrowserFamily
    limit: int
    """How many entries it takes of each list."""
    policy_file: str | None


def _shipped(control: Control, browser: str, http: str, https: str, source: str, **more: object) -> CoverageRow:
    return CoverageRow.model_validate(
        {"control": control, "browser": browser, "http": http, "https": https, "source": source}
        | {"date": "2026-11-01", **more}
    )


def _site_list(browser: BrowserFamily, platform: str, policy_file: str, source: str) -> CoverageRow:
    more = {"platform": platform, "policy_file": policy_file, "family": browser, "date": "2026-11-28"}
    return _shipped("site-list", browser, "page", "page", source, **more, **_LISTS[browser])


_LISTS: dict[BrowserFamily, dict[str, object]] = {
    "chromium": {"browser_from": "86", "list_limits": [{"entries": 1500}]},
    "firefox": {"browser_from": "60", "list_limits": [{"entries": 1000}]},
}
_TRIED = "tried by the project against the endpoint stand-in"
_MEASURED = "tried by the project against the real browser on Linux"
_UNTRIED = "written as the browser documents it; not tried on a real machine"
SHIPPED_COVERAGE: tuple[CoverageRow, ...] = (
    _shipped("filter", ANY, "page", "host", _TRIED, layer_from="0.1"),
    _shipped("filter", "chromium", "page", "host", _TRIED, layer_from="0.1"),
    _shipped("filter", "firefox", "page", "host", _TRIED, layer_from="0.1"),
    _shipped("site-list", ANY, "none", "none", "nothing is known of its managed policy"),
    _site_list("chromium", ANY, "/etc/chromium/policies/managed/portero.json", f"{_MEASURED}, version 156"),
    _site_list("chromium", "windows", r"HKEY_LOCAL_MACHINE\SOFTWARE\Policies\Chromium", _UNTRIED),
    _site_list("chromium", "macos", "/Library/Managed Preferences/org.chromium.Chromium.plist", _UNTRIED),
    _site_list("firefox", ANY, "/etc/firefox/policies/policies.json", f"{_MEASURED}, version 153"),
    _site_list("firefox", "windows", r"HKEY_LOCAL_MACHINE\SOFTWARE\Policies\Mozilla\Firefox", _UNTRIED),
    _site_list("firefox", "macos", "/Library/Managed Preferences/org.mozilla.firefox.plist", _UNTRIED),
    _shipped("startup", ANY, "page", "page", "a program that does not start visits nothing", layer_from="0.1"),
    _shipped(
        *("startup", ANY, "page", "page", "tried by the project against the real kernel, version 6.18"),
        platform="linux",
        layer_from="0.1",
        date="2026-11-29",
        passed_by=[
            "the dynamic loader, called with the program",
            "its interpreter, called with the script",
            "a file in memory",
            "a copy of it that was changed",
        ],
    ),
)
"""The table as shipped."""
_SHIPPED = {row.key: row for row in SHIPPED_COVERAGE}
_LIMITS_OF_UNKNOWN = _SHIPPED["site-list/chromium/any"].list_limits


_MOST_KEPT = 10_000
"""How many browsers, with their versions, are remembered."""


class CoverageTable:
    """The rows that count: an edited row stands in place of the shipped one with the same key."""

    def __init__(self, edited: tuple[CoverageRow, ...] = ()) -> None:
        self.rows = _SHIPPED | {row.key: row for row in edited}
        self._supports: dict[tuple[str | None, ...], ListSupport] = {}

    def row(self, control: Control, browser: str | None, platform: str | None) -> CoverageRow | None:
        """The row that fits best: the browser counts before the platform, the named before `any`."""
        return next(self._rows(self.rows, control, browser, platform), None)

    @staticmethod
    def _rows(
        rows: Mapping[str, CoverageRow], control: Control, browser: str | None, platform: str | None
    ) -> Iterator[CoverageRow]:
        for name in dict.fromkeys(((browser or ANY).casefold(), ANY)):
            for family in dict.fromkeys(((platform or ANY).casefold(), ANY)):
                if (found := rows.get(f"{control}/{name}/{family}")) is not None:
                    yield found

    def reach(self, control: Control, browser: str | None, platform: str | None, scheme: str) -> Reach:
        """How much of a visit over http or https the control gets hold of."""
        row = self.row(control, browser, platform)
        if row is None:
            return Reach.NONE
        return row.http if scheme == "http" else row.https

    def governs(self, browser: str | None, managed: bool | None, platform: str | None) -> bool:
        """Whether a site list reaches a browser at all."""
        return bool(managed) and self.reach("site-list", browser, platform, "http") is not Reach.NONE

    def list_support(self, browser: str | None, platform: str | None, version: str | None = None) -> ListSupport:
        """What a browser makes of site lists. An unknown one is taken to read them as Chromium does."""
        key = (browser, platform, version)
        found = self._supports.get(key)
        if found is None:
            if len(self._supports) >= _MOST_KEPT:
                self._supports.clear()
            found = self._supports[key] = self._support(*key)
        return found

    def _support(self, browser: str | None, platform: str | None, version: str | None) -> ListSupport:
        asked = (browser, platform)
        own = [row for rows in (self.rows, _SHIPPED) for row in self._rows(rows, "site-list", *asked)]
        family = next((row.family for row in own if row.family), None)
        rows = [*own, *(self._rows(_SHIPPED, "site-list", family, platform) if family else ())]
        limits = next((row.list_limits for row in rows if row.list_limits), _LIMITS_OF_UNKNOWN)
        policy_file = next((row.policy_file for row in rows if row.policy_file), None)
        return ListSupport(family or "chromium", _limit(limits, version), policy_file)


def _limit(limits: tuple[ListLimit, ...], version: str | None) -> int:
    """That of the highest version at or below this one; of an unknown version the last, of one below all the first."""
    known = sorted(limits, key=lambda limit: version_key(limit.browser_from or "0") or ())
    held = [limit for limit in known if not is_older(version, limit.browser_from)] or known[:1]
    return held[-1].entries
