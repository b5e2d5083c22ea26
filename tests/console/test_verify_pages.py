"""Verification in headless Chromium: a run with its causes and machines, why with what mends it, the gate."""

from __future__ import annotations

import time

import httpx
import pytest
from playwright.sync_api import expect

from conftest import assignment, ruleset
from console.conftest import put_in_force, sync
from portero.core.nouns.layer import LayerMode
from portero.core.nouns.probe_set import ProbeSet
from portero.core.nouns.run import NewRun
from portero.core.nouns.settings import GroupLayers

pytestmark = [pytest.mark.browser, pytest.mark.process]


@pytest.fixture(scope="module")
def probes(portero, machines):
    """What must hold: gambling is stopped everywhere, tickets are sold at the kiosks."""
    listed = [
        {"to": "whole-fleet", "visit": "http://gambling.category.test/", "expect": "block", "name": "Nobody gambles"},
        {"to": "kiosks", "visit": "http://tickets.example/", "expect": "allow"},
    ]
    portero.probe_sets.create(ProbeSet.model_validate({"key": "must-hold", "name": "What must hold", "probes": listed}))


def test_a_run_tells_what_fails_where_and_leads_to_why_and_to_the_machine(console, portero, probes, looked_at):
    console.go("/verify/runs")
    expect(console.get_by_text("Nothing has been verified yet.")).to_be_visible()
    console.get_by_role("button", name="Verify", exact=True).click()
    came = console.get_by_role("region", name="What came of it")
    expect(came).to_contain_text("1 of 2 probes comes out as expected everywhere, on 3 machines.")
    expect(came).to_contain_text("Blocks on 2 of 3 machines; 1 does not.")
    expect(came).to_contain_text("The filter of this machine only records, so nothing is stopped.")
    expect(console.get_by_role("navigation", name="Runs")).to_contain_text("1 of 2 fail")
    looked_at("a run")
    came.get_by_role("link", name="Why?").click()
    answer = console.get_by_role("region", name="Answer")
    expect(answer).to_contain_text("It is let through, because the filter of this machine only records")
    expect(answer).to_contain_text("the cause")
    looked_at("why")


def test_a_run_may_be_of_one_set_on_one_group(console, probes):
    console.go("/verify/runs")
    console.get_by_label("Probe set").select_option(label="What must hold")
    console.get_by_label("Only on this group or machine").fill("kiosks")
    console.get_by_role("button", name="Verify", exact=True).click()
    expect(console.get_by_role("region", name="What came of it")).to_contain_text(
        "All 2 probes come out as expected, on 1 machine."
    )
    console.get_by_label("Only on this group or machine").fill("nobody-here")
    console.get_by_role("button", name="Verify", exact=True).click()
    expect(console.get_by_role("alert")).to_contain_text("nobody-here")


def test_why_offers_the_change_that_mends_it_and_asks_again_once_it_is_made(console, service, portero, machines):
    portero.layer_modes.put(GroupLayers(group="kiosks", filter=LayerMode.OFF))
    console.go("/verify/why?machine=kiosk-1&what=http://gambling.category.test/&expected=block")
    answer = console.get_by_role("region", name="Answer")
    expect(answer).to_contain_text("as expected; with its newest bundle it will be let through.")
    sync(service, machines["kiosk-1"])
    console.get_by_role("button", name="Ask").click()
    expect(answer).to_contain_text("The filter is meant to be off here, by the layer modes of group kiosks.")
    answer.get_by_role("button", name="Let the filter enforce on kiosks").click()
    put_in_force(console)
    expect(answer).to_contain_text("waits for a newer one")
    assert next(iter(portero.layer_modes.list())).filter == "enforcing"


