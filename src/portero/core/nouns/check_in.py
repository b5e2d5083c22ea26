"""How often a device checks in, and when one that does not is taken for silent. All in seconds."""

from __future__ import annotations

CHECK_IN_SECONDS = 60.0
"""Between the check-ins of a device. The service tells it with each answer; until then a device goes by this itself."""
MISSED = 3.0
"""A device is silent once so many of its usual intervals have passed without a check-in,"""
LEAST_SILENCE_SECONDS = 180.0
"""and no sooner than this."""
