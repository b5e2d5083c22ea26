"""Probe sets, and those that Portero draws up."""

from __future__ import annotations

from portero.core.nouns.drawn import DrawnFrom
from portero.core.nouns.estate import NOUNS, Estate
from portero.core.nouns.observation import ObservedProbe
from portero.core.nouns.probe_set import ProbeSet
from portero.service.auditing import asks, audited_router
from portero.service.routes.common import Author, Signed, TheKeepers, the
from portero.service.routes.nouns import NounRoutes

router = audited_router("probe sets")


def _users(estate: Estate, key: str) -> list[str]:
    return ["the gate"] if key in estate.settings.gate else []


ROUTES = NounRoutes(NOUNS["probe set"], users=_users)


@router.get("/probe-sets/{key}/observed", summary="What machines saw of a probe set", operation_id="listObservedProbes")
def list_observed(key: str, _who: Signed, keepers: TheKeepers) -> list[ObservedProbe]:
    """What the probes of a set came to on the machines that have really tried them, by what each saw last."""
    noun = NOUNS["probe set"]
    return keepers.observations.of_set(the(keepers.estate.snapshot.estate.probe_sets, noun, key))


@router.post("/probe-sets/draw-up", summary="Draw a probe set up", operation_id="drawUpProbeSet")
@asks
def draw_up(body: DrawnFrom, _who: Author, keepers: TheKeepers) -> ProbeSet:
    """A probe set made of a ruleset, an assignment, hosts that are visited, or that were stopped. Nothing is kept: look
    at it, edit it, then save it.
    """
    return keepers.drawing_up.draw_up(body)
