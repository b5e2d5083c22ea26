"""Predicted runs: probe sets tried over the fleet with the code that decides there, one run after the other."""

from __future__ import annotations

import time
from concurrent.futures import ThreadPoolExecutor

import structlog

from portero.core.insight.predicting import predict, reached
from portero.core.nouns.run import NewRun, Run
from portero.core.sentences import runs as words
from portero.service.runs import Behind, Runs, WantedRun
from portero.service.standings import Standings

TOLD_SECONDS = 0.5
"""So often it is told how far a run is."""
_log = structlog.get_logger("portero.verifying")


class _Interrupted(Exception):
    """The service is being stopped."""


class Verifying:
    """Carries predicted runs out, one at a time."""

    def __init__(self, runs: Runs, standings: Standings) -> None:
        self._runs, self._standings = runs, standings
        self._worker = ThreadPoolExecutor(max_workers=1, thread_name_prefix="run")
        self._closing = False

    def start(self, new: NewRun, by: str) -> Run:
        """Begin a run; what has come of it `Runs` tells. Refusal where it names what there is not."""
        wanted = self._runs.begun(self._runs.wanted(new, by))
        self._worker.submit(self._carry_out, wanted)
        return wanted.run

    def close(self) -> None:
        """Break off what is under way; nothing more is begun."""
        self._closing = True
        self._worker.shutdown(cancel_futures=True)

    def _carry_out(self, wanted: WantedRun) -> None:
        try:
            self._predict(wanted)
        except _Interrupted:
            self._runs.fail(wanted.run, words.INTERRUPTED)
        except Exception as problem:
            _log.exception("run_failed", run=wanted.run.id)
            self._runs.fail(wanted.run, f"The run could not be carried out: {problem}")

    def _predict(self, wanted: WantedRun) -> None:
        run, began = wanted.run, time.perf_counter()
        standings = self._standings.alike(wanted.estate, [one.probe for one in wanted.probes])
        behind, results = Behind([device for standing in standings for device in standing.devices]), []
        told_at = began
        for tried in predict(wanted.probes, standings, run.on):
            if self._closing:
                raise _Interrupted
            results.append(tried.result)
            behind.add(*tried)
            if time.perf_counter() - told_at > TOLD_SECONDS:
                told_at = time.perf_counter()
                self._runs.note(run.model_copy(update={"done": len(results) / len(wanted.probes)}))
        ended = run.model_copy(
            update={
                "state": "done",
                "devices": reached(wanted.probes, standings, run.on),
                "failed": sum(bool(result.failed) for result in results),
                "nowhere": sum(not result.devices for result in results),
                "results": tuple(results),
                "seconds": round(time.perf_counter() - began, 3),
            }
        )
        self._runs.end(ended, behind)
