"""The programs of Brackwater Ferries' machines: made up, and the same each time."""

from __future__ import annotations

import hashlib
import random
from collections.abc import Iterator
from typing import NamedTuple

from portero.core.nouns.device import Application


class _Product(NamedTuple):
    """A product: who makes it, its file, what it is for, its versions (the last one is the newest), and where it is."""

    name: str
    vendor: str
    file: str
    category: str | None
    versions: tuple[str, ...]
    on: tuple[str, ...]
    """Words of hostnames, each with how many of ten such machines have it: “laptop:8”."""
    signed: bool = True


_DESKS = ("desk:10", "laptop:10", "purser:10", "training:10", "meeting:6")
_PRODUCTS = (
    _Product("Skerry Writer", "Skerry Works", "skerry-writer", "office", ("7.3", "7.4"), _DESKS),
    _Product("Skerry Sheets", "Skerry Works", "skerry-sheets", "office", ("7.3", "7.4"), _DESKS),
    _Product(
        "Skerry Mail", "Skerry Works", "skerry-mail", "mail", ("5.2", "5.3"), ("desk:9", "laptop:10", "purser:10")
    ),
    _Product("Pebble Chat", "Pebble", "pebble", "chat", ("2.0", "2.6.1"), ("laptop:7", "desk:3", "mess:4")),
    _Product("Rope Archiver", "Hawser Tools", "rope", "archiver", ("1.4", "1.5"), ("laptop:6", "diag:9", "training:5")),
    _Product("Hawser Console", "Hawser Tools", "hawser", "remote-access", ("3.0",), ("diag:3", "office-laptop:1")),
    _Product(
        "Lamplight Player", "Lamplight", "lamplight", "media", ("11.2", "12.0"), ("mess:9", "laptop:4", "meeting:8")
    ),
    _Product("Reef Chess", "Gull Games", "reef-chess", "games", ("1.0",), ("mess:7", "training:2"), signed=False),
    _Product("Cannonade", "Gull Games", "cannonade", "games", ("0.9", "1.1"), ("mess:5",), signed=False),
    _Product(
        "Quick Carry", "Quick Carry", "quick-carry", "file-transfer", ("1.8", "1.9"), ("office-laptop:2", "desk:1")
    ),
    _Product("Sailcloth Studio", "Sailcloth", "sailcloth", "imaging", ("22.1",), ("office-laptop:2", "training:3")),
    _Product("Ledger Lines", "Counting House", "ledger-lines", "office", ("4.0", "4.2"), ("finance:10",)),
    _Product("Bilge Box", "Keelson", "bilge-box", "virtualisation", ("6.1",), ("diag:2", "office-laptop:1")),
    _Product(
        "Keelson Code", "Keelson", "keelson-code", "developer-tools", ("1.88", "1.90"), ("diag:4", "office-laptop:2")
    ),
    _Product("Conning Display", "Chartroom", "conning", None, ("9.0.4",), ("bridge:10",)),
    _Product("Tide Tables", "Chartroom", "tides", None, ("2026.1", "2026.2"), ("bridge:10", "purser:5")),
)
CHART_TABLE = {"product": "Chart Table", "vendor": "Skerry Works", "version": "3.1", "file": "charttable"}
"""The program of the desks."""
KNOWN_FOR_DAYS = 60


def viewer(version: str) -> dict[str, str]:
    """The workshop's diagnostics program, which has to stay below 4.2."""
    named = {"product": "Deckhand Viewer", "vendor": "Deckhand", "version": version, "file": "deckhand-viewer"}
    return {**named, "category": "remote-access"}


NEW_THIS_WEEK = {("Quick Carry", "1.9"), ("Pebble Chat", "2.6.1")}
"""Versions that nobody had a week ago."""


def programs_on(hostname: str) -> list[dict[str, str]]:
    """The programs of a machine, as it tells of them."""
    chance = random.Random(f"programs of {hostname}")
    return [
        _told(product, chance.choice(product.versions))
        for product in _PRODUCTS
        if chance.random() < max(_share(where, hostname) for where in product.on)
    ]


def _share(where: str, hostname: str) -> float:
    word, _, tenths = where.partition(":")
    return int(tenths) / 10 if word in hostname else 0.0


def known_before() -> Iterator[Application]:
    """All that some machine had more than a week ago."""
    yield from map(Application.model_validate, (CHART_TABLE, viewer("4.1")))
    for product in _PRODUCTS:
        for version in product.versions:
            if (product.name, version) not in NEW_THIS_WEEK:
                yield Application.model_validate(_told(product, version))


def known_programs() -> Iterator[tuple[str, str, str, str]]:
    """The fleet's own products as somebody outside lists them: product, vendor, newest version, what it is for."""
    for product in _PRODUCTS:
        yield product.name, product.vendor, product.versions[-1], product.category or ""


def _told(product: _Product, version: str) -> dict[str, str]:
    made = {
        "product": product.name,
        "vendor": product.vendor,
        "version": version,
        "file": product.file,
        "path": f"/opt/{product.file}/{product.file}",
        "sha256": _digest(f"{product.name} {version}"),
    }
    if product.category:
        made["category"] = product.category
    if product.signed:
        made |= {"signer": product.vendor, "certificate": _digest(f"certificate of {product.vendor}")}
    return made


def _digest(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()
