"""The command line on the fleet: groups, enrolment, readiness, layers, coverage."""

from __future__ import annotations

import csv
import io
import json
import re

import pytest

from conftest import run_endpoint, run_portero

pytestmark = pytest.mark.process


@pytest.fixture(scope="module")
def cli(service, tmp_path_factory):
    """Runs a command as somebody who has signed in; gives its standard output."""
    env = {"XDG_CONFIG_HOME": str(tmp_path_factory.mktemp("config"))}
    sign_in = ("sign-in", "--url", service.url, "--name", "keeper", "--password-stdin")
    run_portero(*sign_in, env=env, input=service.password + "\n")

    def run(*arguments, expect=0, input=None) -> str:
        done = run_portero(*arguments, env=env, expect=expect, input=input)
        return done.stderr if expect in (1, 2) else done.stdout

    return run


@pytest.fixture(scope="module")
def machine(cli, service, tmp_path_factory):
    """A machine that joined by the command line, whose filter only records."""
    folder = tmp_path_factory.mktemp("machine")
    facts = folder / "facts.yaml"
    facts.write_text(
        "{hostname: desk-1, kind: desktop, unit: brackwater/office, serial: S-1, layers: {filter: observing}}"
    )
    code = json.loads(cli("enrol-code", "create", "--label", "wave=first", "--json"))["code"]
    run_endpoint("join", "--service", service.url, "--code", code, "--facts", facts, "--data", folder / "data")
    return "desk-1"


def test_a_group_is_previewed_made_edited_moved_copied_and_removed(cli, machine):
    office = ("--where", "unit under brackwater/office")
    assert "Would hold 1 machine" in cli("group", "create", "office", *office, "--preview")
    assert "there is no group" in cli("group", "show", "office", expect=1).lower()
    assert "holds 1 machine: unit is under brackwater/office" in cli("group", "create", "office", *office)
    told = cli(
        "group", "edit", "office", "--none", "kind is kiosk", "--pin-out", machine, "--reason", "trial", "--preview"
    )
    assert "1 would drop out: desk-1" in told
    assert "Nothing was changed" in told
    told = cli("group", "edit", "office", "--pin-out", machine, "--reason", "trial")
    assert "it holds 0 machines: unit is under brackwater/office; 1 machine pinned out" in told
    assert "pinned out: desk-1, trial" in cli("group", "show", "office")
    assert "it holds 1 machine" in cli("group", "edit", "office", "--unpin", machine)
    cli("group", "create", "second")
    told = cli("group", "move", "second", "--above", "office", "--preview")
    assert "Would change the order of groups." in told
    assert "No machine would get another bundle" in told
    assert "Nothing was changed." in told
    assert "Strongest first: second, office, unclaimed" in cli("group", "move", "second", "--first")
    assert (
        "there is no group “nobody” to stand beside"
        in cli("group", "move", "second", "--below", "nobody", expect=1).lower()
    )
    assert "no group “nowhere” to stand beside" in cli("group", "create", "fourth", "--above", "nowhere", expect=1)
    told = cli("group", "create", "fourth", "--where", "kind is kiosk", "--above", "office")
    place = int(re.search(r"It is number (\d+) in precedence", told).group(1))
    assert f"number {place + 1} in precedence" in cli("group", "show", "office")
    cli("group", "remove", "fourth", "--yes")
    assert "Made group third" in cli("group", "copy", "office", "third")
    assert "Nothing was changed" in cli("group", "remove", "third", input="n\n")
    assert "Removed group third" in cli("group", "remove", "third", "--yes")


def test_machines_from_a_list_are_taken_whole_or_not_at_all(cli, tmp_path):
    good, bad = tmp_path / "good.csv", tmp_path / "bad.csv"
    good.write_text("hostname,kind,unit\nnew-1,laptop,brackwater/office\nnew-2,laptop,brackwater/office\n")
    bad.write_text("hostname,kind\nfine-1,laptop\na b,laptop\nfine-2,oven\n")
    told = cli("device", "invite", bad, expect=1)
    assert f"{bad}, line 3, hostname: “a b” is not a hostname".lower() in told.lower()
    assert "line 4, kind" in told
    assert "2 lines cannot be taken, so none was" in told
    assert "fine-1" not in cli("device", "list")
    rows = list(csv.DictReader(io.StringIO(cli("device", "invite", good))))
    assert [row["hostname"] for row in rows] == ["new-1", "new-2"]
    assert rows[0]["join_page"].endswith("/join#" + rows[0]["code"])
    told = cli("device", "import", "-", input="hostname\ntill-9\n")
    assert "Recorded 1 machine; they count as uncovered" in told
    assert "never-joined" in cli("device", "list", "--lifecycle", "invited")
    assert "invites new-1" in cli("enrol-code", "list")


def test_what_stands_in_the_way_is_counted_and_leads_to_the_machines(cli, machine):
    told = cli("readiness", "--unit", "brackwater/office", expect=3)
    assert "enforce the filter" in told
    assert "1 only records" in told
    assert "layer-observing" in told
    assert machine in cli("device", "list", "--blocker", "layer-observing", "--layer", "filter")
    shown = cli("device", "show", machine)
    assert "enforcing (by estate)  observing" in shown
    assert "! layer-observing: Its filter only records" in shown
    told = cli("group", "create", "watchers", "--from-blocker", "layer-observing:filter")
    assert "layers.filter is observing" in told


