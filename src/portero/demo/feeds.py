"""Stand-ins for what is outside: feeds of categories over HTTP, and a TAXII 2.1 collection of indicators.

Made of a seed and the day, so that each day's list differs a little from the day before's. Every name ends in
`.example`.
"""

from __future__ import annotations

import argparse
import json
import random
import signal
import sys
import uuid
from collections.abc import Callable, Iterator
from datetime import UTC, date, datetime, timedelta
from functools import lru_cache
from http.server import BaseHTTPRequestHandler
from threading import Thread
from typing import Any
from urllib.parse import parse_qs, urlsplit

from portero.core.nouns.feed import Feed
from portero.demo.making_hosts import made_up_hosts
from portero.demo.programs import known_programs
from portero.demo.web import Server

COLLECTION = "4b1c6a2e-93f0-5f6b-8a57-0f3c3f5d2a10"
TAXII = "application/taxii+json;version=2.1"
PAGE = 100
_FIRST_DAY = date(2026, 1, 1).toordinal()
_WORDS = {"gambling": "betting", "video-streaming": "streaming", "advertising": "ads-and-trackers"}
"""The list's own words for some of our categories."""


# --- what the feeds say ---


@lru_cache(maxsize=4)
def _many_hosts() -> tuple[tuple[str, str], ...]:
    return tuple(made_up_hosts(seed=7, per_category=70, numbered=True).items())


def harbour_list(day: date) -> Iterator[str]:
    """The Harbour List on a day, as CSV: what the fleet visits, and a few thousand hosts more."""
    yield "host,categories,registered_on"
    number = day.toordinal() - _FIRST_DAY
    known = dict(made_up_hosts())
    for place, (host, categories) in enumerate({**dict(_many_hosts()), **known}.items()):
        if host not in known and (place + number) % 97 == 0:
            continue  # a few come and go
        if host not in known and (place * 7 + number) % 211 == 0:
            categories = "parked"
        words = " ".join(_WORDS.get(word, word) for word in categories.split())
        fresh = day - timedelta(days=(place * 13 + number) % 400) if place % 9 == 0 and host not in known else None
        yield f"{host},{words},{fresh or ''}"
    for place in range(number % 40 + 5):
        yield f"offer-{number:03}-{place:02}.example,scams,{day - timedelta(days=place)}"
    yield "not a host,betting,"
    yield "tide-tables.example,nautical,"


def relay_list(day: date) -> Iterator[str]:
    """Relays and tunnels, one a line."""
    chance, number = random.Random(11), day.toordinal() - _FIRST_DAY
    yield "# relays seen lately"
    for place in range(240):
        name = f"relay-{chance.randrange(16**5):05x}.example"
        if (place + number) % 17:
            yield name


def advert_hosts(day: date) -> Iterator[str]:
    """Hosts of advertisements, as a hosts file."""
    chance = random.Random(13)
    yield "127.0.0.1 localhost"
    for _ in range(180 + day.toordinal() % 5):
        yield f"0.0.0.0 banner-{chance.randrange(16**5):05x}.example"


def program_list(day: date) -> Iterator[str]:
    """Three thousand made-up programs as CSV, some of them the fleet's; a few newer versions come each day."""
    yield "product,vendor,version,category,signer"
    for product, vendor, version, category in known_programs():
        yield f'"{product}","{vendor}",{version},{category},"{vendor}"'
    chance, number = random.Random(17), day.toordinal() - _FIRST_DAY
    named = set[str]()
    while len(named) < MADE_UP_PROGRAMS:
        place = len(named)
        what = chance.choice(sorted(_MAKES))
        product = f"{chance.choice(_SORTS)} {chance.choice(_MAKES[what])} {place}"
        vendor = f"{chance.choice(_SORTS)} {chance.choice(('Works', 'Tools', 'Software', 'Guild'))}"
        newer = (place + number) % 29 == 0
        named.add(product)
        yield f"{product},{vendor},{chance.randint(1, 12)}.{chance.randint(0, 9) + newer},{what},{vendor}"
    yield "Barnacle Scraper,Barnacle,1.0,hull-care,"
    yield ",Nobody,1.0,games,"


