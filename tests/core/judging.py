"""Small estates as plain documents, and what they say of an attempt."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import NamedTuple

from portero.core.insight.offline import OfflineEstate
from portero.core.matching.categories import MemoryIndex
from portero.core.nouns.assignment import made_key
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.estate import Estate, FactsDocument
from portero.core.nouns.verdict import Explanation

NOW = "2026-12-02T10:00:00Z"
"""A Wednesday."""
INDEX = {
    "play.example": ("games",),
    "arcade.example": ("games", "gambling"),
    "tune.example": ("music",),
    "press.example": ("news",),
    "press-and-play.example": ("news", "games"),
}
GROUPS = {"strong": ["pc"], "weak": ["pc", "other"]}


def rules(kind: str, *listed: dict, **more) -> dict:
    """A ruleset whose key is given or made of its kind."""
    return {"key": more.pop("key", kind), "kind": kind, "rules": list(listed), **more}


def assigned(*rulesets: tuple[dict, str, dict] | tuple[dict, str], **parts) -> Estate:
    """An estate in which each ruleset is put on a target; `strong` outranks `weak`, and `pc` is in both."""
    assignments: list[dict] = []
    made: dict[str, dict] = {}
    for number, (ruleset, to, *conditions) in enumerate(rulesets):
        own = {**ruleset, "key": f"{ruleset['key']}-{number}"}
        made[own["key"]] = own
        key = made_key(own["key"], to, [assignment["key"] for assignment in assignments])
        target = {"device": to.removeprefix("device:")} if to.startswith("device:") else to
        assignments.append({"key": key, "ruleset": own["key"], "to": [target], **(conditions[0] if conditions else {})})
    estate = Estate.model_validate(
        {
            "precedence": list(GROUPS),
            "groups": [{"key": key, "pins": {"in": held}} for key, held in GROUPS.items()],
            "rulesets": list(made.values()),
            "assignments": assignments,
            **parts,
        }
    )
    faults = list(estate.faults())
    assert not faults, faults
    return estate


class Judged(NamedTuple):
    """An attempt's answer, and its last layer as intended: the verdict, and which ruleset's which rule won."""

    explanation: Explanation
    verdict: str
    winner: str | None

    @property
    def layer(self):
        return self.explanation.intended.layers[-1]

    @property
    def lost(self) -> dict[str, str]:
        """On which rung each ruleset lost."""
        return {one.ruleset: one.rung.value for one in self.layer.lost}

    @property
    def caveats(self) -> list[str]:
        return [caveat.code.value for caveat in self.explanation.effective.caveats]


def judge(
    estate: Estate,
    url: str = "http://play.example/",
    *,
    facts: dict | None = None,
    directory: dict | None = None,
    index: dict | None = None,
    left_aside: bool = False,
    **attempt,
) -> Judged:
    """What an estate says of an attempt on `pc`, which enforces every layer."""
    layers = {"filter": "enforcing", "browser": "enforcing", "startup": "enforcing"}
    devices = [{"hostname": "pc", "layers": layers, **(facts or {})}, {"hostname": "other", "layers": layers}]
    document = FactsDocument.model_validate({"devices": devices, "directory": directory or {}})
    assert not list(document.faults())
    offline = OfflineEstate(estate, document, MemoryIndex(index or INDEX), datetime(2026, 12, 2, tzinfo=UTC))
    tried = {"device": "pc", "at": NOW, **attempt}
    if "start" not in tried:
        tried["url"] = url
    found = offline.explain(Attempt.model_validate(tried), left_aside)
    layer = found.intended.layers[-1]
    return Judged(found, layer.verdict.value, layer.winner.ruleset if layer.winner else None)