def test_the_reference_on_a_notice_answers_the_help_desk(console, machines):
    console.go("/verify/why")
    console.get_by_label("or a notice’s reference").fill("abcd-2345")
    console.get_by_role("button", name="Ask").click()
    expect(console.get_by_role("combobox", name="Machine")).to_have_value("laptop-1")
    expect(console.get_by_label("Address")).to_have_value("http://lucky-reef.example/")
    expect(console.get_by_label("Person")).to_have_value("office-1")
    expect(console.get_by_role("region", name="Answer")).to_be_visible()
    console.get_by_label("or a notice’s reference").fill("ZZZZ-2345")
    console.get_by_role("button", name="Ask").click()
    expect(console.get_by_role("alert")).to_contain_text("No notice has the reference ZZZZ-2345.")


def test_a_machine_page_tells_why_of_what_was_tried(console, machines):
    console.go("/fleet/machines/laptop-2")
    console.get_by_label("Address to try").fill("http://gambling.category.test/")
    console.get_by_role("button", name="Try", exact=True).click()
    console.get_by_role("button", name="Why, and what to do?").click()
    expect(console.get_by_text("Set its filter to enforcing.").first).to_be_visible()


def test_the_gate_refuses_a_change_until_a_keeper_overrules_it_with_a_reason(console, portero, probes):
    portero.settings.change(gate=("must-hold",))
    console.go("/controls/categories/no-gambling")
    console.get_by_role("button", name="Pause").first.click()
    dialog = console.get_by_role("dialog", name="Before you save")
    expect(dialog.get_by_role("region", name="The gate")).to_contain_text("Nobody gambles")
    put = dialog.get_by_role("button", name="Put in force")
    expect(put).to_be_disabled()
    dialog.get_by_label("Overrule the gate").check()
    expect(put).to_be_disabled()
    dialog.get_by_label("Reason", exact=True).fill("A day off")
    put.click()
    expect(dialog).to_be_hidden()
    assert next(portero.revisions.list()).reason == "The gate was overruled: A day off"
    portero.settings.change(gate=())


def test_one_address_is_compared_over_groups_and_on_two_machines(console, machines, looked_at):
    console.go("/verify/compare")
    console.get_by_label("Address").fill("http://gambling.category.test/")
    console.get_by_role("button", name="Compare", exact=True).click()
    groups = console.get_by_role("region", name="Over all groups")
    expect(groups.get_by_role("row").filter(has_text="whole-fleet")).to_contain_text("3")
    console.get_by_role("combobox", name="Compare").select_option("machines")
    console.get_by_label("This machine").fill("laptop-2")
    expect(console.get_by_role("button", name="Compare", exact=True)).to_be_disabled()
    console.get_by_label("and this one").fill("laptop-1")
    console.get_by_role("button", name="Compare", exact=True).click()
    both = console.get_by_role("region", name="On two machines")
    expect(both).to_contain_text("laptop-2 comes to allow, laptop-1 to block: layers alone would make the difference.")
    expect(both.get_by_role("row").filter(has_text="layers")).to_contain_text("decides")
    looked_at("compared")


def test_a_machine_is_compared_with_what_it_was_and_a_person_over_their_machines(console, machines):
    console.go("/verify/compare?how=earlier&first=laptop-1&what=http://gambling.category.test/")
    console.get_by_label("Then").fill("1 minute ago")
    expect(console.get_by_role("button", name="Compare", exact=True)).to_be_enabled()
    console.get_by_role("button", name="Compare", exact=True).click()
    expect(console.get_by_role("alert").or_(console.get_by_role("region", name="Now and earlier"))).to_be_visible()
    console.get_by_label("Then").fill("yesterday")
    console.get_by_role("button", name="Compare", exact=True).click()
    expect(console.get_by_role("alert")).to_contain_text("was not known then")
    console.get_by_role("combobox", name="Compare").select_option("person")
    console.get_by_role("textbox", name="Person").fill("office-1")
    console.get_by_role("button", name="Compare", exact=True).click()
    expect(console.get_by_text("No machine tells that office-1 is signed in there.")).to_be_visible()