MADE_UP_PROGRAMS = 3_000
_SORTS = (
    "Amber",
    "Bilge",
    "Capstan",
    "Drift",
    "Ember",
    "Fathom",
    "Gale",
    "Halyard",
    "Inlet",
    "Jetty",
    "Keel",
    "Lantern",
)
_MAKES = {
    "archiver": ("Packer", "Crate"),
    "browser": ("Lookout", "Window"),
    "chat": ("Parley", "Hail"),
    "developer-tools": ("Forge", "Bench"),
    "file-transfer": ("Ferry", "Lighter"),
    "games": ("Skirmish", "Regatta", "Dice"),
    "imaging": ("Print", "Lens"),
    "mail": ("Post", "Courier"),
    "media": ("Gramophone", "Reel"),
    "office": ("Ledger", "Quill", "Chart"),
    "remote-access": ("Tiller", "Reach"),
    "virtualisation": ("Hold", "Nest"),
}


def watch_objects(day: date) -> list[tuple[str, dict[str, Any]]]:
    """The objects of the Harbour Watch collection up to a day, each with the moment at which it was added."""
    first = _FIRST_DAY + 290
    found = [_indicator(name, pattern, first) for name, pattern in _NAMED]
    for number in range(first, max(first, day.toordinal()) + 1):
        chance = random.Random(number)
        for place in range(5):
            found.append(_indicator(*_invented(chance, number, place), number))
    return found


_NAMED = [
    ("Berth invoices", "[domain-name:value = 'berth-invoice.example']"),
    ("Pilotage refunds", "[domain-name:value = 'pilotage-refund.example']"),
    ("A garden that was broken into", "[domain-name:value = 'brisk-garden.example']"),
    ("Two at once", "[url:value = 'http://fuel-levy.example/pay' AND domain-name:value = 'fuel-levy.example']"),
    ("A dropper by its MD5", "[file:hashes.MD5 = '9e107d9d372bb6826bd81d3542a419d6']"),
    ("A dropper", f"[file:hashes.'SHA-256' = '{'5e' * 32}']"),
]


def _invented(chance: random.Random, number: int, place: int) -> tuple[str, str]:
    name = f"{chance.choice(('toll', 'customs', 'crew-pay', 'cargo', 'berth'))}-{number}-{place}.example"
    if place == 0:
        return f"Payment page at {name}", f"[url:value = 'https://{name}/pay/']"
    if place == 1:
        return "Sender of false invoices", f"[ipv4-addr:value = '203.0.113.{chance.randrange(100, 180)}']"
    return f"False notices at {name}", f"[domain-name:value = '{name}' OR domain-name:value = 'www.{name}']"


def _indicator(name: str, pattern: str, day: int) -> tuple[str, dict[str, Any]]:
    at = datetime.combine(date.fromordinal(day), datetime.min.time(), UTC)
    stamp = at.isoformat(timespec="milliseconds").replace("+00:00", "Z")
    id = f"indicator--{uuid.uuid5(uuid.NAMESPACE_URL, name + pattern)}"
    document: dict[str, Any] = {"type": "indicator", "spec_version": "2.1", "id": id, "created": stamp}
    document |= {"modified": stamp, "name": name, "indicator_types": ["malicious-activity"]}
    document |= {"pattern": pattern, "pattern_type": "stix", "valid_from": stamp}
    if name.startswith("A garden"):
        document["labels"] = ["portero-action:warn"]
    return stamp, document


def bundle(day: date) -> bytes:
    """The same as a STIX bundle."""
    objects = [one for _, one in watch_objects(day)]
    return json.dumps({"type": "bundle", "id": f"bundle--{uuid.uuid4()}", "objects": objects}).encode()


LISTS: dict[str, Callable[[date], Iterator[str]]] = {
    "/harbour-list.csv": harbour_list,
    "/relays.txt": relay_list,
    "/programs.csv": program_list,
    "/adverts.hosts": advert_hosts,
}


def list_of(path: str, day: date) -> bytes:
    """A list on a day, as it is fetched."""
    return ("\n".join(LISTS[path](day)) + "\n").encode()


