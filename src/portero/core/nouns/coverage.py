"""The coverage table: which control reaches which browser on which platform. Data, dated and sourced, not constants."""

from __future__ import annotations

from datetime import date
from enum import StrEnum
from typing import Annotated, ClassVar, Literal, Self

from pydantic import Field, PlainSerializer, model_validator

from portero.core.nouns.base import Text
from portero.core.nouns.registry import Authored, Declared, shows
from portero.core.nouns.versions import version_key

ANY = "any"


class Reach(StrEnum):
    """How much of a visit a control gets hold of."""

    PAGE = "page"
    HOST = "host"
    NONE = "none"


Control = Literal["filter", "site-list", "startup"]
Day = Annotated[date, PlainSerializer(date.isoformat, return_type=str)]


class CoverageRow(Authored):
    """How far one control reaches into one browser on one platform.

    `page`: the whole address is seen, and a notice shows in its place. `host`: only the host is seen, and the notice
    shows beside it. `none`: visits of that sort pass by. `any` stands for every browser or platform without a row of
    its own.
    """

    declared: ClassVar = Declared(
        "coverage row", "coverage", about="Which control reaches which browser on which platform."
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
    date: Day
    source: Annotated[Text, Field(description="Who found it out, and how.")]

    @property
    def key(self) -> str:
        """Names the row: control, browser and platform."""
        return f"{self.control}/{self.browser.casefold()}/{self.platform.casefold()}"

    @model_validator(mode="after")
    def _fits(self) -> Self:
        for value in (self.browser_from, self.layer_from, self.platform_from):
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


def _shipped(control: Control, browser: str, http: str, https: str, source: str, **more: str) -> CoverageRow:
    return CoverageRow.model_validate(
        {"control": control, "browser": browser, "http": http, "https": https, "source": source, **more}
        | {"date": "2026-11-01"}
    )


_TRIED = "tried by the project against the endpoint stand-in"
_TOLD = "the browser's own documentation of managed policy"
SHIPPED_COVERAGE: tuple[CoverageRow, ...] = (
    _shipped("filter", ANY, "page", "host", _TRIED, layer_from="0.1"),
    _shipped("filter", "chromium", "page", "host", _TRIED, layer_from="0.1"),
    _shipped("filter", "firefox", "page", "host", _TRIED, layer_from="0.1"),
    _shipped("site-list", ANY, "none", "none", "nothing is known of its managed policy"),
    _shipped("site-list", "chromium", "page", "page", _TOLD, browser_from="86"),
    _shipped("site-list", "firefox", "page", "page", _TOLD, browser_from="60"),
    _shipped("startup", ANY, "page", "page", "a program that does not start visits nothing", layer_from="0.1"),
)
"""The table as shipped."""


class CoverageTable:
    """The rows that count: an edited row stands in place of the shipped one with the same key."""

    def __init__(self, edited: tuple[CoverageRow, ...] = ()) -> None:
        self.rows = {row.key: row for row in (*SHIPPED_COVERAGE, *edited)}

    def row(self, control: Control, browser: str | None, platform: str | None) -> CoverageRow | None:
        """The row that fits best: the browser counts before the platform, the named before `any`."""
        for name in dict.fromkeys(((browser or ANY).casefold(), ANY)):
            for family in dict.fromkeys(((platform or ANY).casefold(), ANY)):
                found = self.rows.get(f"{control}/{name}/{family}")
                if found is not None:
                    return found
        return None

    def reach(self, control: Control, browser: str | None, platform: str | None, scheme: str) -> Reach:
        """How much of a visit over http or https the control gets hold of."""
        row = self.row(control, browser, platform)
        if row is None:
            return Reach.NONE
        return row.http if scheme == "http" else row.https
