"""What machines report beside the sites of an allow-only list, as a finding with its remedy."""

from __future__ import annotations

import time

import pytest

from conftest import Wire, assignment
from portero.core.nouns.ruleset import Ruleset

pytestmark = pytest.mark.process
HOUR = time.strftime("%Y-%m-%dT%H:00:00Z", time.gmtime())


def refused(seq: int, host: str, ruleset: str, rule: int = 1) -> dict:
    winner = {
        "ruleset": ruleset,
        "rule": rule,
        "assignment": f"{ruleset}--whole-fleet",
        "target": "whole-fleet",
        "action": "block",
        "mandatory": False,
        "selector": "pattern *",
    }
    return {"seq": seq, "at": HOUR, "url": f"https://{host}/", "host": host, "verdict": "block", "winner": winner}


def test_a_host_that_a_shop_needs_is_found_by_the_hour_and_allowed(service, portero):
    closed = [{"pattern": "*", "action": "block"}, {"pattern": "tickets.example", "action": "allow"}]
    portero.rulesets.create(Ruleset.model_validate({"key": "closed", "kind": "site", "rules": closed}))
    portero.assignments.create(assignment("closed", "whole-fleet"))
    kiosk, other = Wire(service, portero, "kiosk-a"), Wire(service, portero, "kiosk-b")
    counts = [
        {"hour": HOUR, "host": "www.tickets.example", "visits": 40},
        {"hour": HOUR, "host": "x.example", "visits": 9},
    ]
    attempts = [
        *(refused(number, "pay.example", "closed") for number in range(1, 7)),
        refused(7, "rare.example", "closed"),
        *(refused(number, "elsewhere.example", "another") for number in range(8, 20)),
    ]
    kiosk.http.post("/activity", json={"batch": 1, "attempts": attempts, "counts": counts})
    other.http.post("/activity", json={"batch": 1, "counts": counts})
    (found,) = portero.findings.list(kind="list-lacks-hosts").items
    assert (found.hosts, found.devices, found.examples) == (("pay.example",), 1, ("kiosk-a",))
    assert "opened 40 times on 1 machine, 40 times together with a refused pay.example" in found.sentence
    portero.findings.take_remedy(found.id, "allow-hosts")
    assert portero.rulesets.get("closed").rules[-1].pattern == "pay.example"
    assert portero.findings.list(kind="list-lacks-hosts").items == ()
