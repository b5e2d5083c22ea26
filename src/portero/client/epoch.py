"""The service's epoch."""

from __future__ import annotations

from portero.client.connection import Part
from portero.core.nouns.epoch import EpochState


class EpochPart(Part):
    """Which life of the service this is."""

    def get(self) -> EpochState:
        """The epoch, and how many machines hold something newer than the service has ever had."""
        return self.connection.get("/epoch", EpochState)

    def begin(self) -> EpochState:
        """Begin another: machines take what the service says, whatever they hold. NotAllowed."""
        answer = self.connection.ask("POST", "/epoch")
        return EpochState.model_validate(answer.json())
