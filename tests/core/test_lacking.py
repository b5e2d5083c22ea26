"""Allow-only lists that close what their sites need, told from what was refused beside them."""

from __future__ import annotations

from dataclasses import replace

import pytest
from judging import assigned, rules
from test_remedies import BASE, one_machine

from portero.core.insight.effects.list_use import ListUse, RefusedBeside
from portero.core.insight.findings import apply_remedy, find_all

CLOSED = rules("site", {"pattern": "*", "action": "block"}, {"pattern": "tickets.example", "action": "allow"})
FLEET = one_machine(browsers=[{"name": "chromium", "version": "156", "managed": True}])


def found(estate, *refused: RefusedBeside, opened: int = 200):
    def use(ruleset, is_allowed):
        assert (is_allowed("tickets.example"), is_allowed("pay.example")) == (True, ruleset == "after")
        return ListUse(opened, frozenset(member.id for member in FLEET.members), refused)

    looked_at = replace(FLEET.world(estate), list_use=use)
    return [one for one in find_all(estate, looked_at).items if one.kind == "list-lacks-hosts"]


def test_what_is_refused_whenever_the_sites_are_open_is_told_and_can_be_allowed():
    estate = assigned((CLOSED, "whole-fleet"))
    (one,) = found(estate, RefusedBeside("pay.example", 90, 180), RefusedBeside("rare.example", 3, 190))
    assert "opened 200 times on 1 machine, 180 times together with a refused pay.example" in one.sentence
    assert (one.hosts, one.devices, one.groups) == (("pay.example",), 1, ("whole-fleet",))
    after = apply_remedy(estate, one, "allow-hosts", BASE)
    assert [str(rule.selector) for rule in after.rulesets[0].rules][-1] == "pattern pay.example"
    assert not list(after.faults())
    looked_at = replace(
        FLEET.world(after), list_use=lambda *_: ListUse(200, frozenset(), (RefusedBeside("pay.example", 90, 180),))
    )
    assert [item for item in find_all(after, looked_at).items if item.kind == "list-lacks-hosts"] == []


@pytest.mark.parametrize(
    ("refused", "opened"),
    [
        (RefusedBeside("pay.example", 4, 180), 200),
        (RefusedBeside("pay.example", 90, 19), 20),
        (RefusedBeside("pay.example", 90, 40), 200),
    ],
)
def test_what_is_refused_seldom_or_mostly_apart_is_not(refused, opened):
    assert found(assigned((CLOSED, "whole-fleet")), refused, opened=opened) == []


def test_a_list_that_only_blocks_or_is_not_in_force_is_not_looked_at():
    much = RefusedBeside("pay.example", 90, 180)
    blocking = rules("site", {"pattern": "pay.example", "action": "block"})
    for estate in (assigned((blocking, "whole-fleet")), assigned((CLOSED, "whole-fleet", {"state": "draft"}))):
        looked_at = replace(FLEET.world(estate), list_use=lambda *_: ListUse(200, frozenset(), (much,)))
        assert [one for one in find_all(estate, looked_at).items if one.kind == "list-lacks-hosts"] == []
