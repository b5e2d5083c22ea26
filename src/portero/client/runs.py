"""Runs: probe sets tried over the fleet."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from portero.client.connection import LONG_SECONDS, Part, segment
from portero.core.nouns.finding import DeviceName
from portero.core.nouns.observation import Observation, ObservedProbe
from portero.core.nouns.run import NewRun, ProbedRules, Run, RunSummary

WAIT_SECONDS = 2.0


class RunsPart(Part):
    """Runs, and the machines on which probes did not come out as expected."""

    def create(self, new: NewRun, *, wait: float = 0) -> Run:
        """Begin a run; the answer comes once it has ended, or after `wait` seconds (20 at the most). Invalid where it
        names what there is not.
        """
        return self.connection.post("/runs", new, Run, wait=wait)

    def get(self, run: int, *, wait: float = 0) -> Run:
        """One run, as far as it is after `wait` seconds. NotFound."""
        return self.connection.get(f"/runs/{run}", Run, wait=wait)

    def follow(self, new: NewRun) -> Iterator[Run]:
        """Begin a run and follow it: as far as it is, again and again, until it has ended."""
        run = self.create(new, wait=WAIT_SECONDS)
        yield run
        while run.state == "running":
            run = self.get(run.id, wait=WAIT_SECONDS)
            yield run

    def list(self, limit: int | None = None) -> Iterator[RunSummary]:
        """The runs that are kept, the newest first."""
        return self.connection.pages("/runs", RunSummary, limit)

    def probed_rules(self, *, days: int = 30) -> ProbedRules:
        """How many rules in force have settled a probe of late, and the first of those that have not."""
        return self.connection.get("/runs/probed-rules", ProbedRules, days=days, limit=1000)

    def observations(
        self, run: int, *, set: str | None = None, number: int | None = None, agrees: bool | None = None
    ) -> Iterator[Observation]:
        """What machines saw in an observed run: of one probe, or only what is (not) as predicted. NotFound."""
        return self.connection.pages(f"/runs/{run}/observations", Observation, set=set, number=number, agrees=agrees)

    def observed(self, set: str) -> Sequence[ObservedProbe]:
        """What the probes of a set came to on the machines that have really tried them. NotFound."""
        return self.connection.get_list(f"/probe-sets/{segment(set)}/observed", ObservedProbe)

    def of_device(self, device: str) -> Sequence[Observation]:
        """What a machine saw last of each probe that it really tried, the newest first. NotFound."""
        return self.connection.get_list(f"/devices/{segment(device)}/observations", Observation)

    def picture(self, run: int, device: str, set: str, number: int) -> bytes:
        """The page as a machine saw it, a PNG. NotFound."""
        path = f"/runs/{run}/observations/{segment(device)}/{segment(set)}/{number}/picture"
        return self.connection.ask("GET", path).content

    def case(self, run: int, device: str, set: str, number: int) -> bytes:
        """The case of what a machine saw otherwise than predicted, as a file. NotFound."""
        path = f"/runs/{run}/observations/{segment(device)}/{segment(set)}/{number}/case"
        return self.connection.ask("GET", path, timeout=LONG_SECONDS).content

    def devices(self, run: int, *, set: str, number: int, cause: str) -> Iterator[DeviceName]:
        """The machines on which a probe did not come out for a cause. NotFound where they are not kept (any more)."""
        return self.connection.pages(f"/runs/{run}/devices", DeviceName, set=set, number=number, cause=cause)
