"""The command line as a subprocess: answers, JSON, CSV, exit statuses, errors in words."""

from __future__ import annotations

import json
import subprocess
import sys

import pytest

from conftest import run_endpoint, run_portero

pytestmark = pytest.mark.process

ESTATE = """
portero: 1
precedence: [bridge]
groups:
  - {key: ships, members: {all: [{field: unit, op: under, value: brackwater/ships}]}}
  - {key: bridge, members: {all: [{field: hostname, op: like, value: "*-bridge-*"}]}}
rulesets:
  - {key: no-gambling, kind: category, rules: [{category: gambling, action: block}]}
  - {key: leeway, kind: category, rules: [{category: gambling, action: allow}, {family: pastime, action: warn}]}
assignments:
  - {ruleset: no-gambling, to: whole-fleet}
  - {ruleset: leeway, to: bridge}
"""
FACTS = """
portero_facts: 1
devices:
  - {hostname: tern-bridge-1, unit: brackwater/ships/tern, layers: {filter: enforcing}, place: on-site}
  - {hostname: tern-mess-1, unit: brackwater/ships/tern, layers: {filter: observing}}
"""
INDEX = "host,categories\nlucky-reef.example,gambling\nclips.example,video-streaming music\n"


@pytest.fixture(scope="module")
def files(tmp_path_factory):
    folder = tmp_path_factory.mktemp("documents")
    for name, text in (("estate.yaml", ESTATE), ("facts.yaml", FACTS), ("index.csv", INDEX)):
        (folder / name).write_text(text)
    return folder


@pytest.fixture(scope="module")
def env(service, tmp_path_factory):
    """The environment of somebody who has signed in."""
    env = {"XDG_CONFIG_HOME": str(tmp_path_factory.mktemp("config"))}
    done = run_portero(
        *("sign-in", "--url", service.url, "--name", "keeper", "--password-stdin"),
        env=env,
        input=service.password + "\n",
    )
    assert "Signed in to" in done.stdout
    return env


def check(files, *arguments, expect=0, **more):
    offline = ("--estate", files / "estate.yaml", "--facts", files / "facts.yaml", "--index", files / "index.csv")
    return run_portero("check", "visit", *arguments, *offline, expect=expect, **more)


def test_a_verdict_from_documents_alone(files):
    told = json.loads(check(files, "tern-bridge-1", "https://www.lucky-reef.example/x", "--json").stdout)
    assert list(told["attempt"]) == ["device", "user", "browser", "url", "at", "place"]
    assert (told["attempt"]["user"], told["attempt"]["place"]) == (None, "on-site")
    found = next(layer for layer in told["intended"]["layers"] if layer["layer"] == "filter")
    assert (told["intended"]["verdict"], found["winner"]["assignment"]) == ("allow", "leeway--bridge")
    assert [(one["ruleset"], one["rung"]) for one in found["lost"]] == [("no-gambling", "target")]
    assert next(layer for layer in told["intended"]["layers"] if layer["layer"] == "browser")["winner"] is None
    absent = ("observed", "revision", "bundle", "applied_bundle")
    assert (told["gap"], *(told[name] for name in absent)) == ("none", None, None, None, None)


def test_a_gap_exits_with_three_and_is_told_in_words(files):
    done = check(files, "tern-mess-1", "lucky-reef.example", expect=3)
    assert "Intended block, effective allow: a gap, meant to be stopped, and is not" in done.stdout
    assert "! filter-observing:" in done.stdout
    told = json.loads(check(files, "tern-mess-1", "lucky-reef.example", "--json", expect=3).stdout)
    assert (told["gap"], told["effective"]["caveats"][0]["code"]) == ("looser", "filter-observing")


def test_the_ladder_is_readable(files):
    done = check(files, "TERN-BRIDGE-1", "http://clips.example/")
    assert "clips.example is in Music and Video streaming." in done.stdout
    assert "wins  warn  leeway on bridge: family pastime" in done.stdout
    assert all(len(line) <= 100 for line in done.stdout.splitlines())


