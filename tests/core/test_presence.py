"""Assignments that report presence: machines that have what they stop, whether it is started or not."""

from __future__ import annotations

from dataclasses import replace

import pytest
from judging import assigned, rules
from test_remedies import one_machine

from portero.core.insight.effects.world import Having
from portero.core.insight.findings import find_all
from portero.core.nouns.device import Application
from portero.core.nouns.estate import Estate

SETS = [{"key": "carry", "include": [{"product": "Quick Carry"}]}]
BLOCKED = rules(
    "startup",
    {"application_set": "carry", "action": "block"},
    {"sha256": "ab" * 32, "action": "warn"},
    {"sha256": "cd" * 32, "action": "allow"},
)
FLEET = one_machine()
INSTALLED = {
    "Quick Carry 1.8": (Application(product="Quick Carry", version="1.8"), {"pc", "elsewhere"}),
    "Reef Chess 1": (Application(product="Reef Chess", sha256="ab" * 32), {"pc"}),
    "Spared 1": (Application(product="Spared", sha256="cd" * 32), {"pc"}),
}


PEOPLE = {"Quick Carry 1.8": ["desk-1", "desk-2"], "Reef Chess 1": ["desk-2"], "Spared 1": ["desk-3"]}


def found(estate, installed=INSTALLED):
    def having(is_meant):
        return {
            name: Having(devices, PEOPLE.get(name, ()))
            for name, (program, devices) in installed.items()
            if is_meant(program)
        }

    looked_at = replace(FLEET.world(estate), having=having)
    return [one for one in find_all(estate, looked_at).items if one.kind == "program-present"]


def test_machines_that_have_what_is_stopped_are_told_with_the_programs():
    estate = assigned((BLOCKED, "whole-fleet", {"report_presence": True}), application_sets=SETS)
    (one,) = found(estate)
    assert one.sentence == (
        "1 machine has what startup-0 on whole-fleet stops: Quick Carry 1.8 and Reef Chess 1,"
        " started by 2 people in the last 14 days."
    )
    assert (one.devices, one.examples, one.severity) == (1, ("pc",), "low")


@pytest.mark.parametrize(
    ("conditions", "target"),
    [
        ({}, "whole-fleet"),
        ({"report_presence": True, "state": "paused"}, "whole-fleet"),
        ({"report_presence": True, "action": "log"}, "whole-fleet"),
        ({"report_presence": True}, "device:other"),
    ],
)
def test_nothing_is_told_unasked_out_of_force_or_elsewhere(conditions, target):
    assert found(assigned((BLOCKED, target, conditions), application_sets=SETS)) == []


def test_a_single_machine_is_told_by_its_name():
    estate = assigned((BLOCKED, "device:pc", {"report_presence": True}), application_sets=SETS)
    assert found(estate)[0].devices == 1
    assert found(estate, {}) == []


def test_only_startup_rulesets_report():
    hosts = {"key": "hosts", "kind": "indicator", "rules": [{"host": "a.example", "action": "block"}]}
    put = {"key": "a", "ruleset": "hosts", "to": ["whole-fleet"], "report_presence": True}
    (fault,) = Estate.model_validate({"rulesets": [hosts], "assignments": [put]}).faults()
    assert fault.path == ("assignments", 0, "report_presence")
