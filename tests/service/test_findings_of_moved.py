"""Findings name the machines that they are about now, also where some have only changed places."""

from __future__ import annotations

from conftest import Wire, assignment, group, ruleset
from portero.core.nouns.group import Group


def held(key: str, *hostnames: str) -> Group:
    return group(key, any=[{"field": "hostname", "op": "is", "value": name} for name in hostnames])


def test_machines_that_change_places_are_named_where_they_are(service, portero):
    for name in ("reef-1", "reef-2", "reef-3", "reef-4"):
        Wire(service, portero, name)
    portero.groups.create(held("calm", "reef-1", "reef-2"))
    portero.groups.create(held("wild", "reef-3", "reef-4"))
    for key, action in (("stopping", "block"), ("letting", "warn")):
        portero.rulesets.create(ruleset(key, games=action))
    for key in ("calm", "wild"):
        portero.assignments.create(assignment("stopping", key))
        portero.assignments.create(assignment("letting", key))

    def named() -> dict[str, list[str]]:
        found = portero.findings.list(kind="shadowed").items
        return {one.id: [device.hostname for device in portero.findings.devices(one.id)] for one in found}

    first = named()
    assert ["reef-1", "reef-2"] in first.values()
    portero.groups.put(held("calm", "reef-1", "reef-3"), version=None)
    portero.groups.put(held("wild", "reef-2", "reef-4"), version=None)
    second = named()
    assert second.keys() == first.keys()
    assert sorted(second.values()) != sorted(first.values())
    assert ["reef-1", "reef-3"] in second.values()
