"""Address lists through the client and the wire: included, followed by machines, changed in the list alone."""

from __future__ import annotations

import pytest

from conftest import Wire, assignment
from portero.client import Invalid, StillInUse
from portero.core.nouns.address_list import AddressList
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.indicator import RulesEdit
from portero.core.nouns.rule import Rule
from portero.core.nouns.ruleset import Ruleset

pytestmark = pytest.mark.process


def addresses(key: str, *listed: str) -> AddressList:
    return AddressList(key=key, addresses=listed)


@pytest.fixture
def ports(portero):
    portero.address_lists.create(addresses("ports", "a.example", "b.example"))
    includes = [{"address_list": "ports", "action": "block"}]
    own = [{"host": "b.example", "action": "warn"}]
    portero.rulesets.create(
        Ruleset.model_validate({"key": "port-hosts", "kind": "indicator", "rules": own, "includes": includes})
    )
    portero.assignments.create(assignment("port-hosts", "whole-fleet"))
    yield portero
    portero.assignments.remove("port-hosts--whole-fleet")
    portero.rulesets.remove("port-hosts")
    portero.address_lists.remove("ports")


def selectors(portero) -> list[str]:
    return [found.selector for found in portero.indicators.search(ruleset="port-hosts")]


def test_machines_follow_the_list_and_each_verdict_names_it(ports, service):
    device = Wire(service, ports, "port-pc")
    bundle, _ = device.sync()
    (put,) = (one for one in bundle.assignments if one.ruleset == "port-hosts")
    assert [rule.selector_value for rule in put.rules] == ["b.example", "a.example"]
    found = ports.checks.check(Attempt(device="port-pc", url="http://a.example/"))
    won = found.intended.layers[-1].winner
    assert (won.rule, won.address_list, won.action) == (2, "ports", "block")

    seen = ports.address_lists.get("ports")
    wanted = addresses("ports", "b.example", "c.example")
    preview = ports.preview(lambda asked: asked.address_lists.put(wanted, version=seen.version))
    assert (preview.summary, preview.devices) == ("Would change address list ports", 1)
    told = {(one.words, one.before, one.after) for one in preview.verdicts}
    assert told == {("a.example", "block", "allow"), ("c.example", "allow", "block")}
    ports.address_lists.put(wanted, version=seen.version)
    bundle, _ = device.sync()
    (put,) = (one for one in bundle.assignments if one.ruleset == "port-hosts")
    assert [rule.selector_value for rule in put.rules] == ["b.example", "c.example"]


def test_what_a_list_brings_is_told_and_changed_in_the_list_alone(ports):
    state = ports.rulesets.get("port-hosts")
    assert ([rule.host for rule in state.rules], state.rule_count, state.included) == (["b.example"], 2, {"ports": 1})
    assert state.sentence == "Blocks what ports lists; warns on b.example."
    assert ports.address_lists.get("ports").rulesets == ("port-hosts",)
    found = {one.selector: one.address_list for one in ports.indicators.search(ruleset="port-hosts")}
    assert found == {"host b.example": None, "host a.example": "ports"}
    with pytest.raises(Invalid, match="comes with the address list “ports”"):
        ports.indicators.edit("port-hosts", RulesEdit(remove=("host a.example",)))
    ports.indicators.edit("port-hosts", RulesEdit(put=(Rule(host="a.example", action="allow"),)))
    assert [rule.action for rule in ports.rulesets.get("port-hosts").rules] == ["warn", "allow"]
    ports.indicators.edit("port-hosts", RulesEdit(remove=("host a.example",)))
    assert selectors(ports) == ["host b.example", "host a.example"]
    with pytest.raises(StillInUse, match="used by port-hosts"):
        ports.address_lists.remove("ports")


def test_a_list_that_a_ruleset_cannot_name_is_refused_whole(ports):
    seen = ports.address_lists.get("ports")
    with pytest.raises(Invalid, match="is a site pattern, which no indicator can be"):
        ports.address_lists.put(addresses("ports", "a.example", "*.c.example"), version=seen.version)
    assert ports.address_lists.get("ports") == seen


def test_the_history_and_the_document_have_the_list_and_not_what_it_brings(ports):
    (ruleset,) = (one for one in ports.estate.get().rulesets if one.key == "port-hosts")
    assert [str(rule.selector) for rule in ruleset.rules] == ["host b.example"]
    ports.estate.put(ports.estate.get(), revision=None)
    newest = next(iter(ports.revisions.list())).number
    ports.address_lists.put(addresses("ports", "z.example"), version=ports.address_lists.get("ports").version)
    assert selectors(ports) == ["host b.example", "host z.example"]
    ports.revisions.restore(newest)
    assert selectors(ports) == ["host b.example", "host a.example"]
