"""The command line on changing with open eyes: previews, findings, history, the worklist, overlaps, warnings."""

from __future__ import annotations

import json

import pytest

from conftest import Wire, assignment, group, ruleset, run_portero, under
from portero.cli import main, previews, running

pytestmark = pytest.mark.process


@pytest.fixture(scope="module")
def run(service, portero, tmp_path_factory):
    """Runs a command as somebody who has signed in, on a little estate with a machine."""
    env = {"XDG_CONFIG_HOME": str(tmp_path_factory.mktemp("config"))}
    sign_in = ("sign-in", "--url", service.url, "--name", "keeper", "--password-stdin")
    run_portero(*sign_in, env=env, input=service.password + "\n")
    Wire(service, portero, "desk-1", kind="desktop", layers={"filter": "enforcing"}).sync()
    portero.groups.create(group("office", all=[under("brackwater/office")]))
    for key, actions in (("never", {"gambling": "block"}), ("away", {"gambling": "allow", "music": "allow"})):
        portero.rulesets.create(ruleset(key, **actions))
    portero.assignments.create(assignment("never", "whole-fleet", mandatory=True))
    portero.assignments.create(assignment("away", "office"))

    def run(*arguments, expect=0, **more):
        return run_portero(*arguments, env=env, expect=expect, **more)

    run.config = env["XDG_CONFIG_HOME"]
    return run


def test_a_preview_says_what_would_change_and_does_nothing(run, portero):
    told = run("rule", "add", "away", "category", "games", "--action", "block", "--preview").stdout
    assert "Would change ruleset away." in told
    assert "1 of 1 machine would get another bundle (1 class)" in told
    assert "1 newly stopped." in told
    assert "Games" in told
    assert "away on office" in told
    assert told.rstrip().endswith("Nothing was changed.")
    assert len(portero.rulesets.get("away").rules) == 2
    document = json.loads(run("assignment", "pause", "away--office", "--preview", "--json").stdout)
    assert document["effects"] == {}, "gambling is blocked all the same, and nothing else speaks of music"
    assert portero.assignments.get("away--office").state == "active"
    told = run("ruleset", "remove", "never", "--preview", expect=1).stderr
    assert "is used by never--whole-fleet" in told
    # a preview needs no leave
    assert (
        "Would remove assignment never--whole-fleet."
        in run("assignment", "remove", "never--whole-fleet", "--preview").stdout
    )


def test_a_reader_of_a_preview_that_goes_away_is_no_error(run, monkeypatch, capfd):
    def gone(*_arguments, **_more):
        raise BrokenPipeError

    monkeypatch.setattr(previews, "tell_preview", gone)
    monkeypatch.setattr(running.os, "dup2", lambda *_: None)
    monkeypatch.setenv("XDG_CONFIG_HOME", run.config)
    assert main.run(["assignment", "pause", "away--office", "--preview"]) == 0
    assert "Traceback" not in capfd.readouterr().err


def test_findings_exit_3_while_something_is_open(run):
    told = run("findings", expect=3).stdout
    assert "can never win" in told
    assert "shadowed.away--office" in told
    assert run("findings", "--severity", "high").stdout.strip() == "Nothing is to be settled."
    shown = run("finding", "show", "shadowed.away--office").stdout
    assert "remove-rules: Remove these rules from away." in shown
    assert "desk-1" in shown
    assert run("finding", "show", "shadowed.away--office", "--machines").stdout == "desk-1\n"
    told = run(
        "finding", "accept", "shadowed.away--office", "--reason", "until the race", "--until", "2099-01-01"
    ).stdout
    assert "Accepted until 2099-01-02T00:00:00Z" in told  # the end of that day
    assert "1 finding accepted for now" in run("findings").stdout
    assert "accepted by keeper" in run("findings", "--all").stdout
    rows = json.loads(run("findings", "--all", "--json").stdout)
    assert rows["items"][0]["accepted"]["reason"] == "until the race"
    assert "id,kind,severity" in run("findings", "--all", "--csv").stdout
    run("finding", "reopen", "shadowed.away--office")
    assert "is not a moment" in run("finding", "accept", "x", "--reason", "why not", "--until", "soon", expect=2).stderr
    assert "There is no finding" in run("finding", "show", "shadowed.nothing", expect=1).stderr


