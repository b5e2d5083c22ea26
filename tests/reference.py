"""A slow and obvious resolver, straight from the page on resolution: no compiling, no indexes, no sharing of code.

It reads estates, facts and attempts as plain documents. Site lists are left to the browser and to tests of their own.
"""

from __future__ import annotations

import ipaddress
import re
from datetime import UTC, datetime, timedelta
from functools import cmp_to_key
from urllib.parse import unquote_plus
from zoneinfo import ZoneInfo

import ada_url

from portero.core.nouns.web_taxonomy import TAXONOMY

STRICT = {"allow": 0, "warn": 1, "block": 2}
DAYS = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"]
NARROW_INDICATORS = ("url", "host", "service")


def moment(text):
    return datetime.fromisoformat(text) if text else None


class World:
    """An estate with the facts of its devices."""

    def __init__(self, estate: dict, facts: dict, index: dict[str, tuple[str, ...]]) -> None:
        self.estate, self.facts, self.index = estate, facts, index
        self.rulesets = {one["key"]: one for one in estate.get("rulesets", [])}
        self.settings = estate.get("settings", {})

    # --- what is in play ---

    def groups(self, device: dict) -> list[str]:
        """By pins alone: membership rules have a plain evaluator of their own."""
        own = [
            group["key"] for group in self.estate["groups"] if device["hostname"] in group.get("pins", {}).get("in", [])
        ]
        order = self.estate.get("precedence", []) + [group["key"] for group in self.estate["groups"]]
        return [*sorted(own, key=order.index), *(() if own else ("unclaimed",)), "whole-fleet"]

    def user_groups(self, user: str | None) -> set[str]:
        if user is None:
            return set()
        directory = self.facts.get("directory", {}).get("user_groups", [])
        found: set[str] = set()
        while True:
            more = {
                group["key"].lower()
                for group in directory
                if user.lower() in [name.lower() for name in group.get("users", [])]
                or found & {name.lower() for name in group.get("user_groups", [])}
            }
            if more == found:
                return found
            found = more

    def people_rung(self, assignment: dict, user: str | None) -> int | None:
        """0 this person, 1 a user group of theirs, 2 everyone; None for somebody else's."""
        people = assignment.get("people") or {}
        users = [name.lower() for name in people.get("users", [])]
        groups = [name.lower() for name in people.get("user_groups", [])]
        if not users and not groups:
            return 2
        if user is None:
            return None
        if user.lower() in users:
            return 0
        return 1 if self.user_groups(user) & set(groups) else None

    def open(self, key: str, at: datetime, device: dict) -> bool:
        schedule = next(one for one in self.estate["schedules"] if one["key"] == key)
        zone = schedule.get("zone", "device")
        zone = device.get("zone") if zone == "device" else zone
        local = at.astimezone(ZoneInfo(zone) if zone else UTC).replace(tzinfo=None)
        for window in schedule["windows"]:
            for back in (0, 1):
                day = local.date() - timedelta(days=back)
                if DAYS[day.weekday()] not in window["days"] or day.isoformat() in schedule.get("days_off", []):
                    continue
                opens = datetime.fromisoformat(f"{day}T{window['from']}")
                closes = datetime.fromisoformat(f"{day}T{window['to']}")
                if closes <= opens:
                    closes += timedelta(days=1)
                if opens <= local < closes:
                    return True
        return False

    def counts_now(self, assignment: dict, attempt: dict, device: dict) -> bool:
        """All of 2.1 but what replaces it."""
        at = moment(attempt["at"])
        if assignment.get("state", "active") != "active":
            return False
        starts, ends = moment(assignment.get("starts")), moment(assignment.get("ends"))
        if (starts and at < starts) or (ends and at >= ends):
            return False
        if self.people_rung(assignment, attempt.get("user")) is None:
            return False
        if assignment.get("schedule") and not self.open(assignment["schedule"], at, device):
            return False
        place = attempt.get("place") or device.get("place") or "off-site"
        if assignment.get("place", "anywhere") not in ("anywhere", place):
            return False
        last = moment(device.get("last_start"))
        restarted = assignment.get("until_restart") and starts and last and starts < last <= at
        return not restarted

    def target(self, assignment: dict, device: dict, groups: list[str]):
        """The strongest target that holds the device, with its rank; the device itself is -1."""
        to = assignment["to"] if isinstance(assignment["to"], list) else [assignment["to"]]
        ranks = []
        for one in to:
            if isinstance(one, dict) and one["device"].lower() == device["hostname"].lower():
                ranks.append((-1, {"device": device["hostname"]}))
            elif one in groups:
                ranks.append((groups.index(one), one))
        return min(ranks, key=lambda found: found[0], default=None)

    def rules_in_play(self, kinds: tuple[str, ...], attempt: dict, device: dict) -> list[dict]:
        at = moment(attempt["at"])
        groups = self.groups(device)
        found = []
        for place, assignment in enumerate(self.estate.get("assignments", [])):
            ruleset = self.rulesets[assignment["ruleset"]]
            target = self.target(assignment, device, groups)
            if ruleset["kind"] not in kinds or target is None or not self.counts_now(assignment, attempt, device):
                continue
            for number, rule in enumerate(ruleset["rules"], start=1):
                over = moment(rule.get("valid_until"))
                if over and at >= over:
                    continue
                found.append(
                    {
                        "rule": rule,
                        "id": (assignment["key"], number),
                        "order": (place, number),
                        "kind": ruleset["kind"],
                        "action": overridden(rule["action"], assignment.get("action")),
                        "mandatory": assignment.get("mandatory", False),
                        "rank": target[0],
                        "target": target[1],
                        "people": self.people_rung(assignment, attempt.get("user")),
                        "feed": bool(ruleset.get("feed")),
                        "replaces": assignment.get("replaces_weaker", False),
                        "assignment": assignment,
                    }
                )
        return without_replaced(found)

    # --- visits ---

    def visit(self, attempt: dict, device: dict) -> dict:
        url = ada_url.URL(attempt["url"])
        host = url.hostname.rstrip(".")
        rules = self.rules_in_play(("category", "indicator"), attempt, device)
        facts = {
            "url": url,
            "host": host,
            "address": attempt.get("address") or literal(host),
            "service": self.service(host),
            "categories": self.categories(host),
            "searched": attempt.get("search_term") or self.searched(url, host),
            "media": attempt.get("media_type"),
        }
        indicators = [rule for rule in rules if rule["kind"] == "indicator" and indicator_matches(rule["rule"], facts)]
        contests = self.contests([rule for rule in rules if rule["kind"] == "category"], facts)
        matched = {one["id"]: one for one in [*indicators, *(one for contest in contests for one in contest)]}
        logged = {id for id, one in matched.items() if one["action"] == "log"}
        winner = visit_winner(deciding(indicators), [deciding(contest) for contest in contests])
        return said(winner, logged, set(matched) - logged)

    def contests(self, rules: list[dict], facts: dict) -> list[list[dict]]:
        found = [[rule for rule in rules if names_category(rule["rule"], key)] for key in facts["categories"]]
        if facts["searched"] is not None:
            folded = facts["searched"].casefold()
            plain = "".join(letter if letter.isalnum() else " " for letter in folded)
            texts = [folded.split(), plain.split()]
            terms: dict[tuple[str, ...], list[dict]] = {}
            for rule in rules:
                term = tuple((rule["rule"].get("search_term") or "").casefold().split())
                if term and any(tuple(words[n:][: len(term)]) == term for words in texts for n in range(len(words))):
                    terms.setdefault(term, []).append(rule)
            found += terms.values()
        if facts["media"]:
            ranges = (facts["media"], facts["media"].split("/")[0] + "/*")
            found.append([rule for rule in rules if rule["rule"].get("media_type") in ranges])
        return found

    def categories(self, host: str) -> tuple[str, ...]:
        labels = host.split(".")
        if labels[-2:] == ["category", "test"] and len(labels) > 2 and labels[-3] in TAXONOMY.categories:
            return (labels[-3],)
        corrections = {one["host"]: tuple(one["categories"]) for one in self.estate.get("corrections", [])}
        for number in range(len(labels)):
            name = ".".join(labels[number:])
            if name in corrections:
                return corrections[name]
            if name in self.index:
                return self.index[name]
        return ("uncategorised",)

    def service(self, host: str) -> dict | None:
        labels = host.split(".")
        for number in range(len(labels)):
            for service in self.estate.get("services", []):
                if ".".join(labels[number:]) in service["hosts"]:
                    return service
        return None

    def searched(self, url, host: str) -> str | None:
        for page in self.settings.get("search_pages", []):
            if page["host"] == host:
                for part in url.search.removeprefix("?").split("&"):
                    name, _, value = part.partition("=")
                    if unquote_plus(name) == page["parameter"] and part:
                        return unquote_plus(value)
        return None

    # --- starts ---

    def start(self, attempt: dict, device: dict) -> dict:
        program = dict(attempt["start"])
        for one in self.estate.get("application_corrections", []):
            if one["product"].casefold() == (program.get("product") or "").casefold():
                program["category"] = one["category"]
        if "category" not in program and program.get("product"):
            known = {
                one.get("category")
                for other in self.facts["devices"]
                for one in other.get("applications", [])
                if (one.get("product") or "").casefold() == program["product"].casefold()
            }
            program["categories"] = known - {None}
        else:
            program["categories"] = {program["category"]} if program.get("category") else set()
        matching = []
        for one in self.rules_in_play(("startup",), attempt, device):
            narrow = self.program_narrowness(one["rule"], program)
            if narrow is not None:
                held = one["rule"].get("application_set") and one["action"] in ("block", "warn")
                if held and is_held_back(one["assignment"], program, device, moment(attempt["at"])):
                    one["action"] = "log"
                matching.append({**one, "narrow": (-narrow,)})
        logged = {one["id"] for one in matching if one["action"] == "log"}
        return said(settle(deciding(matching)), logged, {one["id"] for one in matching} - logged)

    def program_narrowness(self, rule: dict, program: dict) -> int | None:
        if rule.get("everything"):
            return 6
        if rule.get("sha256"):
            return 0 if program.get("sha256") == rule["sha256"] else None
        return self.set_narrowness(rule["application_set"], program)

    def set_narrowness(self, key: str, program: dict) -> int | None:
        held = next(one for one in self.estate["application_sets"] if one["key"] == key)
        if any(condition_narrowness(one, program) is not None for one in held.get("exclude", [])):
            return None
        narrow = [condition_narrowness(one, program) for one in held.get("include", [])]
        if held.get("following", True):
            narrow += [self.set_narrowness(other, program) for other in held.get("sets", [])]
        narrowest = min((one for one in narrow if one is not None), default=None)
        if held.get("following", True):
            return narrowest
        if program.get("sha256") in held["frozen_members"]:
            return 0 if narrowest is None else narrowest
        named = [one for one in held["frozen_members"] if isinstance(one, dict) and is_that_program(one, program)]
        if not named:
            return None
        return min(own_narrowness(one) for one in named) if narrowest is None else narrowest


