"""What the policy file of a browser on a machine does to verdicts and readiness."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest
from judging import assigned, rules

from conftest import ruleset
from portero.core.insight.readiness import readiness
from portero.core.matching.categories import MemoryIndex
from portero.core.matching.members import Shared, facts_from
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.device import Facts
from portero.core.nouns.estate import Estate
from portero.core.nouns.ruleset import Ruleset
from portero.core.resolving.compiling import compile_bundle
from portero.core.resolving.enforcement import Machine
from portero.core.resolving.explaining import Case, explain
from portero.core.resolving.policy import Policy

NOW = datetime(2026, 11, 28, 12, tzinfo=UTC)
OWN, OTHER = "/etc/chromium/policies/managed/portero.json", "/etc/chromium/policies/managed/zz-local.json"
SITES = Ruleset.model_validate(
    {"key": "sites", "kind": "site", "rules": [{"pattern": "stopped.example", "action": "block"}]}
)
ESTATE = Estate.model_validate(
    {
        "rulesets": [SITES.model_dump(), ruleset("none", games="log").model_dump()],
        "assignments": [{"key": "a", "ruleset": "sites", "to": ["whole-fleet"]}],
    }
)
TAMPERING = {"at": "2026-11-28T11:00:00Z", "what": "edited"}


def facts(**policy: object) -> Facts:
    browser = {
        "name": "chromium",
        "version": "156.0",
        "managed": True,
        "policy": {"file": OWN, "state": "kept", **policy},
    }
    layers = {"filter": "enforcing", "browser": "enforcing", "startup": "enforcing"}
    return Facts.model_validate({"hostname": "desk", "zone": "UTC", "browsers": [browser], "layers": layers})


CASES = [
    ({}, [], "block", True),
    ({"overridden_by": [OTHER]}, ["policy-overridden"], "allow", False),
    ({"beside": [OTHER]}, [], "block", True),
    ({"state": "foreign"}, ["policy-overridden"], "allow", False),
    ({"state": "contested", "tampering": TAMPERING}, ["policy-overridden", "tampered"], "allow", False),
    ({"state": "unwritten", "problem": "there is no room left on its disk"}, ["policy-unwritten"], "allow", False),
    ({"restart_needed": True}, ["restart-needed"], "block", True),
    ({"tampering": TAMPERING}, ["tampered"], "block", True),
]


@pytest.mark.parametrize(("policy", "codes", "verdict", "enforces"), CASES)
def test_a_policy_file_that_does_not_count_is_a_gap_and_others_are_told_of(policy, codes, verdict, enforces):
    reported = facts(**policy)
    applied = Policy(compile_bundle(ESTATE, ("whole-fleet",)))
    attempt = Attempt(device="desk", url="http://stopped.example/", browser="chromium", at=NOW)
    found = explain(applied, Case(attempt, MemoryIndex({}), Machine.of(reported, applied=applied)))
    assert [caveat.code.value for caveat in found.effective.caveats] == codes
    assert (found.intended.verdict, found.effective.verdict) == ("block", verdict)
    assert found.gap == ("none" if verdict == "block" else "looser")
    ready = readiness(ESTATE, facts_from(reported), ("whole-fleet",))
    assert [blocker.code.value for blocker in ready.blockers] == codes
    assert all("chromium 156.0" in blocker.detail for blocker in ready.blockers)
    assert next(layer.enforces for layer in ready.layers if layer.layer == "browser") is enforces


def test_machines_whose_files_stand_alike_share_what_is_known_of_their_browsers():
    early, late = (facts(written_at=f"2026-11-{day}T10:00:00Z", digest=f"sha256:{day}") for day in (27, 28))
    assert Shared.of(facts_from(early).browsers) is Shared.of(facts_from(late).browsers)


def test_a_browser_policy_of_no_known_state_is_refused():
    with pytest.raises(ValueError, match="state"):
        facts(state="odd")


NIGHTS = {"key": "nights", "zone": "UTC", "windows": [{"days": ["mon"], "from": "22:00", "to": "23:00"}]}


def test_a_list_that_a_browser_does_not_take_whole_stands_in_no_layers_way_and_is_told():
    blocks = [{"pattern": f"b{number}.example", "action": "block"} for number in range(1_001)]
    narrower = [{"pattern": "b1.test:8080", "action": "block"}]
    estate = assigned((rules("site", *blocks, *narrower), "weak", {"schedule": "nights"}), schedules=[NIGHTS])
    layers = {"filter": "enforcing", "browser": "enforcing", "startup": "enforcing"}
    both = [{"name": "chromium", "version": "156", "managed": True}, {"name": "firefox", "managed": True}]
    device = Facts.model_validate({"hostname": "pc", "zone": "UTC", "layers": layers, "browsers": both})
    ready = readiness(estate, facts_from(device), ("weak", "whole-fleet"))
    assert [(one.code.value, one.about) for one in ready.blockers] == [
        ("list-truncated", "firefox, 1 of 1,002 patterns"),
        ("pattern-changed", "firefox, 1 pattern"),
    ]
    assert all(layer.enforces for layer in ready.layers)
    assert not readiness(estate, facts_from(device), ("strong", "whole-fleet")).blockers
