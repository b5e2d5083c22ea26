"""Verification on the command line: runs, why, the gate, sets that are drawn up, JUnit; with and without a service."""

from __future__ import annotations

import json
from xml.etree import ElementTree

import pytest

from conftest import Wire, assignment, group, ruleset, run_portero, under

pytestmark = pytest.mark.process

LAYERS = {"filter": "enforcing", "browser": "enforcing", "startup": "enforcing"}
VIEWER = {"product": "Deckhand Viewer", "file": "viewer", "version": "4.1", "sha256": "a" * 64}


@pytest.fixture(scope="module")
def cli(service, portero, tmp_path_factory):
    """Runs a command as the keeper, on a service with two machines, one of which only records."""
    portero.groups.create(group("office", all=[under("brackwater/office")]))
    portero.rulesets.create(ruleset("no-gambling", gambling="block", music="warn"))
    portero.assignments.create(assignment("no-gambling", "office"))
    more = {"unit": "brackwater/office", "applications": [VIEWER]}
    Wire(service, portero, "desk-1", layers=LAYERS, **more).sync()
    Wire(service, portero, "desk-2", layers={**LAYERS, "filter": "observing"}, **more).sync()
    env = {"XDG_CONFIG_HOME": str(tmp_path_factory.mktemp("config"))}
    sign_in = ("sign-in", "--url", service.url, "--name", "keeper", "--password-stdin")
    run_portero(*sign_in, env=env, input=service.password + "\n")

    def run(*arguments, expect=0) -> str:
        done = run_portero(*arguments, env=env, expect=expect)
        return done.stderr if expect in (1, 2) else done.stdout

    return run


def test_the_journey_from_a_ruleset_to_what_each_machine_does(cli, tmp_path):
    drawn = cli("probe-set", "draw-up", "holds", "--ruleset", "no-gambling", "--to", "office", "--reason", "Audit")
    assert "holds: 2 probes and 2 counter-probes." in drawn
    told = cli("verify", "holds", "--junit", tmp_path / "out.xml", expect=3)
    assert "2 of 4 probes come out as expected everywhere, on 2 machines." in told
    assert "Blocks on 1 of 2 machines; 1 does not." in told
    assert "layer-off-machine: The filter of this machine only records" in told
    root = ElementTree.fromstring((tmp_path / "out.xml").read_bytes())
    assert (root.get("tests"), root.get("failures")) == ("4", "2")
    assert "layer-off-machine" in root.find(".//failure").text
    assert "All 4 probes come out as expected, on 1 machine." in cli("verify", "--on", "desk-1")
    run = json.loads(cli("run", "list", "--json"))[-1]["id"]
    assert cli("run", "machines", run, "holds", 1, "layer-off-machine") == "desk-2\n"
    assert "holds 1: http://gambling.category.test/" in cli("run", "show", run, expect=3)
    assert "All 2 rules have" not in (unprobed := cli("run", "unprobed"))
    assert "2 of 2 rules have a probe that ran in the last 30 days." in unprobed


def test_what_is_asked_for_in_vain_says_what_there_is(cli):
    assert "holds" in cli("verify", "hold", expect=1)
    assert "nobody" in cli("verify", "--on", "nobody", expect=1)
    assert "no ruleset “no-gamblin”" in cli("probe-set", "draw-up", "x", "--ruleset", "no-gamblin", expect=1).lower()
    assert "No host was stopped there" in cli("probe-set", "draw-up", "x", "--stopped", 5, expect=1)
    assert "one of them to a file" in cli("verify", "--junit", "-", "--json", expect=2)
    assert "goes with --reason" in cli("gate", "set", "holds", "--overrule", expect=2)


def test_why_names_the_cause_and_its_remedy_is_tried_and_taken(cli):
    told = cli("why", "desk-2", "http://gambling.category.test/", expect=3)
    assert "allow  It is let through, because the filter of this machine only records" in told
    assert "the cause  The filter of this machine only records" in told
    assert "step: Set its filter to enforcing." in told
    assert "It is stopped, as expected." in cli("why", "desk-1", "gambling.category.test", "--expected", "block")
    stopped = cli("why", "desk-1", "http://gambling.category.test/", expect=3)
    assert "block  It is stopped, because no-gambling on office blocks it" in stopped
    assert "allow: Allow gambling.category.test on desk-1" in stopped
    music = ("why", "desk-1", "http://music.category.test/", "--expected", "block")
    assert "block-2: Block category music of no-gambling" in cli(*music, expect=3)
    tried = cli(*music, "--remedy", "block-2", "--preview")
    assert "Music" in tried
    assert "2 of 2 machines would get another bundle" in tried
    assert "There is no remedy “mend”" in cli(*music, "--remedy", "mend", expect=1)
    assert "Done" in cli(*music, "--remedy", "block-2", "--reason", "Quiet")
    assert "Quiet" in cli("revision", "list", "--limit", 1)
    waiting = cli(*music, expect=3)
    assert "waits for a newer one" in waiting