def is_held_back(assignment: dict, program: dict, device: dict, at: datetime) -> bool:
    """It came later, and not long enough ago; or nobody has told of it. Servers wait until somebody accepts it."""
    if not assignment.get("hold_back"):
        return False
    if any(is_member(one, program) for one in assignment["members"]):
        return False
    came = [moment(one["at"]) for one in assignment.get("came", []) if is_member(one["program"], program)]
    if not came or device.get("kind") == "server":
        return True
    return at < min(came) + timedelta(days=int(assignment["hold_back"][1:-1]))


def is_member(member: str | dict, program: dict) -> bool:
    return program.get("sha256") == member if isinstance(member, str) else is_that_program(member, program)


def is_that_program(member: dict, program: dict) -> bool:
    """All that is known of a frozen program is the same."""
    return all(str(program.get(name)).casefold() == value.casefold() for name, value in member.items())


def own_narrowness(member: dict) -> int:
    """How narrow a frozen program is where no condition says so: by path, by name with its version, by name."""
    if "path" in member:
        return 1
    return 2 if "version" in member else 3


def said(winner: dict | None, logged: set, competing: set) -> dict:
    return {
        "verdict": winner["action"] if winner else "allow",
        "winner": winner["id"] if winner else None,
        "target": winner["target"] if winner else None,
        "logged": logged,
        "lost": competing - ({winner["id"]} if winner else set()),
    }