def test_a_remedy_is_looked_at_and_taken_and_can_be_undone(run, portero):
    told = run("finding", "remedy", "shadowed.away--office", "remove-rules", "--preview").stdout
    assert "It settles 1 finding:" in told
    assert len(portero.rulesets.get("away").rules) == 2
    run("finding", "remedy", "shadowed.away--office", "remove-rules")
    assert len(portero.rulesets.get("away").rules) == 1
    newest = json.loads(run("revision", "list", "--limit", "1", "--json").stdout)[0]
    assert newest["reason"].startswith("Remedy of shadowed.away--office")
    told = run("revision", "show", newest["number"]).stdout
    assert "no longer allows Gambling" in told
    told = run("revision", "compare", newest["number"] - 1, "--document").stdout
    assert "-- {category: gambling, action: allow}" in told
    assert "say the same" in run("revision", "compare", newest["number"], newest["number"]).stdout
    told = run("revision", "restore", newest["number"] - 1, "--preview").stdout
    assert "It brings 1 finding:" in told
    told = run("revision", "restore", newest["number"] - 1, "--yes", "--reason", "too early").stdout
    assert f"the estate is as it was at revision {newest['number'] - 1}" in told
    assert len(portero.rulesets.get("away").rules) == 2
    assert "too early" in run("revision", "list", "--search", "early").stdout
    assert "There is no revision 999" in run("revision", "restore", 999, "--yes", expect=1).stderr


def test_who_governs_and_what_overlaps(run):
    told = run("governing", "desk-1").stdout
    assert "ruleset away" in told
    assert "by group office" in told
    told = run("overlap", "office", "whole-fleet").stdout
    assert "office and whole-fleet meet on 1 machine." in told
    assert "block by never on whole-fleet (1)" in told
    assert "allow away on office" in run("overlap", "--device", "desk-1", "--visit", "Gambling").stdout
    assert "name the groups to compare" in run("overlap", expect=2).stderr.lower()
    assert (
        json.loads(run("overlap", "office", "--program", "viewer", "--json").stdout)["rows"][0]["contributions"] == []
    )
    assert "block never (mandatory)" in run("board").stdout
    assert json.loads(run("board", "--json").stdout)["in_force"] == 2
    assert "STRONGER" in run("group", "overlaps").stdout


def test_the_worklist_and_warnings(run):
    told = run("overview").stdout
    assert "Remove these rules from away." in told
    assert json.loads(run("overview", "--json").stdout)["items"][0]["next"]
    run("ruleset", "create", "hosts", "--kind", "indicator")
    done = run("rule", "add", "hosts", "host", "www.shop.exmaple", "--action", "block")
    assert "ends in “.exmaple”" in done.stderr
    assert "leaves shop.exmaple itself open" in done.stderr
    done = run("assign", "away", "--to", "whole-fleet", "--preview")
    assert "can ever win on any of its 1 machine" in done.stderr
    assert (
        "an exception needs ends and reason"
        in run("assign", "away", "--to", "office", "--owner", "me", expect=2).stderr
    )


FINDING = "shadowed.away--office"


@pytest.mark.parametrize(
    ("arguments", "status", "told"),
    [
        (("finding", "show", "shadowed.nothing"), 1, "no finding “shadowed.nothing”"),
        (("finding", "accept", FINDING), 2, "--reason"),
        (("finding", "accept", FINDING, "--reason", "why", "--until", "soon"), 2, "--until: “soon” is not a moment"),
        (("finding", "accept", FINDING, "--reason", "why", "--until", "2020-01-01"), 1, "has passed"),
        (("finding", "reopen", "shadowed.nothing"), 1, "Nobody has accepted"),
        (("findings", "--severity", "urgent"), 2, "high"),
        (("findings", "--kind", "nonsense"), 2, "shadowed"),
        (("revision", "show", "100000"), 1, "There is no revision 100000; the newest is"),
        (("revision", "show", "last"), 2, "invalid int value"),
        (("revision", "compare", "0", "100000"), 1, "no revision 100000"),
        (("revision", "restore", "100000", "--yes"), 1, "no revision 100000"),
        (("revision", "list", "--noun", "nonsense"), 1, "application set"),
        (("governing", "nobody"), 1, "nobody"),
        (("overlap",), 2, "Name the groups to compare"),
        (("overlap", "office", "--device", "desk-1"), 2, "or one machine with --device"),
        (("overlap", "ofice"), 1, "office"),
        (("overlap", "office", "--visit", "http://"), 1, "http://"),
        (("ruleset", "remove", "nothing", "--preview"), 1, "nothing"),
        (("group", "order", "--preview"), 2, ""),
    ],
)
def test_what_is_wrong_is_said_with_what_to_do(run, portero, arguments, status, told):
    before = next(portero.revisions.list(limit=1)).number
    done = run(*arguments, expect=status)
    assert told in done.stderr
    assert "Traceback" not in done.stderr
    assert done.stdout == ""
    assert next(portero.revisions.list(limit=1)).number == before


@pytest.mark.parametrize(
    "arguments",
    [
        ("findings", "--all"),
        ("overview",),
        ("board",),
        ("overlap", "office", "--visit", "gambling"),
        ("overlap", "--device", "desk-1"),
        ("group", "overlaps"),
        ("revision", "list"),
        ("revision", "show", "1"),
        ("revision", "compare", "0"),
        ("governing", "desk-1"),
    ],
)
def test_everything_is_had_as_json_too_and_as_lines_no_wider_than_the_terminal(run, arguments):
    expected = 3 if arguments[0] == "findings" else 0
    assert json.loads(run(*arguments, "--json", expect=expected).stdout)
    told = run(*arguments, expect=expected).stdout
    assert told.strip()
    assert max(map(len, told.splitlines())) <= 100


