"""A fleet at work: machines on loopback that check in, wait, fetch and report, while administrators change things and
look at pages. `python -m bench.load` runs it; it exits with 1 where a request failed or something was lost.
"""

from __future__ import annotations

import argparse
import asyncio
import io
import itertools
import json
import os
import random
import resource
import sqlite3
import sys
import tarfile
import tempfile
import time
from collections import Counter, defaultdict
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import Any

import httpx
import zstandard

from bench.measuring import Figure, print_rows
from bench.serving import served_apart
from portero.client import Portero
from portero.core.digests import digest_of
from portero.core.nouns.assignment import NewAssignment
from portero.core.nouns.group import Group
from portero.core.nouns.indicator import RulesEdit
from portero.core.nouns.rule import Rule
from portero.core.nouns.ruleset import Ruleset
from portero.formats.bundles import read_bundle
from portero.formats.manifests import open_manifest
from serving import TOKEN

UNITS = 40
EVERYBODY_SECONDS, GROUP_SECONDS, PAGE_SECONDS, REPORT_SECONDS = 20.0, 5.0, 2.0, 60.0
PAGES = (
    "devices?limit=50",
    "worklist",
    "rollout",
    "readiness",
    "findings?limit=50",
    "board",
    "activity",
    "assignments",
)
INDICATORS = 5_000
READS = {"manifests": [1, 2], "bundles": [1, 2, 3]}


@dataclass
class Noted:
    """What was seen of all machines together."""

    seconds: dict[str, list[float]] = field(default_factory=lambda: defaultdict(list))
    errors: Counter[str] = field(default_factory=Counter)
    acknowledged: int = 0
    """Attempts that the service said it has."""

    def percentile(self, what: str, share: float) -> float:
        """Milliseconds."""
        kept = sorted(self.seconds[what])
        return kept[min(int(len(kept) * share), len(kept) - 1)] * 1000 if kept else 0.0


class Refused(Exception):
    """The service answered something that it should not have."""


class MovedOn(Exception):
    """What was to be fetched is not what the machine should have any more: it checks in again."""


class Line:
    """A connection that is kept, and made anew where it has ended: HTTP/1.1, as little of it as is needed."""

    def __init__(self, port: int, credential: str) -> None:
        self._port, self._credential = port, credential
        self._reader: asyncio.StreamReader | None = None
        self._writer: asyncio.StreamWriter | None = None

    async def ask(self, method: str, path: str, body: bytes = b"") -> tuple[int, bytes]:
        """Status and body of the answer."""
        head = f"{method} {path} HTTP/1.1\r\nHost: bench.example\r\nContent-Length: {len(body)}\r\n"
        if self._credential:
            head += f"Authorization: Bearer {self._credential}\r\n"
        for again in (False, True):
            if self._writer is None or self._writer.is_closing():
                self._reader, self._writer = await asyncio.open_connection("127.0.0.1", self._port)
            assert self._reader is not None
            try:
                self._writer.write((head + "\r\n").encode() + body)
                return await self._answer(self._reader)
            except (ConnectionError, asyncio.IncompleteReadError):
                # one that was idle for long has been closed at the other end
                self.close()
                if again:
                    raise
        raise AssertionError

    async def _answer(self, reader: asyncio.StreamReader) -> tuple[int, bytes]:
        head = await reader.readuntil(b"\r\n\r\n")
        lines = head.decode("latin-1").split("\r\n")
        headers = {name.lower(): value for name, _, value in (line.partition(": ") for line in lines[1:])}
        size = int(headers.get("content-length", 0))
        return int(lines[0].split(" ")[1]), await reader.readexactly(size) if size else b""

    def close(self) -> None:
        """Close it."""
        if self._writer is not None:
            self._writer.close()
            self._writer = None