def overridden(action: str, override: str | None) -> str:
    if override == "log":
        return "log"
    return override if override and action in ("warn", "block") else action


def without_replaced(rules: list[dict]) -> list[dict]:
    """2.4b: where a replacing assignment decides something, ordinary ones of its kind with weaker targets are out."""
    kept = []
    for rule in rules:
        stronger = [
            other
            for other in rules
            if other["replaces"] and other["action"] != "log" and other["kind"] == rule["kind"]
            if other["rank"] < rule["rank"]
        ]
        if rule["mandatory"] or not stronger:
            kept.append(rule)
    return kept


def deciding(rules: list[dict]) -> list[dict]:
    return [rule for rule in rules if rule["action"] != "log"]


# --- what selectors match ---


def names_category(rule: dict, category: str) -> bool:
    return (
        rule.get("category") == category
        or rule.get("family") == TAXONOMY.family_of[category]
        or bool(rule.get("everything"))
    )


def literal(host: str) -> str | None:
    try:
        return str(ipaddress.ip_address(host.strip("[]")))
    except ValueError:
        return None


def plain_address(text: str):
    parsed = ipaddress.ip_address(text)
    return getattr(parsed, "ipv4_mapped", None) or parsed


def decoded(text: str) -> str:
    return re.sub(
        "%([0-9A-Fa-f]{2})",
        lambda found: (
            chr(int(found[1], 16)) if re.match(r"[A-Za-z0-9._~-]", chr(int(found[1], 16))) else found[0].upper()
        ),
        text,
    )


