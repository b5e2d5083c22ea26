"""One visit that somebody tries."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field, StringConstraints

from portero.core.nouns.base import Noun, Text, Timestamp
from portero.core.nouns.device import Place

Url = Annotated[str, StringConstraints(min_length=1, max_length=8192)]


class Attempt(Noun):
    """One visit: device, person, browser, URL, time and place. What is None was not given."""

    device: Annotated[str, Field(max_length=253, description="Hostname, or permanent id, of the device.")]
    user: Text | None = None
    browser: Text | None = None
    url: Url
    at: Annotated[Timestamp | None, Field(description="When; now where left out.")] = None
    place: Place | None = None
