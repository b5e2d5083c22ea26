"""The machines of Brackwater Ferries and what their people visit, seeded: the same fleet each time."""

from __future__ import annotations

import random
from collections.abc import Iterator
from typing import NamedTuple

from portero.demo.making_hosts import made_up_hosts
from portero.demo.programs import CHART_TABLE, programs_on, viewer
from portero.endpoint.fleet import FleetPlan, PlannedDevice

SHIPS = ("tidewren", "guillemot", "kittiwake", "sandpiper")
TERMINALS = ("eastquay", "northmole", "gullrock", "fairhaven", "lowlight", "stonepier")
HANDS_ON = "tidewren-mess-02"
"""The machine whose filter the demo really runs, for anybody's browser."""

# (what, how many each, kind): machines of one place
_ABOARD = (("bridge", 4, "desktop"), ("purser", 2, "desktop"), ("mess", 8, "desktop"))
_ASHORE = (("kiosk", 4, "kiosk"), ("desk", 7, "desktop"), ("tablet", 3, "tablet"))
# what is wrong with some of them
_OBSERVING = {"workshop-diag-03", "workshop-diag-04", "office-laptop-17", "lowlight-desk-02"}
_FILTER_OFF = {"workshop-diag-09", "sandpiper-purser-02"}
_OLD_SYSTEM = {"stonepier-kiosk-02"}
_OLD_ENDPOINT = {"gullrock-kiosk-02", "gullrock-kiosk-03"}
_OLD_BROWSER = {"northmole-desk-04"}
_SECOND_BROWSER = {"eastquay-desk-02", "office-laptop-08", "office-laptop-22", "finance-laptop-05"}
_FIREFOX = {"eastquay-kiosk-03", "eastquay-kiosk-04"}
_POLICY_FILES: dict[str, tuple[str, dict[str, object]]] = {
    "gullrock-desk-04": ("chromium", {"overridden_by": ["/etc/chromium/policies/managed/zz-own-choice.json"]}),
    "fairhaven-desk-02": ("chromium", {"tampering": {"at": "2026-11-20T06:41:00Z", "what": "edited"}}),
    "lowlight-kiosk-01": ("chromium", {"state": "unwritten", "problem": "there is no room left on its disk"}),
    "eastquay-kiosk-04": ("firefox", {"restart_needed": True}),
}
"""Machines on which something is the matter with the policy file of a browser."""
_OWN_FILES = {
    "chromium": "/etc/chromium/policies/managed/portero.json",
    "firefox": "/etc/firefox/policies/policies.json",
}
_NO_ZONE = {"workshop-diag-11", "fairhaven-desk-06"}
_CLOCK_AHEAD = {"training-pc-09": 3_300.0}
"""A machine whose battery is empty: its clock is 55 minutes ahead."""
_FACTS_STALE = "office-meeting-03"
LOST = "office-laptop-40"
"""The machine whose credential was revoked."""
_QUIET = {"guillemot-mess-05": 9, "guillemot-mess-06": 9, "stonepier-tablet-03": 4, "training-pc-14": 2}
"""Machines that are not heard of any more, and for how many days."""
_REINSTALLED = "workshop-diag-05"
"""It got a new disk: it joins again with the serial that it had."""

RECORDED = [
    {"hostname": f"{port}-till-01", "kind": "other", "unit": f"brackwater/terminals/{port}", "serial": f"TILL-{port}"}
    for port in ("eastquay", "lowlight", "stonepier")
]
"""Machines that no endpoint runs on."""
INVITED = [
    {"hostname": f"office-laptop-{number}", "kind": "laptop", "unit": "brackwater/office", "labels": {"wave": "second"}}
    for number in (43, 44)
]
"""Machines that were invited and have not joined."""

_WORK = "productivity webmail reference news search public-services content-delivery banking education meetings"
_LEISURE = "video-streaming music games sport social-networks messaging shopping humour forums hobbies"
_RISKY = "gambling scams phishing malware anonymisers newly-registered sexual-content"