def segments(url) -> list[str]:
    path = decoded(url.pathname)
    return path[:-1].split("/")[1:] if path.endswith("/") else path.split("/")[1:]


def port_of(url) -> int:
    return int(url.port) if url.port else {"http:": 80, "https:": 443}[url.protocol]


def below(host: str, name: str) -> bool:
    return host == name or host.endswith("." + name)


def indicator_matches(rule: dict, facts: dict) -> bool:
    if rule.get("host"):
        return facts["host"] == rule["host"] if rule.get("exact") else below(facts["host"], rule["host"])
    if rule.get("url"):
        wanted, url = ada_url.URL(rule["url"]), facts["url"]
        if wanted.hostname.rstrip(".") != facts["host"] or (wanted.port and int(wanted.port) != port_of(url)):
            return False
        have, need = segments(url), segments(wanted)
        if rule.get("exact") or wanted.search:
            return have == need and decoded(url.search) == decoded(wanted.search)
        return have[: len(need)] == need
    if rule.get("address"):
        network = ipaddress.ip_network(rule["address"])
        return facts["address"] is not None and plain_address(facts["address"]) in network
    service = facts["service"]
    if service is None:
        return False
    if rule.get("service"):
        return service["key"] == rule["service"]
    if rule.get("decision"):
        return service.get("decision", "open") == rule["decision"]
    bounds, suitability = rule["suitability"], service.get("suitability")
    return suitability is not None and bounds.get("from", 0) <= suitability <= bounds.get("to", 100)


def is_range(rule: dict) -> bool:
    return bool(rule.get("address")) and ipaddress.ip_network(rule["address"]).num_addresses > 1


def is_narrow(rule: dict) -> bool:
    return any(rule.get(name) for name in NARROW_INDICATORS) or (bool(rule.get("address")) and not is_range(rule))


def narrowness(one: dict) -> tuple:
    """Greater is narrower."""
    rule = one["rule"]
    if one["kind"] == "startup":
        return one["narrow"]
    if one["kind"] == "category":
        if rule.get("everything"):
            return (0,)
        return (1,) if rule.get("family") or (rule.get("media_type") or "").endswith("/*") else (2,)
    if rule.get("url"):
        url = ada_url.URL(rule["url"])
        kind = 10 if url.search else 9 if rule.get("exact") else 8
        return (kind, len(segments(url)), bool(url.port))
    if rule.get("host"):
        return (7,) if rule.get("exact") else (6, rule["host"].count("."))
    if rule.get("address"):
        return (3, ipaddress.ip_network(rule["address"]).prefixlen) if is_range(rule) else (4,)
    return (5,) if rule.get("service") else (2,) if rule.get("decision") else (1,)


