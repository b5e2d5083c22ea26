"""How rows are measured and printed."""

from __future__ import annotations

import gc
import statistics
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class Timing:
    """Seconds a call: median and 99th percentile over rounds of many calls."""

    median: float
    p99: float


Measurement = Callable[[], list[float]]
"""Does something once over; gives the seconds of each call."""


def each(call: Callable[[Any], object], inputs: Sequence[Any]) -> Measurement:
    """Measures a call on each of the inputs."""

    def once() -> list[float]:
        samples, clock = [], time.perf_counter
        for input in inputs:
            began = clock()
            call(input)
            samples.append(clock() - began)
        return samples

    return once


def whole(call: Callable[[], object], inputs: int) -> Measurement:
    """Measures a call that handles many inputs at once, as seconds an input."""

    def once() -> list[float]:
        began = time.perf_counter()
        call()
        return [(time.perf_counter() - began) / inputs]

    return once


def in_turns(rounds: int, *measurements: Measurement) -> list[Timing]:
    """Time several things round by round, in turns: a machine's speed drifts, and so hits all of them alike."""
    samples: list[list[float]] = [[] for _ in measurements]
    gc.collect()
    gc.disable()
    try:
        for _ in range(rounds):
            for kept, measure in zip(samples, measurements, strict=True):
                kept += measure()
    finally:
        gc.enable()
    return [Timing(statistics.median(kept), sorted(kept)[int(len(kept) * 0.99)]) for kept in samples]


@dataclass(frozen=True)
class Row:
    """One line of the table. `goal` is the highest ratio (to the floor) that is good enough, `aim` a better one."""

    what: str
    timing: Timing
    floor: float | None = None
    goal: float | None = None
    aim: float | None = None
    steady: float | None = None
    """The highest p99 ÷ median that is good enough."""
    most_ms: float | None = None
    """The most milliseconds that are good enough, where a person waits."""

    @property
    def ratio(self) -> float | None:
        """Median ÷ floor."""
        return self.timing.median / self.floor if self.floor else None

    @property
    def met(self) -> str:
        """Whether the goals are met; empty for a row without one."""
        if self.most_ms is not None:
            return "met" if self.timing.median * 1000 <= self.most_ms else "NOT MET"
        if self.goal is None or self.ratio is None:
            return ""
        good = self.ratio <= self.goal and (not self.steady or self.timing.p99 <= self.steady * self.timing.median)
        return "met" if good else "NOT MET"


@dataclass(frozen=True)
class Figure:
    """A line of the table that is no time: a size, a rate, memory. `value` must be at most, or at least, the goal."""

    what: str
    value: float
    unit: str
    at_most: float | None = None
    at_least: float | None = None

    @property
    def met(self) -> str:
        """Whether the goal is met; empty for a figure without one."""
        if self.at_most is not None:
            return "met" if self.value <= self.at_most else "NOT MET"
        if self.at_least is not None:
            return "met" if self.value >= self.at_least else "NOT MET"
        return ""

    @property
    def line(self) -> tuple[str, ...]:
        """Its cells."""
        told = f"{self.value:,.1f} {self.unit}" if self.value < 100 else f"{self.value:,.0f} {self.unit}"
        goal = f"≤ {self.at_most:,g}" if self.at_most is not None else ""
        if self.at_least is not None:
            goal = f"≥ {self.at_least:,g}"
        return (self.what, told, "", "", "", goal, self.met)


def span(seconds: float) -> str:
    """Seconds in the unit that fits."""
    for size, unit in ((1.0, "s"), (1e-3, "ms"), (1e-6, "µs")):
        if seconds >= size:
            return f"{seconds / size:.2f} {unit}"
    return f"{seconds * 1e9:.0f} ns"


def print_rows(rows: Sequence[Row | Figure]) -> None:
    """The table: what, median, p99, floor, ratio, goal, met or not."""
    lines = [("what", "median", "p99", "floor", "ratio", "goal", "")]
    for row in rows:
        if isinstance(row, Figure):
            lines.append(row.line)
            continue
        goal = f"≤ {row.goal:g}" if row.goal else f"≤ {row.most_ms:g} ms" if row.most_ms else ""
        if row.aim:
            goal += f", aim {row.aim:g}"
        if row.steady:
            goal += f", p99 ≤ {row.steady:g} × median"
        lines.append(
            (
                row.what,
                span(row.timing.median),
                span(row.timing.p99),
                span(row.floor) if row.floor else "",
                f"{row.ratio:.2f}" if row.ratio else "",
                goal,
                row.met,
            )
        )
    widths = [max(len(line[column]) for line in lines) for column in range(7)]
    for line in lines:
        print("  ".join(cell.ljust(width) for cell, width in zip(line, widths, strict=True)).rstrip())
