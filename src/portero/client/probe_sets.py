"""Probe sets: attempts with the verdicts that are expected."""

from __future__ import annotations

from typing import Any, ClassVar

from portero.client.collection import Collection
from portero.core.nouns.drawn import DrawnFrom
from portero.core.nouns.probe_set import ProbeSet


class ProbeSets(Collection[ProbeSet, Any, Any]):
    """Probe sets: attempts with the verdicts that are expected."""

    model: ClassVar = ProbeSet

    def draw_up(self, wanted: DrawnFrom) -> ProbeSet:
        """A set made of a ruleset, an assignment, hosts that are visited, or that were stopped. Nothing is kept.
        Invalid.
        """
        return self.connection.consult("/probe-sets/draw-up", wanted, ProbeSet)