def test_layers_and_coverage_are_set_and_put_back(cli, machine):
    cli("group", "create", "trial", "--where", "kind is desktop")
    told = cli("layers", "set", "--group", "trial", "--filter", "observing", "--reason", "a trial")
    assert "trial            observing  –" in told
    assert "observing (by trial)" in cli("device", "show", machine)
    told = cli("layers", "set", "--startup", "off", "--gateway-networks", "198.51.100.7/24")
    assert "198.51.100.0/24" in told
    assert "cannot say what they should do" in cli("layers", "set", "--group", "watchers", "--filter", "off", expect=1)
    assert "trial" not in cli("layers", "set", "--group", "trial", "--clear")
    cli("layers", "set", "--startup", "enforcing", "--gateway-networks", "none")
    told = cli("coverage", "set", "filter", "gullwing", "--https", "none", "--source", "tried at the desk")
    assert "gullwing" in told
    assert "(edited)" in told
    assert "gullwing" not in cli("coverage", "reset", "filter", "gullwing")
    assert "is as shipped, and stays" in cli("coverage", "reset", "filter", "chromium", expect=1)


def test_a_machine_is_labelled_and_retired(cli, machine):
    assert "wave: second" in cli("device", "label", machine, "wave=second")
    assert "no labels" in cli("device", "label", machine, "wave=")
    assert "write it as NAME=VALUE" in cli("device", "label", machine, "wave", expect=1)
    assert "Nothing was changed" in cli("device", "retire", machine, input="n\n")
    assert "Retired desk-1" in cli("device", "retire", machine, "--yes", "--reason", "sold")
    history = json.loads(cli("device", "list", "--lifecycle", "retired", "--json"))
    assert [machine["hostname"] for machine in history] == ["desk-1"]


def test_the_catalogue_is_listed_shown_and_ticked_into_a_set(cli, service, tmp_path):
    chat = {"product": "Pebble Chat", "vendor": "Pebble", "version": "2.0", "category": "chat", "path": "/opt/pebble"}
    facts = tmp_path / "facts.json"
    facts.write_text(json.dumps({"hostname": "chatty", "applications": [chat, {"file": "lone-tool"}]}))
    code = json.loads(cli("enrol-code", "create", "--json"))["code"]
    run_endpoint("join", "--service", service.url, "--code", code, "--facts", facts, "--data", tmp_path / "chatty")
    told = cli("application", "list", "--search", "pebble")
    assert re.search(r"Pebble Chat +Pebble +chat +1 +0 +1 +2\.0", told)
    assert "lone-tool" in cli("application", "list", "--new")
    assert "Pebble Chat" in cli("application", "list", "--category", "chat", "--csv")
    assert "No machine tells of such a program" in cli("application", "list", "--gone")
    told = cli("application", "show", "pebble chat")
    assert "Pebble Chat by Pebble, chat: on 1 machine" in told
    assert "On chatty (2.0)" in told
    assert "Nothing is corrected" in cli("application", "corrections")
    said = cli("application", "correct", "pebble CHAT", "--category", "media", "--reason", "It plays")
    assert said == "pebble CHAT: media; machines tell chat.\n"
    assert "Corrected by keeper (machines tell chat): It plays" in cli("application", "show", "Pebble Chat")
    assert re.search(r"pebble CHAT +media +chat +keeper", cli("application", "corrections"))
    assert "pebble CHAT,media,chat,keeper" in cli("application", "corrections", "--csv")
    assert "there is no" not in cli("application", "correct", "Pebble Chat", "--category", "games", "--preview")
    assert "Removed the correction of pebble CHAT." in cli("application", "correct", "Pebble Chat", "--undo")
    assert "is not corrected" in cli("application", "correct", "Pebble Chat", "--undo", expect=1)
    assert "by --category" in cli("application", "correct", "Pebble Chat", expect=1)
    assert "No machine tells of a program “nothing”" in cli("application", "show", "nothing", expect=1)
    cli("application-set", "set", "chatting", "--program", "Pebble Chat")
    told = " ".join(cli("application-set", "show", "chatting").split())
    assert "It holds Pebble Chat on 1 machine." in told
    assert re.search(r"Pebble Chat Pebble chat 2\.0 1 0", told)
    assert "No machine of whole-fleet tells of a start" in cli("application", "started", "--group", "whole-fleet")
    cli("application-set", "set", "chatting", "--watch", "chatty:/srv/unwanted")
    told = " ".join(cli("application-set", "show", "chatting").split())
    assert "and what is put into /srv/unwanted on chatty." in told
    assert "write it as in drop-01:/srv/unwanted" in cli("application-set", "set", "chatting", "--watch", "x", expect=2)
    cli("ruleset", "create", "no-chatting", "--kind", "startup", "--block", "chatting")
    cli("assign", "no-chatting", "--to", "whole-fleet", "--report-presence")
    told = " ".join(cli("findings", "--kind", "program-present", expect=3).split())
    assert "1 machine has what no-chatting on whole-fleet stops: Pebble Chat 2.0." in told
