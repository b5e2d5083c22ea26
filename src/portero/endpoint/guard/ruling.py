"""What this machine's rules say of a program about to start: the very code that `check start` answers with."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple

from portero.core import sentences
from portero.core.matching.applications import Started, catalogue_of
from portero.core.nouns.action import Verdict
from portero.core.nouns.device import Application
from portero.core.nouns.layer import Layer, LayerMode
from portero.core.nouns.settings import UndecidedStart
from portero.core.nouns.verdict import LayerVerdict, strictest
from portero.core.resolving.enforcement import in_mode
from portero.core.resolving.policy import Frame, Policy
from portero.core.resolving.telling import startup_layer
from portero.endpoint.guard.programs import KnownPrograms


class StartRuling(NamedTuple):
    """What becomes of a start, and of which program."""

    program: Application
    verdict: Verdict
    layer: LayerVerdict

    def written(self) -> dict[str, Any]:
        """As JSON has it, without the rules that lost, and with one of those that only record: it stays short."""
        layer = self.layer.model_copy(update={"lost": (), "logged": self.layer.logged[:1]})
        return {
            "program": self.program.model_dump(mode="json", exclude_none=True),
            "verdict": self.verdict.value,
            "layer": layer.model_dump(mode="json", exclude_none=True),
        }

    @classmethod
    def read(cls, written: dict[str, Any]) -> StartRuling:
        """What was written so."""
        program, layer = Application.model_validate(written["program"]), LayerVerdict.model_validate(written["layer"])
        return cls(program, Verdict(written["verdict"]), layer)


class StartRules(NamedTuple):
    """What starts are ruled by: the policy, and the programs that are known here."""

    policy: Policy
    known: KnownPrograms
    catalogue: Mapping[str, frozenset[str]]

    @classmethod
    def of(cls, policy: Policy, known: KnownPrograms) -> StartRules:
        """What products are for is told by the programs themselves, and by what was corrected."""
        return cls(policy, known, catalogue_of(known.applications))

    @property
    def mode(self) -> LayerMode:
        """What the startup layer is meant to do here."""
        return LayerMode(self.policy.bundle.layers[Layer.STARTUP])

    @property
    def undecided(self) -> UndecidedStart:
        """What a start gets that is not decided in time."""
        return UndecidedStart(self.policy.bundle.undecided_starts)

    @property
    def looks_at_contents(self) -> bool:
        """Whether some rule names programs, so that one that is not known must be read."""
        return any(known.rule.selector_kind != "everything" for known in self.policy.programs)

    def ends_running(self, ruling: StartRuling) -> bool:
        """Whether what the ruling stops is to be ended where it runs already."""
        winner = ruling.layer.winner
        return winner is not None and any(
            one.key == winner.assignment and one.end_running for one in self.policy.bundle.assignments
        )

    def rule(self, frame: Frame, programs: tuple[Application, ...], user: str | None) -> StartRuling:
        """Rule on a start by a person (folded). Of several programs that the file may be taken for the strictest
        verdict counts.
        """
        ruled = [self._rule(frame, program, user) for program in programs]
        verdict = strictest(tuple(one.verdict for one in ruled))
        return next(one for one in ruled if one.verdict is verdict)

    def _rule(self, frame: Frame, program: Application, user: str | None) -> StartRuling:
        started = Started.of(program, self.catalogue, self.policy.bundle.application_corrections)
        layer, _ = startup_layer(self.policy, frame, program, started, user)
        layer = in_mode(layer, self.mode, sentences.does(Layer.STARTUP, self.mode))
        return StartRuling(program, layer.verdict, layer)