class Machine:
    """A machine as the service sees it: it keeps no policy, only what it holds."""

    def __init__(self, number: int, port: int, code: str, noted: Noted) -> None:
        self.number, self._port, self._code, self._noted = number, port, code, noted
        self._chance = random.Random(number)
        self._line = Line(port, "")
        self._key = ""
        self.holds: dict[str, Any] = {}
        self._parts: set[str] = set()
        self._batch, self._seq = 0, 0

    async def _ask(
        self, what: str, method: str, path: str, message: Any = None, fine: tuple[int, ...] = (200,)
    ) -> bytes:
        body = json.dumps(message).encode() if message is not None else b""
        began = time.perf_counter()
        status, told = await self._line.ask(method, f"/device/v1/{path}", body)
        self._noted.seconds[what].append(time.perf_counter() - began)
        if status == 404 and what in ("document", "part", "parts"):
            raise MovedOn
        if status not in fine:
            raise Refused(f"{what}: {status} {told[:120]!r}")
        return told if status == 200 else b""

    async def join(self) -> None:
        """Join, and take what there is."""
        facts = {"hostname": f"load-{self.number:05}", "unit": f"north/area-{self.number % UNITS}"}
        status, told = await self._line.ask(
            "POST", "/device/v1/join", json.dumps({"code": self._code, "facts": facts}).encode()
        )
        if status != 201:
            raise Refused(f"join: {status} {told[:120]!r}")
        joined = json.loads(told)
        self._key = joined["signing_key"]
        self._line.close()
        self._line = Line(self._port, joined["credential"])
        await self.check_in()

    async def check_in(self, woken: bool = False) -> None:
        """Check in, and take what is new, as an endpoint does."""
        what = "check-in" if self.holds else "first check-in"
        told = await self._ask(what, "POST", "check-in", {**READS, **self.holds, "woken": woken}, (200, 204))
        if not told:
            return
        offered = json.loads(told)
        digest = offered["bundle"]
        try:
            document = await self._ask("document", "GET", f"bundle/{digest}")
            await self._take(set(read_bundle(document, digest).parts))
        except MovedOn:
            await self.check_in(woken=True)
            return
        manifest = open_manifest(offered["manifest"], self._key)
        self.holds = {"have": digest, "revision": offered["revision"], "epoch": manifest.epoch}
        await self._ask("applied", "POST", "check-in", {**READS, **self.holds, "woken": True}, (200, 204))

    async def _take(self, named: set[str]) -> None:
        lacking = sorted(named - self._parts)
        if len(lacking) > 4:
            packed = await self._ask("parts", "POST", "parts", {"want": lacking})
            with tarfile.open(fileobj=io.BytesIO(packed)) as archive:
                assert len(archive.getnames()) == len(lacking)
        else:
            for digest in lacking:
                packed = await self._ask("part", "GET", f"part/{digest}")
                if self._chance.random() < 0.02:
                    plain = zstandard.ZstdDecompressor().decompress(packed, max_output_size=64_000_000)
                    assert digest_of(plain) == digest
        self._parts = named

    async def live(self, until: float) -> None:
        """Wait for news, check in, report, until a moment."""
        report_at = time.monotonic() + self._chance.uniform(0, REPORT_SECONDS)
        while (left := until - time.monotonic()) > 0:
            try:
                await self._once(min(left, 55.0, max(report_at - time.monotonic(), 1.0)))
                if time.monotonic() >= report_at:
                    report_at = time.monotonic() + REPORT_SECONDS
                    await self._report()
            except (OSError, Refused, AssertionError, asyncio.IncompleteReadError) as problem:
                self._noted.errors[str(problem)[:140] or type(problem).__name__] += 1
                await asyncio.sleep(1.0)

    async def _once(self, hold: float) -> None:
        status, told = await self._line.ask("GET", f"/device/v1/wait?have={self.holds.get('have', '')}&hold={hold:.1f}")
        if status == 200:
            await asyncio.sleep(self._chance.uniform(0.0, json.loads(told)["spread"]))
            await self.check_in(woken=True)
        elif status != 204:
            raise Refused(f"wait: {status}")
        elif self._chance.random() < 0.5:
            await self.check_in()

    async def _report(self) -> None:
        now = time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime())
        attempts = []
        for _ in range(5):
            self._seq += 1
            host = f"host-{self._chance.randrange(500)}.example"
            attempt = {"seq": self._seq, "at": now, "url": f"https://{host}/", "host": host, "verdict": "block"}
            attempts.append({**attempt, "user": f"post-{self.number % 50}", "bundle": self.holds.get("have")})
        counts = [{"hour": now, "host": f"seen-{self._chance.randrange(500)}.example", "visits": 3} for _ in range(5)]
        self._batch += 1
        batch = {"batch": self._batch, "attempts": attempts, "counts": counts}
        told = json.loads(await self._ask("activity", "POST", "activity", batch))
        self._noted.acknowledged += told["new"]

    def close(self) -> None:
        """Hang up."""
        self._line.close()


# --- administrators ---


def _set_up(portero: Portero) -> None:
    for unit in range(UNITS):
        condition = {"field": "unit", "op": "is", "value": f"north/area-{unit}"}
        portero.groups.create(Group.model_validate({"key": f"area-{unit}", "members": {"all": [condition]}}))
        rules = [{"category": "games", "action": "block"}]
        portero.rulesets.create(Ruleset.model_validate({"key": f"of-{unit}", "kind": "category", "rules": rules}))
        portero.assignments.create(NewAssignment.model_validate({"ruleset": f"of-{unit}", "to": f"area-{unit}"}))
    rules = [{"host": f"{place * 7919:x}.listed.example", "action": "block"} for place in range(INDICATORS)]
    portero.rulesets.create(Ruleset.model_validate({"key": "listed", "kind": "indicator", "rules": rules}))
    portero.assignments.create(NewAssignment.model_validate({"ruleset": "listed", "to": "whole-fleet"}))


def _one_more(portero: Portero, number: int) -> None:
    portero.indicators.edit(
        "listed", RulesEdit(put=(Rule.model_validate({"host": f"n{number}.example", "action": "block"}),))
    )