def test_a_change_carries_a_probe_and_history_tells_how_it_is_proved(console, service, portero, machines, looked_at):
    console.go("/controls/categories/leeway")
    console.get_by_role("button", name="Pause").first.click()
    dialog = console.get_by_role("dialog", name="Before you save")
    proof = dialog.get_by_role("region", name="What is to prove it")
    proof.get_by_label("Proved by").fill("blok games.category.test")
    proof.get_by_role("button", name="Add probe").click()
    expect(proof.get_by_role("alert")).to_contain_text("is no probe and no probe set")
    proof.get_by_label("Proved by").fill("warn http://games.category.test/ on office")
    proof.get_by_label("Proved by").press("Enter")
    expect(proof).to_contain_text("The change is refused for it.")
    expect(dialog.get_by_role("button", name="Put in force")).to_be_disabled()
    proof.get_by_role("button", name="Without warn").click()
    proof.get_by_label("Proved by").fill("allow http://games.category.test/ on office")
    proof.get_by_role("button", name="Add probe").click()
    expect(proof).to_contain_text("on all 2 then.")
    looked_at("proved by")
    put_in_force(console)
    for name in ("laptop-1", "laptop-2"):
        sync(service, machines[name])
    console.go("/roll-out/history")
    told = console.get_by_role("region", name="Its proof")
    expect(told).to_contain_text("It is proved: its probe comes out everywhere.")
    looked_at("a proof")


def test_a_probe_set_is_written_and_run_in_the_console(console, portero, machines, looked_at):
    console.go("/verify/probe-sets/+new")
    console.get_by_role("textbox", name="Key").fill("by-hand")
    console.get_by_label("Where its probes count").fill("office, kiosk-1")
    console.get_by_role("button", name="Probe", exact=True).click()
    console.get_by_label("Probe 1 tries").fill("http://gambling.category.test/")
    console.get_by_role("button", name="Counter-probe").click()
    console.get_by_label("Probe 2 tries").fill("program:Deckhand Viewer")
    console.get_by_label("Probe 2 counts on").fill("kiosks")
    console.get_by_role("button", name="More of probe 1").click()
    console.get_by_label("Settled by ruleset").select_option("no-gambling")
    looked_at("probes")
    console.get_by_role("button", name="Make probe set").click()
    put_in_force(console)
    expect(console.get_by_role("link", name="by-hand")).to_be_visible()
    kept = portero.probe_sets.get("by-hand")
    assert [target if isinstance(target, str) else target.device for target in kept.to] == ["office", "kiosk-1"]
    first, second = kept.probes
    assert (first.visit, first.expect, first.ruleset) == ("http://gambling.category.test/", "block", "no-gambling")
    assert (second.start.product, second.expect, second.to) == ("Deckhand Viewer", "allow", "kiosks")
    console.get_by_role("button", name="Run it").click()
    expect(console.get_by_role("region", name="What came of it")).to_contain_text("1 of 2 probes comes out")


def test_a_probe_set_is_drawn_up_looked_at_and_saved(console, portero, machines, looked_at):
    console.go("/verify/probe-sets")
    console.get_by_role("button", name="Draw one up…").click()
    dialog = console.get_by_role("dialog", name="Draw a probe set up")
    dialog.get_by_label("Its key").fill("gambling-holds")
    dialog.get_by_label("Which").select_option("no-gambling")
    dialog.get_by_role("button", name="Draw up").click()
    expect(dialog.get_by_role("status")).to_contain_text("http://gambling.category.test/")
    looked_at("drawn up")
    dialog.get_by_role("button", name="Save…").click()
    put_in_force(console)
    expect(console.get_by_role("link", name="gambling-holds")).to_be_visible()
    assert [one.expect.value for one in portero.probe_sets.get("gambling-holds").probes] == ["block", "allow"]