def test_an_estate_may_come_from_standard_input(files):
    done = run_portero(
        *("check", "visit", "tern-mess-1", "gambling.category.test", "--json"),
        *("--estate", "-", "--facts", files / "facts.yaml"),
        input=ESTATE,
        expect=3,
    )
    assert json.loads(done.stdout)["categories"] == ["gambling"]


@pytest.mark.parametrize(
    ("arguments", "expect", "words"),
    [
        (["tern-bridg-1", "x.example"], 1, "did you mean “tern-bridge-1”?"),
        (["tern-bridge-1", "ftp://x.example"], 1, "not visited over http or https"),
        (["tern-bridge-1", "x.example", "--at", "lately"], 2, "--at: “lately” is not a moment; write a day"),
        (["tern-bridge-1"], 2, "the following arguments are required"),
    ],
)
def test_mistakes_are_told_in_words(files, arguments, expect, words):
    assert words in check(files, *arguments, expect=expect).stderr


def test_a_bad_document_is_told_line_by_line(files, tmp_path):
    bad = tmp_path / "bad.yaml"
    bad.write_text(ESTATE.replace("category: gambling, action: block", "category: gambing, action: stop"))
    done = run_portero(
        "check", "visit", "tern-mess-1", "x.example", "--estate", bad, "--facts", files / "facts.yaml", expect=1
    )
    assert "line 8" in done.stderr
    assert "did you mean “gambling”?" in done.stderr
    assert "“stop” is none of" in done.stderr
    done = run_portero("check", "visit", "a", "x.example", "--estate", tmp_path / "none.yaml", "--facts", bad, expect=1)
    assert "cannot be read" in done.stderr


def test_from_a_group_to_a_block_and_back(service, env, tmp_path):
    said = run_portero("group", "create", "office", "--where", "unit under brackwater/office", env=env)
    assert "Made group office; it holds 0 machines: unit is under brackwater/office." in said.stdout
    code = json.loads(run_portero("enrol-code", "create", "--label", "wave=first", "--json", env=env).stdout)["code"]
    folder = tmp_path / "laptop"
    run_endpoint(
        *("join", "--service", service.url, "--code", code, "--data", folder),
        *("--hostname", "laptop-1", "--unit", "brackwater/office", "--kind", "laptop"),
    )
    run_portero("ruleset", "create", "no-gambling", "--block", "gambling", "--warn", "family:pastime", env=env)
    said = run_portero("assign", "no-gambling", "--to", "office", "--reason", "owners", env=env)
    assert "On office: blocks Gambling; warns on all of Pastime." in said.stdout
    assert "laptop-1" in run_portero("rollout", env=env).stdout
    told = run_portero("check", "visit", "laptop-1", "lucky-reef.example", env=env, expect=3)
    assert "stale-bundle" in told.stdout
    told = run_portero("device", "show", "laptop-1", env=env)
    assert "wave: first" in told.stdout
    assert "office, whole-fleet" in told.stdout
    rows = json.loads(run_portero("blocks", "laptop-1", "--json", env=env, expect=3).stdout)
    assert {row["category"] for row in rows["categories"]} >= {"gambling", "games"}
    run_portero("assignment", "pause", "no-gambling--office", env=env)
    assert run_portero("blocks", "laptop-1", env=env).stdout.count("looser") == 0
    run_portero("assignment", "resume", "no-gambling--office", env=env)
    done = run_portero("assignment", "remove", "no-gambling--office", env=env)
    assert "Nothing was changed" in done.stdout, "no answer is no"
    run_portero("assignment", "remove", "no-gambling--office", "--yes", env=env)
    assert "Nothing is assigned" in run_portero("assignment", "list", env=env).stdout
    history = run_portero("revision", "list", "--csv", env=env).stdout.splitlines()
    assert history[0] == "number,at,by,summary,reason,devices,proof"
    assert "Removed assignment no-gambling--office" in history[1]