def _one_group(portero: Portero, number: int) -> None:
    key = f"of-{number % UNITS}"
    action = ("warn", "block")[number // UNITS % 2]
    rules = [{"category": "games", "action": action}, {"category": "music", "action": "warn"}]
    seen = portero.rulesets.get(key)
    changed = Ruleset.model_validate({"key": key, "kind": "category", "rules": rules})
    portero.rulesets.put(changed, version=seen.version)


async def _again(every: float, until: float, what: str, noted: Noted, do: Any) -> None:
    """Do something in a thread, again and again, and note how long it takes."""
    for number in itertools.count():
        if (left := until - time.monotonic()) <= 0:
            return
        began = time.perf_counter()
        try:
            await asyncio.to_thread(do, number)
            noted.seconds[what].append(time.perf_counter() - began)
        except Exception as problem:
            noted.errors[f"{what}: {problem}"[:140]] += 1
        await asyncio.sleep(max(0.0, min(every - (time.perf_counter() - began), left)))


# --- the run ---


async def _run(port: int, code: str, portero: Portero, machines: int, seconds: float, noted: Noted) -> list[Machine]:
    fleet = [Machine(number, port, code, noted) for number in range(machines)]
    gate = asyncio.Semaphore(16)

    async def join(machine: Machine) -> None:
        async with gate:
            await machine.join()

    await asyncio.gather(*map(join, fleet))
    noted.seconds.clear()
    until = time.monotonic() + seconds
    quiet_from = until - EVERYBODY_SECONDS
    looking = itertools.cycle(PAGES)

    pages = httpx.Client(base_url=f"http://127.0.0.1:{port}/api/v1/", headers={"Authorization": f"Bearer {TOKEN}"})

    def look(_number: int) -> None:
        pages.get(next(looking), timeout=30).raise_for_status()

    await asyncio.gather(
        *(machine.live(until) for machine in fleet),
        _again(EVERYBODY_SECONDS, quiet_from, "change for everybody", noted, partial(_one_more, portero)),
        _again(GROUP_SECONDS, quiet_from, "change of one group", noted, partial(_one_group, portero)),
        _again(PAGE_SECONDS, until, "page", noted, look),
    )
    # whoever was on the way when time was over takes what there is
    await asyncio.gather(*(machine.check_in() for machine in fleet))
    for machine in fleet:
        machine.close()
    return fleet


def _resident(process: int) -> float:
    return int(Path(f"/proc/{process}/statm").read_text().split()[1]) * 4096 / 1e6


def _counted(folder: str) -> int:
    with sqlite3.connect(Path(folder) / "portero.sqlite3") as connection:
        return int(connection.execute("SELECT count(*) FROM activity").fetchone()[0])


def load_rows(machines: int, seconds: float) -> list[Figure]:
    """The whole run."""
    _, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    resource.setrlimit(resource.RLIMIT_NOFILE, (hard, hard))
    noted = Noted()
    with tempfile.TemporaryDirectory() as folder, served_apart(folder) as (process, port, code):
        with Portero(f"http://127.0.0.1:{port}", token=TOKEN) as portero:
            _set_up(portero)
            fleet_began = time.monotonic()
            began = _resident(process)
            fleet = asyncio.run(_run(port, code, portero, machines, seconds, noted))
            ended, took = _resident(process), time.monotonic() - fleet_began
            newest = portero.devices.rollout()
        lost = noted.acknowledged - _counted(folder)
        size = sum(file.stat().st_size for file in Path(folder).glob("portero.sqlite3*")) / 1e6
    for problem, number in noted.errors.most_common(8):
        print(f"{number} × {problem}", file=sys.stderr)
    asked = sum(map(len, noted.seconds.values()))
    rows = [
        Figure(f"{machines:,} machines, {seconds:.0f} s: requests a second", asked / seconds, ""),
        Figure("errors", sum(noted.errors.values()), "", at_most=0),
        Figure("acknowledged attempts that were lost", lost, "", at_most=0),
        Figure("machines that do not hold the newest at the end", machines - newest.current, "", at_most=0),
    ]
    for what in sorted(noted.seconds):
        for name, share in (("p50", 0.5), ("p99", 0.99)):
            number = len(noted.seconds[what])
            rows.append(Figure(f"{what} ({number:,}), {name}", noted.percentile(what, share), "ms"))
    rows += [
        Figure("the service's memory with the fleet", ended, "MB"),
        Figure("of that for each machine", (ended - began) * 1000 / machines, "kB"),
        Figure("the store at the end", size, "MB"),
        Figure("all of it, with joining", took, "s"),
    ]
    assert len(fleet) == machines
    return rows


def main() -> int:
    """Run it and print."""
    parser = argparse.ArgumentParser(prog="bench.load", description=__doc__)
    parser.add_argument("--quick", action="store_true", help="1,000 machines for a minute")
    parser.add_argument("--machines", type=int)
    parser.add_argument("--seconds", type=float)
    options = parser.parse_args()
    machines, seconds = (1_000, 60.0) if options.quick else (10_000, 600.0)
    rows = load_rows(options.machines or machines, options.seconds or seconds)
    busy = ", ".join(f"{load:.1f}" for load in os.getloadavg())
    print(f"The machine's load over 1, 5 and 15 minutes is {busy}.\n")
    print_rows(rows)
    return 1 if any(row.met == "NOT MET" for row in rows) else 0


if __name__ == "__main__":
    sys.exit(main())
