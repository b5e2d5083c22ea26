"""Which life of the service this is."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from portero.core.nouns.base import Noun


class EpochState(Noun):
    """The service's epoch. A store that was restored begins another, and devices then take lower revisions."""

    epoch: Annotated[int, Field(description="Of two, the higher one is the later.")]
    revision: int
    devices_ahead: Annotated[
        int, Field(description="Machines that hold something newer than this service has ever had.")
    ] = 0
    problem: Annotated[str | None, Field(description="What that means and what to do, in words.")] = None