def _sites(rng: random.Random, work: float, leisure: float, risky: float) -> dict[str, float]:
    by_category: dict[str, list[str]] = {}
    for host, categories in made_up_hosts().items():
        for category in categories.split():
            by_category.setdefault(category, []).append(host)
    sites: dict[str, float] = {}
    for words, weight, picks in ((_WORK, work, 12), (_LEISURE, leisure, 8), (_RISKY, risky, 4)):
        for _ in range(picks):
            host = rng.choice(by_category[rng.choice(words.split())])
            scheme = "https" if rng.random() < 0.8 else "http"
            sites[f"{scheme}://{host}/"] = weight * rng.uniform(0.3, 1.0)
    sites["https://unlisted-cove.example/"] = 0.2
    return sites


_KIOSK_SITES = {
    "http://tickets.brackwater.example/": 6.0,
    "https://timetable.brackwater.example/": 3.0,
    "https://find.example/?q=ferry": 1.0,
    "https://eastquay-port.example/delays": 1.0,
    "https://pay-by-card.example/form": 2.5,
    "https://reeltide.example/": 0.1,
}
"""What people look for at a kiosk; what the ticket shop has its payments from is not on the list."""


def _machine(
    rng: random.Random,
    hostname: str,
    unit: str,
    kind: str,
    address: str,
    zone: str,
    people: list[str],
    taste: tuple[float, float, float],
    *,
    every: float = 60.0,
    holds: bool = True,
    visits: float = 2.0,
) -> PlannedDevice:
    mode = "off" if hostname in _FILTER_OFF else "observing" if hostname in _OBSERVING else "enforcing"
    versions = ("12.1", "12.4", "12.4", "12.5")
    chromium = "80.0" if hostname in _OLD_BROWSER else rng.choice(("139.0", "140.0"))
    browsers: list[dict[str, object]] = [{"name": "chromium", "version": chromium, "managed": True}]
    if kind == "tablet" or hostname in _SECOND_BROWSER:
        browsers.append({"name": "gullwing", "version": "7.2", "managed": False})
    if hostname in _FIREFOX:
        browsers.append({"name": "firefox", "version": "153.8", "managed": True})
    _with_policy_file(hostname, browsers)
    layer_version = "0.0.9" if hostname in _OLD_ENDPOINT else "0.1.0"
    system = rng.choice(versions)
    if hostname in _OLD_SYSTEM:
        system = "11.6"
    facts: dict[str, object] = {
        "hostname": hostname,
        "kind": kind,
        "unit": unit,
        "serial": f"BW-{hostname}",
        "os": {"family": "linux", "version": system},
        "addresses": [address],
        "browsers": browsers,
        "applications": _applications(rng, hostname),
        "layers": {"filter": mode, "browser": "enforcing"} | ({} if kind == "tablet" else {"startup": "enforcing"}),
        "layer_versions": {"filter": layer_version, "browser": layer_version, "startup": layer_version},
        "place": "off-site" if unit.endswith("workshop") and rng.random() < 0.5 else "on-site",
        "last_start": f"2026-11-{rng.randint(1, 20):02}T0{rng.randint(4, 9)}:00:00Z",
    }
    if people and kind in ("desktop", "laptop"):
        facts["signed_in"] = people[:1]
    if hostname not in _NO_ZONE:
        facts["zone"] = zone
    quiet = hostname in _QUIET or hostname == LOST
    tells = hostname != _FACTS_STALE
    sites = _sites(rng, *taste)
    own = _KIOSK_SITES if kind == "kiosk" else sites
    ahead = _CLOCK_AHEAD.get(hostname, 0.0)
    return PlannedDevice(facts, every, holds, quiet, tells, ahead, people, visits, own)


def _with_policy_file(hostname: str, browsers: list[dict[str, object]]) -> None:
    """What the machine says of the policy file of its browser, where something is the matter with one."""
    name, matter = _POLICY_FILES.get(hostname, ("", {}))
    for browser in browsers:
        if browser["name"] == name:
            browser["policy"] = {"file": _OWN_FILES[name], "state": "kept", **matter}


def _applications(rng: random.Random, hostname: str) -> list[dict[str, str]]:
    if "-diag-" in hostname:
        return [CHART_TABLE, viewer(rng.choice(("4.1", "4.1", "4.2"))), *programs_on(hostname)]
    return [*([CHART_TABLE] if "-desk-" in hostname or "laptop" in hostname else []), *programs_on(hostname)]