def test_one_attempt_is_compared_over_groups_machines_and_revisions(cli):
    url = "http://gambling.category.test/"
    table = cli("compare", "groups", url)
    assert "office" in table
    assert "1 to block" in table, "one machine is meant to block it, and would not"
    told = cli("compare", "machines", "desk-2", "desk-1", url)
    assert "desk-2 comes to allow, desk-1 to block: layers alone would make the difference." in told
    assert "decides" in told
    assert "and came to allow then: rules alone would" in cli("compare", "earlier", "desk-1", url, "--revision", 0)
    assert "still to come" in cli("compare", "earlier", "desk-1", url, "--then", "in 2 days", expect=1)
    assert "was not known then" in cli("compare", "earlier", "desk-1", url, "--then", "3 days ago", expect=1)
    assert "No machine tells that watch-2 is signed in there." in cli("compare", "person", url, "--user", "watch-2")
    program = json.loads(cli("compare", "groups", "program:Deckhand Viewer", "--json"))
    assert program["items"][-1]["effective"] == {"allow": 2}
    assert "no device “desk-9”" in cli("compare", "machines", "desk-9", "desk-1", url, expect=1)
    assert "no revision 99" in cli("compare", "earlier", "desk-1", url, "--revision", 99, expect=1)


def test_why_of_a_program_takes_what_the_machine_tells_of_it(cli):
    found = json.loads(cli("why", "desk-1", "program:deckhand viewer", "--json", expect=3))
    assert found["explanation"]["attempt"]["start"]["sha256"] == "a" * 64
    assert found["cause"] == "no-rule"
    assert [one["stage"] for one in found["stages"]] == [
        *("delivery", "enforcement", "content", "reach", "rules", "person")
    ]


def test_the_gate_is_set_shown_and_stands_in_the_way(cli):
    assert "There is no gate" in cli("gate", "show")
    cli(
        "probe-set",
        "set",
        "gated",
        'probes=[{to: desk-1, visit: "http://gambling.category.test/", expect: block}]',
        expect=1,
    )
    probes = 'probes=[{to: office, visit: "http://gambling.category.test/", expect: block}]'
    cli("probe-set", "set", "gated", probes)
    assert "Every change must pass gated." in cli("gate", "set", "gated")
    refused = cli("assignment", "remove", "no-gambling--office", "--yes", expect=1)
    assert "Probe 1 of gated" in refused
    assert "The gate will refuse it:" in cli("assignment", "remove", "no-gambling--office", "--yes", "--preview")
    assert "the gate" in cli("probe-set", "remove", "gated", "--yes", expect=1)
    cli("gate", "set", "none")
    cli("probe-set", "remove", "gated", "--yes")


# --- without a service ---


@pytest.fixture
def files(tmp_path):
    estate = {
        "portero": 1,
        "groups": [{"key": "office", "members": {"all": [{"field": "unit", "op": "under", "value": "office"}]}}],
        "rulesets": [{"key": "no-games", "kind": "category", "rules": [{"category": "games", "action": "block"}]}],
        "assignments": [{"key": "no-games--office", "ruleset": "no-games", "to": "office", "state": "paused"}],
        "probe_sets": [
            {
                "key": "holds",
                "to": "office",
                "probes": [
                    {"visit": "http://games.category.test/", "expect": "block"},
                    {"visit": "http://news.category.test/", "expect": "allow"},
                ],
            }
        ],
    }
    facts = {"portero_facts": 1, "devices": [{"hostname": "desk-1", "unit": "office", "layers": LAYERS}]}
    (tmp_path / "estate.json").write_text(json.dumps(estate))
    (tmp_path / "facts.json").write_text(json.dumps(facts))
    return tmp_path


def test_why_needs_no_service(files):
    documents = ("--estate", files / "estate.json", "--facts", files / "facts.json")
    told = run_portero("why", "desk-1", "http://games.category.test/", *documents, expect=3).stdout
    assert "the cause  no-games on office would match, but it is paused." in told
    assert "Try one" not in told, "without a service nothing is changed"
    refused = run_portero("why", "desk-1", "http://x.test/", "--remedy", "resume", *documents, expect=2)
    assert "leave --estate out" in refused.stderr
    unknown = run_portero("why", "desk-9", "http://x.test/", *documents, expect=1)
    assert "desk-1" in unknown.stderr


def test_a_pipeline_reads_what_probes_come_to_as_junit(files):
    checked = ("estate", "check", files / "estate.json", "--facts", files / "facts.json", "--junit", "-")
    root = ElementTree.fromstring(run_portero(*checked, expect=3).stdout)
    cases = {case.get("name"): case for case in root.iter("testcase")}
    assert (root.get("tests"), root.get("failures")) == ("2", "1")
    failing = cases["1: http://games.category.test/, expect block"].find("failure")
    assert failing.get("message") == "Blocks on 0 of 1 machine; 1 does not."
    assert "desk-1" in failing.text
    told = run_portero(*checked[:-2], expect=3).stdout
    assert "1 of 2 probes came out as expected everywhere." in told
