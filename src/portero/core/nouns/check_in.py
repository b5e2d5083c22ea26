"""How often a device checks in, and when one that does not is taken for silent. All in seconds."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

CHECK_IN_SECONDS = 60
"""Between the check-ins of a device, unless settings or groups say otherwise. The service tells it with each answer;
until then a device goes by this itself.
"""
ERRANDS_HEADER = "Portero-Errands"
"""Says in the answer to a check-in that the device has something to do; what it is it asks for."""
PROBES_HEADER = "Portero-Probes"
"""Says in the answer to a check-in that the device is to try something; what it is it asks for."""
PROGRAMS_HEADER = "Portero-Programs"
"""Says in the answer to a check-in that the whole list of programs is wanted: what was told did not fit."""
CHECK_IN_HEADER = "Portero-Check-In-Seconds"
LEAST_CHECK_IN, MOST_CHECK_IN = 15, 86_400
CheckInSeconds = Annotated[
    int, Field(ge=LEAST_CHECK_IN, le=MOST_CHECK_IN, description="Seconds between the check-ins of a device.")
]
MISSED = 3.0
"""A device is silent once so many of its usual intervals have passed without a check-in,"""
LEAST_SILENCE_SECONDS = 180.0
"""and no sooner than this."""