def test_findings_and_revisions_go_into_a_spreadsheet(run, portero):
    lines = run("findings", "--csv", expect=3).stdout.splitlines()
    assert lines[0] == "id,kind,severity,devices,sentence,assignments,rulesets"
    assert len(lines) - 1 == len(portero.findings.list(accepted=False).items)
    lines = run("revision", "list", "--csv", "--limit", "2").stdout.splitlines()
    assert lines[0] == "number,at,by,summary,reason,devices,proof"
    assert len(lines) == 3


def test_one_command_blocks_something_and_says_where_that_is_kept(run, portero):
    told = run("block", "chess.example", "games", "--on", "office,desk-1", "--preview").stdout
    assert "2 newly stopped." in told
    assert told.rstrip().endswith("Nothing was changed.")
    told = run("block", "chess.example", "category:games", "--on", "office,desk-1", "--until", "2099-01-01")
    assert "host chess.example  office  quick-indicator-office (new)" in told.stdout
    assert "category games      desk-1  quick-category-desk-1 (new)" in told.stdout
    assert "reaches 1 machine: portero rollout --watch" in told.stdout
    assert "--until 2099-01-01: 2099-01-02T00:00:00Z" in told.stderr
    assert portero.assignments.get("quick-category-desk-1--desk-1").named_devices == ("desk-1",)
    again = run("allow", "games", "--on", "office").stdout
    assert "quick-category-office  was block before" in again
    assert "portero rule remove quick-category-office 'category games'" in again
    assert "nothing was changed" in run("allow", "games", "--on", "office").stdout
    # what an administrator is told while writing is told here too
    assert "no-gambling" in run("ruleset", "create", "no-gambling", "--block", "gambling").stdout
    portero.assignments.create(assignment("no-gambling", "whole-fleet", mandatory=True))
    assert "mandatory" in run("allow", "gambling", "--on", "office").stderr


def test_quick_rules_that_cannot_be_meant_are_refused_and_nothing_is_kept(run, portero):
    before = portero.estate.get()
    for arguments, told, status in (
        (("block", "nothing-known", "--on", "office"), "There is no category, host or program “nothing-known”", 1),
        (("block", "news", "--on", "offic"), "did you mean “office”?", 1),
        (("block", "news"), "Say where: --on GROUP", 2),
        (("warn", "chess.example/play", "--on", "office"), "url:chess.example/play or pattern:chess.example/play", 1),
        (("block", "news", "*.x.example", "--on", "office"), "say which", 1),
    ):
        assert told in run(*arguments, expect=status).stderr
    assert portero.estate.get() == before


def test_a_ruleset_is_made_of_the_selectors_of_its_kind(run, portero):
    words = "parcel.example,address:203.0.113.0/24,url:chess.example/play"
    run("ruleset", "create", "fraud", "--kind", "indicator", "--block", words)
    run("ruleset", "create", "sites", "--kind", "site", "--allow", "tides.example", "--block", "*")
    found = {key: [str(rule.selector) for rule in portero.rulesets.get(key).rules] for key in ("fraud", "sites")}
    assert found == {
        "fraud": ["host parcel.example", "address 203.0.113.0/24", "url chess.example/play"],
        "sites": ["pattern tides.example", "pattern *"],
    }
    told = run("ruleset", "create", "wrong", "--kind", "site", "--block", "category:games", expect=2).stderr
    assert "Rule 1 names category, which belongs in a ruleset of kind category" in told


def test_rulesets_and_categories_are_told_and_found_by_their_ground(run, portero):
    run("ruleset", "create", "thin-line", "--block", "music", "--ground", "Bandwidth")
    assert portero.rulesets.get("thin-line").ground == "bandwidth"
    listed = run("ruleset", "list", "--ground", "bandwidth").stdout.splitlines()
    assert [line.split()[:3] for line in listed[1:]] == [["thin-line", "category", "bandwidth"]]
    assert "No ruleset has the ground “weather”" in run("ruleset", "list", "--ground", "weather").stdout
    told = run("ruleset", "change", "thin-line", "--name", "The thin line", "--ground", "our lines").stdout
    assert told == "thin-line is called The thin line; ground: our lines.\n"
    assert (
        "ground: our lines, and bandwidth before"
        in run("revision", "show", str(next(iter(portero.revisions.list())).number)).stdout
    )
    assert "Ground: our lines." in run("ruleset", "show", "thin-line").stdout
    run("ruleset", "change", "thin-line", "--ground", "none")
    assert portero.rulesets.get("thin-line").ground is None
    assert "say what to change" in run("ruleset", "change", "thin-line", expect=2).stderr.lower()
    found = run("category", "list", "--ground", "bandwidth").stdout
    assert "music" in found
    assert "gambling" not in found