def brackwater_feeds(base: str) -> tuple[Feed, ...]:
    """The feeds of the demo, at an address on loopback."""
    shared: dict[str, Any] = {"private_network": True, "licence": "CC BY 4.0, made up"}
    return (
        Feed(
            key="harbour-list",
            name="Harbour List",
            kind="categories",
            format="csv",
            address=f"{base}/harbour-list.csv",
            every_minutes=360,
            source="a cooperative of harbours",
            mapping={
                "betting": ("gambling",),
                "streaming": ("video-streaming",),
                "ads-and-trackers": ("advertising",),
            },
            **shared,
        ),
        Feed(
            key="adverts",
            name="Hosts of advertisements",
            kind="categories",
            format="hosts-file",
            address=f"{base}/adverts.hosts",
            every_minutes=1440,
            source="volunteers",
            categories=("advertising",),
            **shared,
        ),
        Feed(
            key="relays",
            name="Relays and tunnels",
            kind="categories",
            format="host-list",
            address=f"{base}/relays.txt",
            every_minutes=1440,
            source="volunteers",
            categories=("anonymisers",),
            review=True,
            **shared,
        ),
        Feed(
            key="program-list",
            name="Program List",
            kind="programs",
            format="csv",
            address=f"{base}/programs.csv",
            every_minutes=1440,
            source="a guild of administrators",
            **shared,
        ),
        Feed(
            key="harbour-watch",
            name="Harbour watch",
            kind="indicators",
            format="taxii",
            address=f"{base}/api/collections/{COLLECTION}/",
            every_minutes=60,
            source="the harbours' watch",
            action="block",
            lifetime_days=90,
            **shared,
        ),
    )


# --- the server ---


class _Feeds(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    timeout = 30

    def do_GET(self) -> None:
        asked, today = urlsplit(self.path), datetime.now(UTC).date()
        if asked.path in LISTS:
            tag = f'"{today.isoformat()}"'
            if self.headers.get("If-None-Match") == tag:
                self._answer(304, b"", "text/plain")
            else:
                self._answer(200, list_of(asked.path, today), "text/plain; charset=utf-8", ETag=tag)
        elif asked.path.startswith(("/taxii2/", "/api/")):
            self._taxii(asked.path, {name: values[0] for name, values in parse_qs(asked.query).items()}, today)
        else:
            self._answer(404, b"There is nothing here.", "text/plain")

    def _taxii(self, path: str, asked: dict[str, str], today: date) -> None:
        here = f"http://{self.headers.get('Host')}/api/"
        collection = {"id": COLLECTION, "title": "Harbour watch", "can_read": True, "can_write": False}
        collection["media_types"] = ["application/stix+json;version=2.1"]
        answers: dict[str, Any] = {
            "/taxii2/": {"title": "Harbour watch", "default": here, "api_roots": [here]},
            "/api/": {"title": "Harbour watch", "versions": [TAXII], "max_content_length": 1_000_000},
            "/api/collections/": {"collections": [collection]},
            f"/api/collections/{COLLECTION}/": collection,
        }
        if path == f"/api/collections/{COLLECTION}/objects/":
            self._objects(asked, today)
        elif path in answers:
            self._answer(200, json.dumps(answers[path]).encode(), TAXII)
        else:
            self._answer(404, json.dumps({"title": "Not found", "http_status": "404"}).encode(), TAXII)

    def _objects(self, asked: dict[str, str], today: date) -> None:
        after = asked.get("added_after", "")
        found = [(at, one) for at, one in watch_objects(today) if at > after]
        start, limit = int(asked.get("next", "0")), min(int(asked.get("limit", PAGE)), PAGE)
        page = found[start : start + limit]
        body: dict[str, Any] = {"objects": [one for _, one in page]} if page else {}
        if start + limit < len(found):
            body |= {"more": True, "next": str(start + limit)}
        dates = {"X-TAXII-Date-Added-First": page[0][0], "X-TAXII-Date-Added-Last": page[-1][0]} if page else {}
        self._answer(200, json.dumps(body).encode(), TAXII, **dates)

    def _answer(self, status: int, body: bytes, media_type: str, **headers: str) -> None:
        self.send_response(status)
        for name, value in {"Content-Type": media_type, "Content-Length": str(len(body)), **headers}.items():
            self.send_header(name, value)
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, format: str, *args: object) -> None:
        """Say nothing."""


def start_feeds(port: int) -> int:
    """Start the server on loopback in a thread; returns its port (0 takes a free one)."""
    server = Server(("127.0.0.1", port), _Feeds)
    Thread(target=server.serve_forever, daemon=True).start()
    return int(server.server_port)


def main() -> int:
    """Run the feeds on their own: `python -m portero.demo.feeds --port N`."""
    parser = argparse.ArgumentParser(description="Feeds of made-up hosts, and a TAXII collection.")
    parser.add_argument("--port", type=int, default=0)
    print(f"http://127.0.0.1:{start_feeds(parser.parse_args().port)}", flush=True)
    signal.pause()
    return 0


if __name__ == "__main__":
    sys.exit(main())