def answer(service, credential: str, verdicts: dict[str, str]) -> None:
    """A machine takes what it is asked, and answers each visit with one of these verdicts."""
    headers = {"Authorization": "Bearer " + credential}
    for _ in range(50):
        orders = httpx.get(service.url + "/device/v1/probes", headers=headers).json()
        if orders:
            break
        time.sleep(0.2)
    (order,) = orders
    seen = [
        {"number": one["number"], "verdict": verdicts[one["visit"]], "saw": "notice", "browser": "chromium"}
        for one in order["probes"]
    ]
    httpx.post(service.url + "/device/v1/probes", json={"once": order["once"], "seen": seen}, headers=headers)


def test_machines_are_asked_what_they_saw_is_shown_and_the_run_is_signed(console, service, probes, machines, looked_at):
    console.go("/verify/runs")
    console.get_by_label("Probe set").select_option(label="What must hold")
    console.get_by_label("Only on this group or machine").fill("laptop-1")
    console.get_by_role("button", name="Ask the machines").click()
    came = console.get_by_role("region", name="What came of it")
    expect(came).to_contain_text("Under way")
    answer(service, machines["laptop-1"], {"http://gambling.category.test/": "block"})
    expect(came).to_contain_text("Stopped on the one machine; 1 machine otherwise than predicted.")
    came.get_by_role("button", name="What each saw").first.click()
    expect(came.get_by_role("table")).to_contain_text("otherwise")
    expect(came.get_by_role("link", name="Take the case along")).to_be_visible()
    looked_at("an observed run")
    came.get_by_role("button", name="Sign it as evidence").click()
    expect(came.get_by_role("link", name="Signed file")).to_be_visible()
    console.go("/verify/evidence")
    expect(console.get_by_role("region", name="Signed")).to_contain_text("observed, revision")
    expect(console.get_by_role("region", name="Coverage")).to_contain_text("1 of 3 machines has tried a probe.")
    looked_at("evidence")
    with console.expect_popup() as opened:
        console.get_by_role("link", name="Read", exact=True).click()
    expect(opened.value.get_by_role("heading", name="Evidence of run")).to_be_visible()
    opened.value.close()
    console.go("/fleet/machines/laptop-1?tab=observed")
    expect(console.get_by_role("region", name="Observed")).to_contain_text("must-hold 1")
    console.go("/verify/findings")
    expect(console.get_by_text("comes to block on laptop-1, where allow was predicted").first).to_be_visible()
    console.go("/verify/probe-sets/must-hold")
    expect(console.get_by_text("As expected on the one machine; 1 machine otherwise than predicted.")).to_be_visible()


def test_from_the_toast_of_a_change_everything_is_verified(console, portero, probes):
    newest = next(iter(portero.revisions.list())).number
    portero.settings.change(zone="Europe/Berlin")
    console.go(f"/roll-out/history/{newest - 1}")
    console.get_by_role("button", name=f"Restore {newest - 1}").click()
    put_in_force(console)
    console.get_by_role("button", name="Verify it").click()
    expect(console.get_by_role("region", name="What came of it")).to_contain_text("Blocks on")


def test_the_board_tells_on_how_many_machines_an_assignment_was_seen_to_hold(
    console, service, portero, machines, looked_at
):
    portero.rulesets.create(ruleset("no-news", news="block"))
    portero.assignments.create(assignment("no-news", "kiosks"))
    sync(service, machines["kiosk-1"])
    news = {"key": "news", "to": ["kiosks"], "probes": [{"visit": "http://news.category.test/", "expect": "block"}]}
    portero.probe_sets.create(ProbeSet.model_validate(news))
    run = portero.runs.create(NewRun(kind="observed", sets=("news",)))
    answer(service, machines["kiosk-1"], {"http://news.category.test/": "block"})
    assert portero.runs.get(run.id, wait=10).disagreements == 0
    console.go("/assignments")
    console.get_by_title("Held on 1 of 1 machine.").click()
    entry = console.get_by_role("dialog", name="no-news on kiosks")
    expect(entry).to_contain_text("Held on 1 of 1 machine.")
    looked_at("what machines saw of an assignment")
    entry.get_by_role("link", name="Observed").click()
    expect(console.get_by_role("region", name="What came of it")).to_contain_text("The one probe comes out as expected")