def test_lists_answer_with_tables_json_and_csv(env):
    for noun in ("device", "group", "ruleset", "assignment", "activity", "revision"):
        assert isinstance(json.loads(run_portero(noun, "list", "--json", env=env).stdout), list)
        assert "," in run_portero(noun, "list", "--csv", env=env).stdout.splitlines()[0]
        assert all(len(line) <= 100 for line in run_portero(noun, "list", env=env).stdout.splitlines())
    taxonomy = json.loads(run_portero("category", "list", "--json", env=env).stdout)
    assert set(taxonomy["families"][0]["categories"][0]) == {"key", "name", "definition", "ground", "test_host"}
    assert "Gambling" in run_portero("category", "lookup", "www.lucky-reef.example", env=env).stdout


def test_cells_that_a_spreadsheet_would_run_are_neutralised(env):
    run_portero("ruleset", "create", "formula", "--name", "=1+1", env=env)
    line = next(
        line for line in run_portero("ruleset", "list", "--csv", env=env).stdout.splitlines() if "formula" in line
    )
    assert ",'=1+1," in line


@pytest.mark.parametrize(
    ("arguments", "expect", "words"),
    [
        (["group", "show", "offic"], 1, "did you mean"),
        (["group", "create", "Bad Key"], 2, "key"),
        (["group", "create", "x", "--where", "unit"], 2, "FIELD OP VALUE"),
        (["group", "create", "x", "--where", "colour is red"], 2, "there is no fact “colour”; known are"),
        (["ruleset", "create", "x", "--block", "gambing"], 2, "did you mean “gambling”?"),
        (["assign", "nothing", "--to", "whole-fleet"], 1, "there is no ruleset"),
        (["device", "show", "nobody"], 1, "search the list of devices"),
        (["device", "list", "--kind", "spaceship"], 1, "kind"),
        (["enrol-code", "create", "--label", "x"], 1, "NAME=VALUE"),
        (["activity", "list", "--limit", "x"], 2, "invalid int"),
        (["nonsense"], 2, "invalid choice"),
    ],
)
def test_what_is_wrong_is_told_in_a_sentence(env, arguments, expect, words):
    assert words.lower() in run_portero(*arguments, env=env, expect=expect).stderr.lower()


def test_a_service_that_is_away_exits_with_four(tmp_path):
    env = {"XDG_CONFIG_HOME": str(tmp_path), "PORTERO_URL": "http://127.0.0.1:9", "PORTERO_TOKEN": "pt_x"}
    assert "is the service running?" in run_portero("group", "list", env=env, expect=4).stderr


def test_settings_say_where_they_come_from_and_keep_the_token_to_themselves(env, service):
    told = run_portero("settings", "show", env={**env, "PORTERO_URL": "http://127.0.0.1:1"})
    assert "environment variable PORTERO_URL" in told.stdout
    assert "(kept secret)" in told.stdout
    told = run_portero("settings", "show", "--url", "http://127.0.0.1:2", env=env)
    assert "option --url" in told.stdout
    elsewhere = {**env, "PORTERO_PROFILE": "other"}
    assert "run “portero sign-in" in run_portero("group", "list", env=elsewhere, expect=1).stderr
    wrong = run_portero("sign-in", "--url", service.url, "--name", "keeper", "--password-stdin", input="no\n", expect=1)
    assert "Name or password is wrong" in wrong.stderr


def test_every_command_has_help_with_an_example():
    from portero.cli.families import parser_of

    def walk(one, path):
        actions = [action for action in one._actions if hasattr(action, "choices") and isinstance(action.choices, dict)]
        if not actions:
            assert "Example:\n  portero " + " ".join(path) in one.format_help(), path
        for action in actions:
            for name, child in action.choices.items():
                walk(child, [*path, name])

    walk(parser_of(), [])


def test_a_reader_that_goes_away_is_no_error(env):
    command = f"{sys.executable} -m portero.cli.main category list | head -1"
    done = subprocess.run(command, shell=True, capture_output=True, text=True, env={**__import__("os").environ, **env})
    assert "Pastime" in done.stdout
    assert "Traceback" not in done.stderr
