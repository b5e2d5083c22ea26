"""The calls that the console's pages make first, on a great fleet: how much they carry, and how long they take."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager

import httpx
import uvicorn

from bench.estates import make_estate
from bench.fleet import stored_fleet
from bench.measuring import Figure, Row, each, in_turns
from portero.core.nouns.administrator import AdministratorChange
from portero.core.nouns.estate import Estate
from portero.service.app import create_app, with_devices
from portero.service.keepers import Keepers
from portero.service.running import server_config, set_up_logging
from portero.service.secrets import hash_secret
from portero.service.state import Snapshot
from portero.store import access, administrators

FIRST = "devices?limit=50"
CALLS = (
    *("worklist", "rollout", "readiness", "readiness/units", "findings?accepted=false", "findings?limit=1", "board"),
    *("assignments", "groups", "rulesets", "revisions", "indicators", "indicators/capacity", "indicators/clean-up"),
    *("group-overlaps", "activity", "applications", "audit", "category-index", "settings", "epoch", "pushes"),
)
MOST_BYTES, MOST_RATIO = 100_000, 10.0
_TOKEN = "pt_bench"


def _let_in(keepers: Keepers) -> None:
    with keepers.store.writing() as connection:
        administrators.add(connection, "bench", AdministratorChange(role="keeper", sees_names=True), "none", 0)
        access.add_token(
            connection,
            id="bench",
            secret_hash=hash_secret(_TOKEN),
            name="bench",
            label="bench",
            role="keeper",
            now=0,
            expires=4e9,
        )


@contextmanager
def _served(keepers: Keepers) -> Iterator[httpx.Client]:
    set_up_logging(quiet=True)
    _let_in(keepers)
    server = uvicorn.Server(server_config(with_devices(create_app(keepers)), port=0))
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    while not server.started:
        time.sleep(0.01)
    url = f"http://127.0.0.1:{server.servers[0].sockets[0].getsockname()[1]}/api/v1/"
    headers = {"Authorization": f"Bearer {_TOKEN}", "Accept-Encoding": "identity"}
    with httpx.Client(base_url=url, headers=headers, timeout=60) as client:
        yield client
    server.should_exit = True
    thread.join(10)


def page_rows(machines: int, rounds: int) -> list[Row | Figure]:
    """Each call beside the first page of the list of machines."""
    made = make_estate(200, 1_000, 20_000)
    with stored_fleet(machines) as keepers:

        def edit(snapshot: Snapshot) -> Estate:
            parts = {"rulesets": made.rulesets, "assignments": made.assignments, "schedules": made.schedules}
            return snapshot.estate.replacing(**parts)

        keepers.estate.change(edit, by="bench")
        with _served(keepers) as client:
            sizes = {call: len(client.get(call).raise_for_status().content) for call in CALLS}
            first, *others = in_turns(rounds, *(each(client.get, [call]) for call in (FIRST, *CALLS)))
    slowest, timing = max(zip(CALLS, others, strict=True), key=lambda pair: pair[1].median)
    largest = max(CALLS, key=lambda call: sizes[call])
    name = f"{machines:,} machines"
    return [
        Row(
            f"{name}: the slowest call, {slowest} (floor: first page of machines)", timing, first.median, MOST_RATIO, 5
        ),
        Figure(f"{name}: the largest answer, {largest}", sizes[largest] / 1000, "kB", at_most=MOST_BYTES / 1000),
    ]