def condition_narrowness(condition: dict, program: dict) -> int | None:
    """How narrow a matching condition is, 0 the narrowest; None where it does not match."""
    ranks = []
    for name, wanted in condition.items():
        if name == "category":
            if wanted not in program["categories"]:
                return None
            ranks.append(5)
        elif name == "version":
            if program.get("version") is None or not in_bounds(program["version"], wanted):
                return None
            if "product" in condition or "file" in condition:
                ranks.append(2)
        else:
            found = program.get(name)
            if found is None or (found != wanted if name == "path" else found.casefold() != wanted.casefold()):
                return None
            ranks.append({"sha256": 0, "path": 1, "product": 3, "file": 3}.get(name, 4))
    return min(ranks)


def numbers(version: str) -> tuple:
    """Numeric parts without trailing noughts; what leads up to a release is below it."""
    release, _, early = version.partition("-")
    parts = [int(part) for part in release.split(".")]
    while parts and parts[-1] == 0:
        parts.pop()
    return (parts, not early, early)


def in_bounds(version: str, bounds: dict) -> bool:
    have = numbers(version)
    tests = {
        "below": lambda bound: have < bound,
        "from": lambda bound: have >= bound,
        "to": lambda bound: have <= bound,
        "is": lambda bound: have == bound,
    }
    return all(tests[op](numbers(bound)) for op, bound in bounds.items())


# --- the ladder ---


def compare(one: dict, other: dict) -> int:
    """Rungs 2 to 7; negative where the first is stronger. Among mandatory rules without target and origin."""
    if narrowness(one) != narrowness(other):
        return -1 if narrowness(one) > narrowness(other) else 1
    if one["people"] != other["people"]:
        return one["people"] - other["people"]
    if not one["mandatory"]:
        if one["rank"] != other["rank"]:
            return one["rank"] - other["rank"]
        if one["feed"] != other["feed"]:
            return 1 if one["feed"] else -1
    if one["action"] != other["action"]:
        return STRICT[other["action"]] - STRICT[one["action"]]
    return -1 if one["order"] < other["order"] else 1


def strongest(rules: list[dict]) -> dict | None:
    """The winner of one side; a feed's rule does not loosen what is written by hand."""
    if not rules:
        return None
    best = min(rules, key=cmp_to_key(compare))
    by_hand = [rule for rule in rules if not rule["feed"]]
    if best["feed"] and by_hand:
        own = min(by_hand, key=cmp_to_key(compare))
        if STRICT[own["action"]] > STRICT[best["action"]]:
            return own
    return best


def sides(rules: list[dict]) -> tuple[dict | None, dict | None]:
    return strongest([rule for rule in rules if rule["mandatory"]]), strongest(
        [rule for rule in rules if not rule["mandatory"]]
    )


def settle(rules: list[dict]) -> dict | None:
    """Rung 1 in full."""
    mandatory, ordinary = sides(rules)
    if mandatory is None or ordinary is None:
        return mandatory or ordinary
    if mandatory["action"] == "allow":
        return mandatory
    return ordinary if STRICT[ordinary["action"]] > STRICT[mandatory["action"]] else mandatory


def visit_winner(indicators: list[dict], contests: list[list[dict]]) -> dict | None:
    mandatory, ordinary = sides(indicators)
    if mandatory and mandatory["action"] == "allow" and is_narrow(mandatory["rule"]):
        return mandatory
    lifts = ordinary is not None and not ordinary["feed"] and is_narrow(ordinary["rule"])
    standing = settle(indicators)
    remaining = [standing] if standing else []
    for contest in contests:
        winner = settle(contest)
        if winner and lifts and not winner["mandatory"]:
            winner = sides(contest)[0]
        if winner:
            remaining.append(winner)
    if not remaining:
        return None
    strict = max(STRICT[one["action"]] for one in remaining)
    left = [one for one in remaining if STRICT[one["action"]] == strict]
    left = [one for one in left if one["mandatory"]] or left
    left = [one for one in left if one["kind"] == "indicator"] or left
    return min(left, key=cmp_to_key(compare))
