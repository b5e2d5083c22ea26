"""Application sets: named sets of programs."""

from __future__ import annotations

from typing import ClassVar

from portero.client.collection import Collection
from portero.core.nouns.application_set import ApplicationSet, ApplicationSetSummary


class ApplicationSets(Collection[ApplicationSet, ApplicationSetSummary, ApplicationSetSummary]):
    """Application sets: named sets of programs."""

    model: ClassVar = ApplicationSet
