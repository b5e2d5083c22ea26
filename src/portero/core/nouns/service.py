"""Web applications known by their hosts, with the organisation's own judgement of them."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated, ClassVar

from pydantic import Field

from portero.core.nouns.base import Key, Name, Note, Text
from portero.core.nouns.registry import Authored, Declared, shows
from portero.core.nouns.selector import Selector, suitability_bounds
from portero.core.nouns.urls import WebHost


class Decision(StrEnum):
    """What the organisation has decided about a service."""

    OPEN = "open"
    ACCEPTED = "accepted"
    DECLINED = "declined"


class Service(Authored):
    """A web application known by its hosts. A visit to a host, or to one below it, is a visit to the service."""

    declared: ClassVar = Declared("service", "services", about="Web applications known by their hosts.")
    key: Key
    name: Name | None = None
    hosts: Annotated[tuple[WebHost, ...], Field(min_length=1, max_length=500)]
    suitability: Annotated[int | None, Field(ge=0, le=100, description="0 is worst, 100 best; None: not judged.")] = (
        None
    )
    decision: Decision = Decision.OPEN
    traits: Annotated[dict[Text, bool | int | Text], Field(max_length=64)] = {}
    note: Note | None = None

    def is_meant_by(self, selector: Selector) -> bool:
        """Whether a selector by service, decision or suitability means this one."""
        if selector.kind == "service":
            return self.key == selector.value
        if selector.kind == "decision":
            return self.decision == selector.value
        if selector.kind != "suitability" or self.suitability is None:
            return False
        low, high = suitability_bounds(selector.value)
        return low <= self.suitability <= high


@shows(Service)
class ServiceSummary(Service):
    """A service as lists show it."""

    name: Name
    version: Annotated[int, Field(description="The revision that last changed it; also its ETag.")]
