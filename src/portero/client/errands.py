"""What single machines are asked to do now, and what came of it."""

from __future__ import annotations

import time

from portero.client.connection import Part, segment
from portero.core.nouns.errand import Errand, ErrandState, NewErrand

_OPEN = (ErrandState.WAITING, ErrandState.TAKEN)


class ErrandsPart(Part):
    """Errands of machines."""

    def create(self, device: str, new: NewErrand) -> Errand:
        """Have a machine open a page now. NotFound, AmbiguousDevice; Invalid where it has enough to do."""
        return self.connection.post(f"/devices/{segment(device)}/errands", new, Errand)

    def get(self, errand: str) -> Errand:
        """An errand by its id, as far as it is. NotFound."""
        return self.connection.get(f"/errands/{segment(errand)}", Errand)

    def done(self, errand: Errand, pause: float = 0.5) -> Errand:
        """The errand once it is answered, or has failed; it is asked for again every `pause` seconds. NotFound."""
        while errand.state in _OPEN:
            time.sleep(pause)
            errand = self.get(errand.id)
        return errand
