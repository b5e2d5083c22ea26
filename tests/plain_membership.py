"""A plain evaluator of membership rules, straight from the estate document's page: one device, one rule, no memory."""

from __future__ import annotations

from datetime import datetime, timedelta
from fnmatch import fnmatchcase
from hashlib import sha256
from ipaddress import ip_address, ip_network

DURATIONS = {"P30D": timedelta(days=30), "P1D": timedelta(days=1), "PT1H": timedelta(hours=1)}


def numbers(version: str) -> tuple:
    """4.2 = 4.2.0; 4.2-rc1 is below 4.2. (Only the forms that the generated fleets use.)"""
    plain, dash, before = version.partition("-")
    parts = [int(part) for part in plain.split(".")]
    while parts and parts[-1] == 0:
        parts.pop()
    return (parts, 0 if dash else 1, before)


def compare(op: str, found, wanted) -> bool:
    if op in ("from", "to", "below"):
        have, bound = numbers(found), numbers(wanted)
        return {"from": have >= bound, "to": have <= bound, "below": have < bound}[op]
    text = found.lower()
    if op == "one_of":
        return text in [one.lower() for one in wanted]
    value = wanted.lower()
    if op == "is":
        return text == value
    if op == "starts_with":
        return text.startswith(value)
    if op == "ends_with":
        return text.endswith(value)
    if op == "contains":
        return value in text
    if op == "like":
        return fnmatchcase(text, value)
    assert op == "under"
    return text == value or text.startswith(value + "/")


def item_fits(item: dict, wanted: dict) -> bool:
    for field, value in wanted.items():
        found = item.get(field)
        if found is None:
            return False
        if field == "version":
            bounds = {"is": value} if isinstance(value, str) else value
            for op, bound in bounds.items():
                if op == "is":
                    if numbers(found) != numbers(bound):
                        return False
                elif not compare(op, found, bound):
                    return False
        elif isinstance(value, bool):
            if found != value:
                return False
        elif found.lower() != value.lower():
            return False
    return True


def is_true(condition: dict, device: dict, now: datetime) -> bool:
    field, op, value = condition["field"], condition["op"], condition["value"]
    if op == "has":
        return any(item_fits(item, value) for item in device.get(field, ()))
    if field == "addresses":
        network = ip_network(value)
        return any(ip_address(address) in network for address in device.get("addresses", ()))
    if field == "last_start":
        return "last_start" in device and now - device["last_start"] >= DURATIONS[value]
    if field == "sample":
        share = int(sha256(device["hostname"].encode()).hexdigest()[:16], 16) % 10_000 / 100
        bound = float(value.rstrip(" %"))
        return share < bound if op == "below" else share >= bound
    head, _, part = field.partition(".")
    if head in ("browsers", "applications"):
        found = [item[part] for item in device.get(head, ()) if item.get(part) is not None]
    else:
        at = device.get(head) if part else device.get(field)
        found = [at.get(part) if part else at] if at is not None else []
    found = [one for one in found if one is not None]
    if field.endswith("version") and op == "is":
        return any(numbers(one) == numbers(value) for one in found)
    return any(compare(op, one, value) for one in found)


def holds(rule: dict | None, device: dict, now: datetime) -> bool:
    """Whether the rule holds the device."""
    if rule is None:
        return False

    def one(branch: dict) -> bool:
        return is_true(branch, device, now) if "field" in branch else holds(branch, device, now)

    return (
        all(one(branch) for branch in rule.get("all", ()))
        and ("any" not in rule or any(one(branch) for branch in rule["any"]))
        and not any(one(branch) for branch in rule.get("none", ()))
    )


def groups_of(groups: list[dict], order: list[str], device: dict, now: datetime) -> tuple[str, ...]:
    """The device's groups, strongest first."""
    found = []
    for key in order:
        group = next(one for one in groups if one["key"] == key)
        pins = group.get("pins", {})
        if device["hostname"] in pins.get("out", ()):
            continue
        if device["hostname"] in pins.get("in", ()) or holds(group.get("members"), device, now):
            found.append(key)
    return (*(found or ["unclaimed"]), "whole-fleet")
