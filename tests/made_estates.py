"""Generated estates, facts and attempts, as plain documents, in a universe so small that rules meet often."""

from __future__ import annotations

import random
from datetime import UTC, datetime, timedelta

from portero.core.nouns.urls import UrlPattern

BASE = datetime(2026, 11, 23, 0, 0, tzinfo=UTC)
"""A Monday; daylight saving began and ended in the windows around other bases that tests give."""
GROUPS = ("bridge", "pilot", "kiosks", "ships")
TARGETS = (*GROUPS, "whole-fleet", "unclaimed")
HOSTNAMES = ("kiosk-1", "kiosk-2", "bridge-1", "lone-1")
USERS = ("purser-1", "Purser-2", "watch-1")
CATEGORIES = ("games", "music", "gambling", "news", "uncategorised")
FAMILIES = ("pastime", "adult", "network")
HOSTS = (
    "files.example",
    "drop.files.example",
    "a.drop.files.example",
    "play.example",
    "www.play.example",
    "find.example",
)
INDEX = {
    "play.example": ("games", "music"),
    "files.example": ("news",),
    "a.drop.files.example": ("gambling", "games"),
}
PATHS = ("", "/", "/a", "/a/", "/a/b", "/a/b/c", "/%61/b", "/A", "/a/../b")
QUERIES = ("", "", "", "?q=cheat+codes", "?q=free%20cheat%20codes%20now", "?x=1")
ADDRESSES = ("203.0.113.7", "203.0.113.70", "2001:db8::7", "::ffff:203.0.113.7", "192.0.2.1")
SHA = tuple(digit * 64 for digit in "abc")
PRODUCTS = ("Deckhand Viewer", "Chart Table")
VERSIONS = ("4.1", "4.2", "4.2.0", "4.2-rc1", "5")
ZONES = ("Europe/Berlin", "Atlantic/Faroe", "Pacific/Auckland")


