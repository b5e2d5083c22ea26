"""Application sets: named sets of programs."""

from __future__ import annotations

from typing import ClassVar

from portero.client.collection import Collection
from portero.client.connection import fields_of
from portero.core.nouns.application_set import ApplicationSet, ApplicationSetSummary
from portero.core.nouns.catalogue import Catch


class ApplicationSets(Collection[ApplicationSet, ApplicationSetSummary, ApplicationSetSummary]):
    """Application sets: named sets of programs."""

    model: ClassVar = ApplicationSet

    def catch(self, application_set: ApplicationSet | ApplicationSetSummary) -> Catch:
        """What a set, saved or not, holds of the fleet's programs now, and what it takes in and lets go beside the
        saved one of its key. Nothing is kept. Invalid.
        """
        asked = ApplicationSet.model_validate(fields_of(application_set, ApplicationSet))
        return self.connection.consult("/application-sets/catch", asked, Catch)