def _ships(rng: random.Random) -> Iterator[PlannedDevice]:
    number = 10
    for ship in SHIPS:
        for what, count, kind in _ABOARD:
            for place in range(1, count + 1):
                number += 1
                taste = {"bridge": (1.0, 0.1, 0.01), "purser": (1.0, 0.3, 0.02), "mess": (0.4, 1.0, 0.08)}[what]
                people = [f"purser-{ship}"] if what == "purser" else [f"watch-{watch}" for watch in range(1, 5)]
                address = f"2001:db8:5::{number:x}" if what == "purser" else f"198.51.100.{number}"
                yield _machine(
                    rng,
                    f"{ship}-{what}-{place:02}",
                    f"brackwater/ships/{ship}",
                    kind,
                    address,
                    "Atlantic/Faroe",
                    people,
                    taste,
                    every=rng.uniform(120, 420),
                    holds=False,
                    visits=3.0 if what == "mess" else 1.0,
                )


def _terminals(rng: random.Random) -> Iterator[PlannedDevice]:
    number = 1
    for port in TERMINALS:
        for what, count, kind in _ASHORE:
            for place in range(1, count + 1):
                number += 1
                people = [] if what == "kiosk" else [f"desk-{port}", f"late-desk-{port}"]
                taste = (1.0, 0.05, 0.01) if what == "kiosk" else (1.0, 0.35, 0.03)
                yield _machine(
                    rng,
                    f"{port}-{what}-{place:02}",
                    f"brackwater/terminals/{port}",
                    kind,
                    f"203.0.113.{number}",
                    "Atlantic/Reykjavik",
                    people,
                    taste,
                    visits=4.0 if what == "kiosk" else 2.0,
                )


def _ashore(rng: random.Random) -> Iterator[PlannedDevice]:
    number = 1
    for unit, what, count, kind, taste in (
        ("workshop", "workshop-diag", 18, "laptop", (1.0, 0.3, 0.04)),
        ("office", "office-laptop", 42, "laptop", (1.0, 0.4, 0.02)),
        ("office", "finance-laptop", 12, "laptop", (1.0, 0.2, 0.01)),
        ("office", "office-meeting", 8, "desktop", (1.0, 0.1, 0.0)),
        ("training", "training-pc", 20, "desktop", (1.0, 0.6, 0.03)),
    ):
        for place in range(1, count + 1):
            number += 1
            people = [f"{what.partition('-')[0]}-{place}"]
            yield _machine(
                rng,
                f"{what}-{place:02}",
                f"brackwater/{unit}",
                kind,
                f"192.0.2.{number}",
                "Europe/Copenhagen",
                people,
                taste,
            )


def brackwater_fleet(seed: int = 2026) -> FleetPlan:
    """The whole fleet, about 240 machines, without the one that the demo really runs."""
    rng = random.Random(seed)
    machines = [*_ships(rng), *_terminals(rng), *_ashore(rng)]
    return FleetPlan(
        1, [machine for machine in machines if machine.facts["hostname"] != HANDS_ON], seed, past_hours=20.0
    )


class Old(NamedTuple):
    """A machine that joined before the demo starts."""

    facts: dict[str, object]
    days: float
    """How many days ago it joined, and, if it is quiet, was last heard of."""
    keeps_identity: bool = True
    """Whether its folder is still there, so that it goes on as the same device."""


def old_machines(seed: int = 2026) -> list[Old]:
    """The machines that joined before the demo starts."""
    facts = {str(device.facts["hostname"]): device.facts for device in brackwater_fleet(seed).devices}
    return [
        *(Old(facts[hostname], days) for hostname, days in _QUIET.items()),
        Old(facts[LOST], 3),
        Old(facts[_FACTS_STALE], 8),
        Old(facts[_REINSTALLED], 12, keeps_identity=False),
    ]


def hands_on_facts(seed: int = 2026) -> dict[str, object]:
    """The facts of the machine that the demo really runs."""
    return next(ship.facts for ship in _ships(random.Random(seed)) if ship.facts["hostname"] == HANDS_ON)
