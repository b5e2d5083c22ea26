"""Schedules: weekly windows in which assignments count."""

from __future__ import annotations

from typing import ClassVar

from portero.client.collection import Collection
from portero.core.nouns.schedule import Schedule, ScheduleSummary


class Schedules(Collection[Schedule, ScheduleSummary, ScheduleSummary]):
    """Schedules: weekly windows in which assignments count."""

    model: ClassVar = Schedule