class Maker:
    """Makes estates and attempts from one seed."""

    def __init__(self, seed: int, base: datetime = BASE) -> None:
        self.rng, self.base = random.Random(seed), base

    def some(self, of, most: int, least: int = 0) -> list:
        of = list(of)
        return self.rng.sample(of, self.rng.randint(least, min(most, len(of))))

    def sometimes(self, chance: float, key: str, make) -> dict:
        return {key: make()} if self.rng.random() < chance else {}

    def time(self) -> str:
        """On a quarter of an hour, so that attempts often fall on the very edge of something."""
        return (self.base + timedelta(minutes=15 * self.rng.randrange(-96, 7 * 96))).isoformat().replace("+00:00", "Z")

    # --- estates ---

    def estate(self) -> dict:
        rng = self.rng
        rulesets = [self.ruleset(number) for number in range(rng.randint(2, 7))]
        rulesets += [
            self.fed(ruleset) for ruleset in rulesets if ruleset["kind"] == "indicator" and "feed" not in ruleset
        ][:1]
        return {
            "portero": 1,
            "precedence": self.some(GROUPS, 4),
            "groups": [{"key": key, "pins": {"in": self.some(HOSTNAMES[:3], 3)}} for key in GROUPS],
            "schedules": [self.schedule(f"hours-{number}") for number in range(2)],
            "application_sets": [self.application_set(f"set-{number}") for number in range(3)],
            "rulesets": rulesets,
            "assignments": [self.assignment(number, rulesets) for number in range(rng.randint(2, 14))],
            "corrections": [{"host": host, "categories": self.some(CATEGORIES, 2, 1)} for host in self.some(HOSTS, 2)],
            "application_corrections": [
                {"product": rng.choice((product, product.upper())), "category": rng.choice(("remote-access", "media"))}
                for product in self.some(PRODUCTS, 2)
            ],
            "services": self.services(),
            "settings": {"search_pages": [{"host": "find.example", "parameter": "q"}]},
        }

    def services(self) -> list[dict]:
        hosts = self.some(HOSTS, 4, 1)
        return [
            {
                "key": f"service-{number}",
                "hosts": [host],
                **self.sometimes(0.8, "suitability", lambda: self.rng.choice((0, 15, 25, 60, 100))),
                **self.sometimes(0.7, "decision", lambda: self.rng.choice(("open", "accepted", "declined"))),
            }
            for number, host in enumerate(hosts)
        ]

    def schedule(self, key: str) -> dict:
        rng = self.rng
        days = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"]
        hours = ["00:00", "02:30", "06:00", "12:15", "18:00", "23:45"]
        windows = [
            {"days": self.some(days, 6, 1), "from": rng.choice(hours), "to": rng.choice(hours)}
            for _ in range(rng.randint(1, 3))
        ]
        off = [(self.base + timedelta(days=rng.randrange(7))).date().isoformat() for _ in range(rng.randint(0, 1))]
        return {"key": key, "zone": rng.choice(("device", *ZONES)), "windows": windows, "days_off": off}

    def condition(self) -> dict:
        rng = self.rng
        made = rng.choice(
            (
                {"sha256": rng.choice(SHA)},
                {"path": rng.choice(("/opt/viewer", "/opt/chart"))},
                {"product": rng.choice(PRODUCTS)},
                {"file": rng.choice(("viewer", "CHART"))},
                {"vendor": "Deckhand"},
                {"signer": "Brackwater IT"},
                {"category": rng.choice(("remote-access", "navigation"))},
            )
        )
        if ("product" in made or "file" in made) and rng.random() < 0.6:
            made["version"] = {rng.choice(("below", "from", "to", "is")): rng.choice(VERSIONS)}
        if rng.random() < 0.2:
            made["vendor"] = "Deckhand"
        return made

    def application_set(self, key: str) -> dict:
        made = {
            "key": key,
            "include": [self.condition() for _ in range(self.rng.randint(1, 3))],
            "exclude": [self.condition() for _ in range(self.rng.choice((0, 0, 1)))],
        }
        # of a chance of their own: the rest stays as it is
        others = random.Random(f"{made} takes in")
        if key != "set-0" and others.random() < 0.3:
            made["sets"] = ["set-0"]
        if self.rng.random() < 0.25:
            made |= {"following": False, "frozen_members": self.some(SHA, 2) + self.unhashed(str(made))}
        return made

    def unhashed(self, of: str) -> list[dict]:
        """Members of a frozen set without a SHA-256. By a chance of their own: the rest stays as it is."""
        rng = random.Random(of)
        named = {"product": rng.choice(PRODUCTS), "version": rng.choice(VERSIONS)}
        return rng.choice(([], [named], [{"path": "/opt/viewer"}]))

    def held_back(self, of: str) -> dict:
        """A hold-back, or none. By a chance of its own: the rest stays as it is."""
        rng = random.Random(f"{of} from {self.base}")
        if rng.random() < 0.5:
            return {}
        versions = [*SHA, *({"product": name, "version": version} for name in PRODUCTS for version in VERSIONS)]
        versions += [{"path": "/opt/viewer"}, {"product": "CHART table"}]
        rng.shuffle(versions)
        since = [self.base + timedelta(hours=rng.randrange(-96, 96)) for _ in range(rng.randint(0, 3))]
        return {
            "hold_back": f"P{rng.randint(1, 4)}D",
            "members": versions[: rng.randint(0, 3)],
            "came": [
                {"program": version, "at": at.isoformat().replace("+00:00", "Z")}
                for version, at in zip(versions[3:], since, strict=False)
            ],
        }

    def selector(self, kind: str) -> dict:
        rng = self.rng
        if kind == "category":
            return rng.choice(
                (
                    {"category": rng.choice(CATEGORIES)},
                    {"category": rng.choice(CATEGORIES)},
                    {"family": rng.choice(FAMILIES)},
                    {"everything": True},
                    {"search_term": rng.choice(("cheat codes", "Cheat", "free  cheat codes"))},
                    {"media_type": rng.choice(("video/mp4", "video/*"))},
                )
            )
        if kind == "startup":
            return rng.choice(
                (
                    {"application_set": f"set-{rng.randrange(3)}"},
                    {"application_set": f"set-{rng.randrange(3)}"},
                    {"sha256": rng.choice(SHA)},
                    {"everything": True},
                )
            )
        url = rng.choice(("http", "https")) + "://" + rng.choice(HOSTS) + rng.choice(("", "", ":8443"))
        return rng.choice(
            (
                {"host": rng.choice(HOSTS), **self.sometimes(0.3, "exact", lambda: True)},
                {"host": rng.choice(HOSTS)},
                {"url": url + rng.choice(PATHS) + rng.choice(QUERIES), **self.sometimes(0.2, "exact", lambda: True)},
                {"address": rng.choice(("203.0.113.0/24", "203.0.113.7", "203.0.113.0/28", "2001:db8::/32"))},
                {"service": "service-0"},
                {"decision": rng.choice(("open", "declined"))},
                {"suitability": rng.choice(({"to": 25}, {"from": 25, "to": 60}, {"from": 15}))},
            )
        )

    def ruleset(self, number: int) -> dict:
        rng = self.rng
        kind = rng.choice(("category", "category", "indicator", "indicator", "indicator", "startup"))
        feed = kind == "indicator" and rng.random() < 0.3
        rules: dict[str, dict] = {}
        for _ in range(rng.randint(1, 6)):
            selector = self.selector(kind)
            actions = ("block", "warn", "log") if feed else ("allow", "allow", "warn", "block", "block", "log")
            known = canonical(selector)
            rules.setdefault(
                known, {**selector, "action": rng.choice(actions), **self.sometimes(0.15, "valid_until", self.time)}
            )
        made = {"key": f"rules-{number}", "kind": kind, "rules": list(rules.values())}
        return {**made, "feed": "harbour-watch"} if feed else made

    def fed(self, ruleset: dict) -> dict:
        """A feed that names the same things, so that the two meet on every rung but their origin."""
        rules = [{**rule, "action": self.rng.choice(("block", "warn"))} for rule in ruleset["rules"]]
        return {**ruleset, "key": "fed", "feed": "harbour-watch", "rules": rules}

    def assignment(self, number: int, rulesets: list[dict]) -> dict:
        rng = self.rng
        ruleset = rng.choice(rulesets)
        to = (
            ["whole-fleet"]
            if rng.random() < 0.3
            else [
                *self.some(TARGETS, 2, 1),
                *([{"device": "kiosk-1"}] if rng.random() < 0.15 else []),
            ]
        )
        broad = any(is_broad(rule) and rule["action"] == "allow" for rule in ruleset["rules"])
        people = {"users": self.some(("PURSER-1", "purser-2"), 1), "user_groups": self.some(("crew", "Pursers"), 1)}
        return {
            "key": f"assignment-{number}",
            "ruleset": ruleset["key"],
            "to": to,
            "mandatory": not broad and rng.random() < 0.25,
            "state": rng.choice(("active",) * 8 + ("paused", "draft")),
            **self.sometimes(0.15, "action", lambda: rng.choice(("log", "warn", "block"))),
            **self.sometimes(0.25, "people", lambda: people),
            **self.sometimes(0.2, "schedule", lambda: f"hours-{rng.randrange(2)}"),
            **self.sometimes(0.2, "place", lambda: rng.choice(("on-site", "off-site", "anywhere"))),
            **self.sometimes(0.1, "starts", self.time),
            **self.sometimes(0.1, "ends", self.time),
            **self.sometimes(0.2, "until_restart", lambda: True),
            **self.sometimes(0.15, "replaces_weaker", lambda: True),
            **(self.held_back(f"{number} of {ruleset}") if ruleset["kind"] == "startup" else {}),
        }

    # --- facts and attempts ---

    def facts(self) -> dict:
        rng = self.rng
        devices = [
            {
                "hostname": hostname,
                "kind": "server" if hostname == HOSTNAMES[-1] else "other",
                **self.sometimes(0.7, "place", lambda: rng.choice(("on-site", "off-site"))),
                **self.sometimes(0.8, "zone", lambda: rng.choice(ZONES)),
                **self.sometimes(0.7, "last_start", self.time),
                "layers": {"filter": "enforcing", "browser": "enforcing", "startup": "enforcing"},
                "applications": [{"product": "Deckhand Viewer", "category": "remote-access", "sha256": SHA[0]}],
            }
            for hostname in HOSTNAMES
        ]
        groups = [
            {"key": "Crew", "users": ["watch-1"], "user_groups": ["pursers"]},
            {"key": "pursers", "users": ["purser-1"]},
        ]
        return {"portero_facts": 1, "directory": {"users": list(USERS), "user_groups": groups}, "devices": devices}

    def attempt(self) -> dict:
        rng = self.rng
        common = {
            "device": rng.choice(HOSTNAMES),
            "at": self.time(),
            **self.sometimes(0.6, "user", lambda: rng.choice(USERS)),
            **self.sometimes(0.3, "place", lambda: rng.choice(("on-site", "off-site"))),
        }
        if rng.random() < 0.25:
            return {**common, "start": self.program()}
        host = rng.choice((*HOSTS, *HOSTS, "other.example", "203.0.113.7", "games.category.test", "WWW.play.example."))
        url = f"{rng.choice(('http', 'https'))}://{host}{rng.choice(('', '', ':8443'))}"
        return {
            **common,
            "url": url + rng.choice(PATHS) + rng.choice(QUERIES),
            **self.sometimes(0.25, "address", lambda: rng.choice(ADDRESSES)),
            **self.sometimes(0.1, "search_term", lambda: rng.choice(("CHEAT   codes", "cheats"))),
            **self.sometimes(0.2, "media_type", lambda: rng.choice(("video/mp4", "video/webm", "text/html"))),
        }

    def program(self) -> dict:
        rng = self.rng
        return {
            "file": rng.choice(("viewer", "Chart", "other")),
            **self.sometimes(0.7, "product", lambda: rng.choice((*PRODUCTS, "deckhand viewer"))),
            **self.sometimes(0.7, "version", lambda: rng.choice(VERSIONS)),
            **self.sometimes(0.5, "vendor", lambda: rng.choice(("Deckhand", "deckhand", "Other"))),
            **self.sometimes(0.4, "signer", lambda: rng.choice(("Brackwater IT", "Other"))),
            **self.sometimes(0.5, "sha256", lambda: rng.choice(SHA)),
            **self.sometimes(0.5, "path", lambda: rng.choice(("/opt/viewer", "/opt/chart"))),
        }


def is_broad(rule: dict) -> bool:
    """Whether a mandatory assignment may not allow by it."""
    return any(rule.get(name) for name in ("family", "everything", "decision", "suitability")) or "/" in (
        rule.get("address") or ""
    )


def canonical(selector: dict) -> str:
    """Tells selectors apart that are one and the same once normalised; good enough for this universe."""
    if "search_term" in selector:
        return " ".join(selector["search_term"].casefold().split())
    if "url" in selector:
        return repr(UrlPattern.of(selector["url"], bool(selector.get("exact"))))
    return repr(sorted(selector.items()))
