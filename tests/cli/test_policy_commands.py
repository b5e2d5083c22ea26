"""The command line on documents, attempts, rules and what they refer to."""

from __future__ import annotations

import json

import pytest

from conftest import assignment, run_portero, start
from made_estates import INDEX, Maker
from made_programs import portable_executable
from portero.cli import assignments
from portero.core.nouns.ruleset import Ruleset

pytestmark = pytest.mark.process


@pytest.fixture(scope="module")
def cli(service, tmp_path_factory):
    """Runs a command as somebody who has signed in; gives its output, or what it said beside it, or of its failure."""
    env = {"XDG_CONFIG_HOME": str(tmp_path_factory.mktemp("config"))}
    sign_in = ("sign-in", "--url", service.url, "--name", "keeper", "--password-stdin")
    run_portero(*sign_in, env=env, input=service.password + "\n")

    def run(*arguments, expect=0, input=None, beside=False) -> str:
        done = run_portero(*arguments, env=env, expect=expect, input=input)
        return done.stderr if beside or expect in (1, 2) else done.stdout

    return run


@pytest.fixture
def files(tmp_path):
    """An estate, facts, an index and attempts as files."""
    maker = Maker(21)
    estate, facts = maker.estate(), maker.facts()
    (tmp_path / "estate.json").write_text(json.dumps(estate))
    (tmp_path / "facts.json").write_text(json.dumps(facts))
    lines = [f"{host},{' '.join(categories)}" for host, categories in INDEX.items()]
    (tmp_path / "index.csv").write_text("\n".join(["host,categories", *lines]))
    attempts = [{"id": number, **maker.attempt()} for number in range(200)]
    (tmp_path / "attempts.jsonl").write_text("\n".join(map(json.dumps, attempts)))
    return tmp_path


def documents(files) -> tuple:
    return ("--estate", files / "estate.json", "--facts", files / "facts.json", "--index", files / "index.csv")


# --- attempts ---


def test_a_batch_answers_a_line_a_line_in_the_same_order(files):
    done = run_portero("check", "batch", files / "attempts.jsonl", *documents(files))
    answers = [json.loads(line) for line in done.stdout.splitlines()]
    assert [answer["id"] for answer in answers] == list(range(200))
    single = answers[7]
    attempt = json.loads((files / "attempts.jsonl").read_text().splitlines()[7])
    url = ("check", "visit", attempt["device"], attempt["url"]) if "url" in attempt else None
    assert {"attempt", "intended", "effective", "observed", "gap", "revision", "bundle", "applied_bundle"} <= set(
        single
    )
    if url:
        options = [f"--{name}={attempt[name]}" for name in ("user", "at", "place") if name in attempt]
        alone = json.loads(run_portero(*url, *options, *documents(files), "--json", expect=0).stdout)
        assert alone["intended"]["verdict"] in ("allow", "warn", "block")


def test_in_brief_each_answer_says_by_what_it_is_decided(files):
    called = ("check", "batch", files / "attempts.jsonl", *documents(files))
    whole, briefly = (
        [json.loads(line) for line in run_portero(*called, *more).stdout.splitlines()] for more in ((), ("--brief",))
    )
    assert {"id", "attempt", "intended", "effective", "gap", "layer", "winner", "why", "caveats"} <= set(briefly[0])
    decided = 0
    for told, short in zip(whole, briefly, strict=True):
        layers = {layer["layer"]: layer for layer in told["intended"]["layers"]}
        assert (short["intended"], short["gap"]) == (told["intended"]["verdict"], told["gap"])
        assert short["effective"] == told["effective"]["verdict"]
        by = layers[short["layer"]]
        assert (by["verdict"], by["winner"], by["why"]) == (short["intended"], short["winner"], short["why"])
        decided += short["winner"] is not None
        assert short["winner"] or not any(
            layer["winner"] for layer in layers.values() if layer["verdict"] == short["intended"]
        )
    assert decided > 50


def test_a_line_that_cannot_be_judged_has_a_problem_and_the_batch_exits_with_1(files):
    lines = [
        '{"id": "a", "device": "kiosk-1", "url": "http://play.example/"}',
        '{"id": "b", "device": "nowhere", "url": "http://play.example/"}',
        '{"id": "c", "device": "kiosk-1", "url": "ftp://play.example/"}',
        '{"id": "d", "device": "kiosk-1", "urll": "http://play.example/"}',
        '{"id": "e", "device": "kiosk-1", "url": "http://play.example/", "at": "yesterday"}',
        "not json",
        "[" * 5000,
        '{"id": "f", "device": "KIOSK-1", "start": {"file": "viewer"}}',
    ]
    done = run_portero("check", "batch", "-", *documents(files), input="\n".join(lines), expect=1)
    answers = [json.loads(line) for line in done.stdout.splitlines()]
    assert [answer["id"] for answer in answers] == ["a", "b", "c", "d", "e", None, None, "f"]
    told = [answer["problem"]["detail"] if "problem" in answer else "" for answer in answers]
    assert [bool(one) for one in told] == [False, True, True, True, True, True, True, False]
    assert "did you mean" in told[1] or "there is no device" in told[1].lower()
    assert set(answers[1]["problem"]) == {"type", "title", "detail"}


def test_several_processes_answer_in_the_same_order(files):
    lines = (files / "attempts.jsonl").read_text().splitlines() * 8
    (files / "many.jsonl").write_text("\n".join(lines))
    called = ("portero.cli.main", "check", "batch", files / "many.jsonl", *documents(files), "--jobs")
    alone, together = (start(*called, jobs).stdout.splitlines() for jobs in (1, 3))
    # what names no moment is tried now
    alone, together = ([_timeless(line) for line in told] for told in (alone, together))
    assert len(alone) == 1600
    assert alone == together
    assert [answer["id"] for answer in alone] == list(range(200)) * 8


def _timeless(line: str) -> dict:
    answer = json.loads(line)
    del answer["attempt"]["at"]
    return answer


def test_a_batch_keeps_to_its_bounds(files):
    long = f'{{"id": "a", "device": "kiosk-1", "url": "http://play.example/{"a" * 200_000}"}}'
    short = '{"id": "b", "device": "kiosk-1", "url": "http://play.example/"}'
    done = run_portero("check", "batch", "-", *documents(files), input=f"{long}\n{short}\n", expect=1)
    first, second = map(json.loads, done.stdout.splitlines())
    assert first["problem"]["detail"] == "The line is over 64 kB."
    assert second["id"] == "b"
    for jobs in (0, 1000):
        told = run_portero("check", "batch", "-", *documents(files), "--jobs", jobs, input=short, expect=2)
        assert "--jobs takes 1 to 256 processes" in told.stderr


def test_a_start_is_explained_from_documents(files):
    told = run_portero(
        "check", "start", "kiosk-1", "--product", "Deckhand Viewer", "--version", "4.1", *documents(files)
    )
    assert "startup:" in told.stdout
    assert "Say which program" in run_portero("check", "start", "kiosk-1", *documents(files), expect=1).stderr


def test_what_was_left_aside_is_told_on_request(tmp_path):
    (tmp_path / "e.yaml").write_text(
        "portero: 1\nrulesets: [{key: r, kind: category, rules: [{category: games, action: block}]}]\n"
        "assignments: [{ruleset: r, to: whole-fleet, state: paused}]\n"
    )
    (tmp_path / "f.yaml").write_text("portero_facts: 1\ndevices: [{hostname: pc, layers: {filter: enforcing}}]\n")
    arguments = (
        "check",
        "visit",
        "pc",
        "games.category.test",
        "--estate",
        tmp_path / "e.yaml",
        "--facts",
        tmp_path / "f.yaml",
    )
    assert "aside" not in run_portero(*arguments).stdout
    assert "paused: r on whole-fleet would match, but it is paused" in run_portero(*arguments, "--left-aside").stdout


# --- the estate ---


def test_an_estate_is_checked_put_exported_and_compared(cli, files, tmp_path):
    assert "It fits together: 4 groups" in cli("estate", "check", files / "estate.json")
    assert "change" in cli("estate", "put", files / "estate.json", "--yes", "--reason", "tests")
    exported = cli("estate", "export")
    (tmp_path / "again.yaml").write_text(exported)
    assert cli("estate", "put", tmp_path / "again.yaml") == "It changes nothing.\n"
    assert cli("estate", "compare", tmp_path / "again.yaml") == "It changes nothing.\n"
    folder = tmp_path / "policy"
    assert "Wrote" in cli("estate", "export", folder)
    (folder / "rulesets" / "stale.yaml").write_text("portero: 1\nrulesets: [{key: stale, kind: site, rules: []}]\n")
    assert "Would create ruleset stale." in cli("estate", "compare", folder, expect=3)
    assert "took 1 file" in cli("estate", "export", folder)
    assert cli("estate", "put", folder) == "It changes nothing.\n"
    (folder / "notes.yaml").write_text("shopping: list\n")
    assert "is no part of an estate" in cli("estate", "export", folder, expect=1)


def test_what_a_document_does_not_name_goes_only_after_a_yes(cli, files, tmp_path):
    cli("estate", "put", files / "estate.json", "--yes")
    (tmp_path / "little.yaml").write_text("portero: 1\nrulesets: [{key: little, kind: site, rules: []}]\n")
    told = cli("estate", "put", tmp_path / "little.yaml", input="no\n")
    assert "they go. Put it in force?" in told
    assert "Nothing was changed." in told
    assert "1 change" in cli("estate", "put", tmp_path / "little.yaml", "--keep-others")
    assert "Created ruleset" not in cli("estate", "put", tmp_path / "little.yaml", "--preview")
    assert "rules-0" in cli("ruleset", "list")
    cli("estate", "put", tmp_path / "little.yaml", "--yes")
    assert "rules-0" not in cli("ruleset", "list")


def test_mistakes_are_told_with_file_line_and_column(cli, tmp_path):
    (tmp_path / "bad.yaml").write_text("portero: 1\ngroups:\n  - {kee: ships}\n")
    told = cli("estate", "check", tmp_path / "bad.yaml", expect=1)
    assert "bad.yaml: line 3, column 6: unknown key “kee”; did you mean “key”?" in told
    (tmp_path / "policy").mkdir()
    (tmp_path / "policy" / "a.yaml").write_text("portero: 1\ngroups: [{key: A}]\n")
    assert "policy/a.yaml: line 2" in cli("estate", "put", tmp_path / "policy", expect=1)
    assert "cannot be read" in cli("estate", "put", tmp_path / "none.yaml", expect=1)


def test_probes_of_a_document_are_tried_on_the_facts(tmp_path):
    (tmp_path / "e.yaml").write_text(
        "portero: 1\nrulesets: [{key: r, kind: category, rules: [{category: games, action: block}]}]\n"
        "assignments: [{ruleset: r, to: whole-fleet}]\n"
        "probe_sets: [{key: p, probes: [{to: whole-fleet, visit: 'http://games.category.test/', expect: block}]}]\n"
    )
    (tmp_path / "f.yaml").write_text("portero_facts: 1\ndevices: [{hostname: pc}, {hostname: other}]\n")
    arguments = ("estate", "check", tmp_path / "e.yaml", "--facts", tmp_path / "f.yaml")
    assert "1 of 1 probe came out as expected everywhere." in run_portero(*arguments).stdout
    text = (tmp_path / "e.yaml").read_text().replace("expect: block", "expect: warn")
    (tmp_path / "e.yaml").write_text(text)
    assert "Warns on 0 of 2 machines; 2 do not." in run_portero(*arguments, expect=3).stdout


# --- site lists in browsers ---

SITES = """portero: 1
groups: [{key: kiosks}]
rulesets:
  - key: sites
    kind: site
    rules:
      - {pattern: "*", action: block}
      - {pattern: "*.tickets.example", action: allow}
      - {pattern: tickets.example/staff, action: block}
      - {pattern: News.example, action: allow}
      - {pattern: files.example/x, action: block}
assignments: [{ruleset: sites, to: kiosks}]
"""


def test_what_browsers_take_otherwise_is_told_and_exported_without_a_service(tmp_path):
    (tmp_path / "e.yaml").write_text(SITES)
    (tmp_path / "f.yaml").write_text("portero_facts: 1\ndevices: []\n")
    checked = json.loads(run_portero("estate", "check", tmp_path / "e.yaml", "--json").stdout)
    told = [(one["code"], one["rule"]) for one in checked["told"] if one["code"] != "pattern-needless"]
    assert told == [("pattern-rewritten", 2), ("pattern-spelling", None), ("pattern-changed", None)]
    documents = ("--estate", tmp_path / "e.yaml", "--facts", tmp_path / "f.yaml", "--browser", "firefox")
    shown = run_portero("site-list", "show", "kiosks", *documents).stdout
    assert "5 patterns, of which firefox is handed 3 entries" in shown
    assert "whatever is allowed counts there before narrower blocks" in " ".join(shown.split())
    done = run_portero("site-list", "export", "kiosks", tmp_path / "policies.json", *documents)
    assert "It goes to /etc/firefox/policies/policies.json" in done.stdout
    written = json.loads((tmp_path / "policies.json").read_text())["policies"]["WebsiteFilter"]
    assert written == {"Block": ["*://*/*"], "Exceptions": ["*://*.tickets.example/*", "*://*.news.example/*"]}
    assert "did you mean “kiosks”" in run_portero("site-list", "show", "kiosk", *documents, expect=1).stderr


def test_addresses_are_tried_in_both_families_with_and_without_a_service(cli, portero, tmp_path):
    (tmp_path / "e.yaml").write_text(SITES)
    document = ("--estate", tmp_path / "e.yaml")
    said = run_portero("site-list", "try", "sites", "tickets.example/staff", "b[d", *document, expect=3).stdout
    assert "block  3 tickets.example/staff" in " ".join(said.split()).replace("block 3", "block  3")
    assert "the list means to block; not every browser can say so" in " ".join(said.split())
    assert "is not a URL" in said
    assert "allow" in run_portero("site-list", "try", "sites", "news.example", *document).stdout
    refused = run_portero("site-list", "try", "site", "news.example", *document, expect=1)
    assert "holds no ruleset of sites “site”" in refused.stderr
    tried = {"key": "tried", "kind": "site", "rules": [{"pattern": "a.example", "action": "block"}]}
    portero.rulesets.create(Ruleset.model_validate(tried))
    (one,) = json.loads(cli("site-list", "try", "tried", "a.example/x", "--json"))
    assert [browser["verdict"] for browser in one["browsers"]] == ["block", "block"]
    portero.rulesets.create(Ruleset.model_validate({"key": "not-sites", "kind": "category", "rules": []}))
    assert "is no site list" in cli("site-list", "try", "not-sites", "a.example", expect=1)
    assert "is no site list" in cli("site-list", "switch", "not-sites", expect=1)
    assert "Nothing was changed" in cli("site-list", "switch", "tried", "--preview")
    assert "blocks every other site" in " ".join(cli("site-list", "switch", "tried").split())
    (one,) = json.loads(cli("site-list", "try", "tried", "b.example", "--json"))
    assert one["meant"] == "block"


def test_the_list_of_a_group_is_shown_and_exported(cli, portero, tmp_path):
    sites = {"key": "listed", "kind": "site", "rules": []}
    portero.rulesets.create(Ruleset.model_validate(sites))
    portero.assignments.create(assignment("listed", "whole-fleet"))
    cli("rule", "add", "listed", "pattern", "a.example:8080", "--action", "block", "--reading", "stricter")
    assert portero.rulesets.get("listed").rules[0].reading == "stricter"
    shown = json.loads(cli("site-list", "show", "whole-fleet", "--browser", "firefox", "--json"))
    assert (shown["block"], [one["got"] for one in shown["changed"]]) == (["*://*.a.example/*"], ["*://*.a.example/*"])
    cli("site-list", "export", "whole-fleet", tmp_path / "list.reg", "--platform", "windows")
    assert '"1"="a.example:8080"' in (tmp_path / "list.reg").read_text("utf-16")
    assert "There is no machine and no group “nobody”" in cli("site-list", "show", "nobody", expect=1)
    limited = ("--reads-as", "firefox", "--list-limit", "9:200", "--source", "tried")
    cli("coverage", "set", "site-list", "skua", "--https", "page", *limited)
    assert "9:200" in cli("coverage", "list", "--csv")


# --- rules, and what they refer to ---


def test_rules_are_added_searched_changed_many_at_once_and_taken_out(cli):
    cli("ruleset", "create", "fraud", "--kind", "indicator")
    for host in ("a-refund", "b-refund", "c-invoice"):
        cli("rule", "add", "fraud", "host", f"{host}.example", "--action", "block")
    cli("rule", "add", "fraud", "url", "https://files.example/x", "--exact", "--action", "warn", "--name", "One page")
    cli("rule", "add", "fraud", "suitability", "0-25", "--action", "warn")
    told = cli("rule", "list", "fraud", "--search", "refund")
    assert "2 rules of 5." in told
    cli("rule", "change", "fraud", "--search", "refund", "--action", "warn", "--valid-until", "2027-01-31T00:00:00Z")
    rules = {rule["host"]: rule for rule in json.loads(cli("rule", "list", "fraud", "--json")) if rule["host"]}
    assert (rules["a-refund.example"]["action"], rules["c-invoice.example"]["action"]) == ("warn", "block")
    assert rules["b-refund.example"]["valid_until"] == "2027-01-31T00:00:00Z"
    assert "did you mean “host a-refund.example”" in cli("rule", "remove", "fraud", "host a-refun.example", expect=1)
    cli("rule", "remove", "fraud", "host c-invoice.example", "url files.example/x exact", "--yes")
    assert "3 rules of 3." in cli("rule", "list", "fraud")
    assert "needs its value" in cli("rule", "add", "fraud", "host", "--action", "block", expect=2)
    assert "belongs in a ruleset of kind site" in cli(
        "rule", "add", "fraud", "pattern", "*", "--action", "block", expect=2
    )
    assert "Nothing was changed." in cli("ruleset", "remove", "fraud", input="")
    cli("ruleset", "remove", "fraud", "--yes")


def test_schedules_sets_and_services_are_set_shown_and_removed(cli, tmp_path):
    event = ["BEGIN:VEVENT", "UID:1", "DTSTART;VALUE=DATE:20270101", "END:VEVENT"]
    calendar = "\r\n".join(["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:x", *event, "END:VCALENDAR", ""])
    (tmp_path / "holidays.ics").write_text(calendar)
    window = ("--window", "fri-sun 22:00-06:00")
    told = cli("schedule", "set", "nights", *window, "--zone", "Europe/Berlin", "--days-off", tmp_path / "holidays.ics")
    assert "Friday to Sunday 22:00 to 06:00 the next day, on the clock of Europe/Berlin" in told
    assert "2027-01-01" in told
    cli("schedule", "set", "nights", "--day-off", "2027-05-01")
    assert json.loads(cli("schedule", "show", "nights", "--json"))["days_off"] == ["2027-01-01", "2027-05-01"]
    assert "is not a window" in cli("schedule", "set", "x", "--window", "always", expect=2)
    assert "is no day" in cli("schedule", "set", "x", "--window", "mon-fun 06:00-18:00", expect=2)

    condition = ("--include", "product=Deckhand Viewer;version<4.2", "--exclude", "signer=Brackwater IT")
    told = cli("application-set", "set", "old-viewer", *condition)
    assert "product Deckhand Viewer and version below 4.2, but not signer Brackwater IT" in " ".join(told.split())
    cli("application-set", "set", "old-viewer", "--freeze")
    assert json.loads(cli("application-set", "show", "old-viewer", "--json"))["following"] is False
    assert "is not NAME=VALUE" in cli("application-set", "set", "x", "--include", "viewer", expect=2)
    # ; and , set the parts of a condition apart, here as in a group's
    told = cli("application-set", "set", "old-viewer", "--include", "product=Deckhand Viewer, version<4.2")
    assert "product Deckhand Viewer and version below 4.2" in " ".join(told.split())
    found = cli(
        "group", "create", "viewers", "--where", "applications has product=Deckhand Viewer;version<4.2", "--json"
    )
    wanted = json.loads(found)["members"]["all"][0]["value"]
    assert (wanted["product"], wanted["version"]["below"]) == ("Deckhand Viewer", "4.2")

    cli("service", "set", "drop", "--host", "drop.example", "--suitability", "15", "--trait", "second_factor=no")
    cli("service", "set", "drop", "--decision", "declined")
    assert "suitability 15, declined: drop.example" in cli("service", "show", "drop")
    assert "drop.example" in cli("service", "list", "--search", "DROP")
    for noun, key in (("schedule", "nights"), ("application-set", "old-viewer"), ("service", "drop")):
        assert f"Removed {key}." in cli(noun, "remove", key, "--yes")


def test_moments_are_read_on_the_clock_of_the_estate_and_said_back(cli):
    assert "the clock of UTC" in cli("zone", "show")
    assert "the clock of Europe/Berlin, where it is 20" in cli("zone", "set", "Europe/Berlin")
    assert "zone" in cli("zone", "set", "Europe/Berlen", expect=2)
    cli("ruleset", "create", "early", "--block", "sport")
    moments = ("--starts", "2027-01-04 08:00", "--ends", "2027-01-08")
    # to the end of that day, which is an hour earlier in UTC; said back on standard error, apart from the answer
    assert json.loads(cli("assign", "early", "--device", "pc-9", *moments, "--json"))["ends"] == "2027-01-08T23:00:00Z"
    (made,) = json.loads(cli("assignment", "list", "--ruleset", "early", "--json"))
    assert made["starts"] == "2027-01-04T07:00:00Z"
    cli("rule", "change", "early", "category sport", "--valid-until", "2027-01-31")
    (rule,) = json.loads(cli("rule", "list", "early", "--json"))
    assert rule["valid_until"] == "2027-01-31T23:00:00Z"
    refused = cli("assignment", "change", "early--pc-9", "--ends", "next week", expect=2)
    assert "--ends: “next week” is not a moment; write a day (2026-12-01)" in refused
    cli("zone", "set", "UTC")


def test_an_assignment_takes_and_loses_conditions(cli):
    cli("ruleset", "create", "quiet", "--block", "music")
    cli("schedule", "set", "day", "--window", "mon-sun 06:00-18:00")
    told = cli(
        *("assign", "quiet", "--device", "pc-1", "--user", "purser-1", "--user-group", "crew", "--place", "on-site"),
        *("--schedule", "day", "--ends", "2027-03-01T00:00:00Z", "--until-restart", "--replaces-weaker"),
    )
    assert told.startswith("quiet--pc-1: On pc-1, for purser-1 and crew, while on-site, during day, until 2027-03-01")
    told = cli(
        *("assignment", "change", "quiet--pc-1", "--to", "whole-fleet", "--user", "none", "--schedule", "none"),
        *("--ends", "none", "--no-until-restart", "--no-replaces-weaker", "--mandatory", "--place", "anywhere"),
    )
    assert "quiet--pc-1: On whole-fleet, mandatory: blocks Music." in told
    assert "Say what to change" in cli("assignment", "change", "quiet--pc-1", expect=2)
    assert "there is no schedule" in cli("assignment", "change", "quiet--pc-1", "--schedule", "dya", expect=1).lower()


def test_a_change_request_is_found_by_its_ticket_in_lists_and_in_the_history(cli):
    cli("ruleset", "create", "asked-for", "--block", "sport")
    cli("assign", "asked-for", "--to", "whole-fleet", "--ticket", "CR-1204")
    cli("assign", "asked-for", "--device", "pc-7", "--ticket", "CR-7")
    (found,) = json.loads(cli("assignment", "list", "--ticket", "CR-1204", "--json"))
    assert (found["key"], found["ticket"]) == ("asked-for--whole-fleet", "CR-1204")
    assert "CR-1204" in cli("assignment", "list", "--ticket", "CR-1204", "--csv")
    assert "Ticket: CR-7" in cli("assignment", "show", "asked-for--pc-7")
    (revision,) = json.loads(cli("revision", "list", "--search", "CR-1204", "--json"))
    assert revision["summary"] == "Assigned asked-for to whole-fleet (CR-1204)"
    cli("assignment", "change", "asked-for--pc-7", "--ticket", "CR-8")
    (revision,) = json.loads(cli("revision", "list", "--search", "CR-8", "--json"))
    assert "ticket: CR-8, and CR-7 before" in cli("revision", "show", str(revision["number"]))
    cli("assignment", "change", "asked-for--pc-7", "--ticket", "none")
    assert json.loads(cli("assignment", "list", "--ticket", "CR-8", "--json")) == []


def test_the_directory_is_brought_in_from_a_file(cli, tmp_path):
    (tmp_path / "people.yaml").write_text("user_groups: [{key: crew, users: [watch-1, watch-2]}]\n")
    assert "1 user group" in cli("directory", "put", tmp_path / "people.yaml")
    assert "crew" in cli("directory", "show")
    (tmp_path / "people.yaml").write_text("user_groups: [{key: a, user_groups: [a]}]\n")
    assert "line 1, column" in cli("directory", "put", tmp_path / "people.yaml", expect=1)


def test_who_closes_everything_is_asked_whether_weaker_groups_may_open_parts_of_it(cli, portero, join, monkeypatch):
    join("overlapping")
    for key in ("closed-pcs", "open-pcs"):
        cli("group", "create", key, "--where", "hostname is overlapping")
    cli("group", "move", "closed-pcs", "--first")
    cli("ruleset", "create", "nothing-goes", "--block", "everything")
    cli("ruleset", "create", "some-news", "--allow", "news")
    cli("assign", "some-news", "--to", "open-pcs")
    asked: list[str] = []

    def answering(word: str):
        def answer(question: str) -> str:
            asked.append(question)
            return word

        return answer

    key = "nothing-goes--closed-pcs"
    for person, said, expected in ((False, "n", False), (True, "", False), (True, "n", True)):
        monkeypatch.setattr(assignments, "is_person", lambda person=person: person)
        monkeypatch.setattr("builtins.input", answering(said))
        cli("assign", "nothing-goes", "--to", "closed-pcs")
        assert portero.assignments.get(key).replaces_weaker is expected
        portero.assignments.remove(key)
    assert asked == ["May weaker groups open parts of it? [Y/n] "] * 2
    cli("assign", "nothing-goes", "--to", "closed-pcs", "--no-replaces-weaker")
    assert portero.assignments.get(key).replaces_weaker is False
    assert len(asked) == 2, "who has said it is not asked"
    portero.assignments.remove(key)
    for noun, key in (("assignment", "some-news--open-pcs"), ("ruleset", "nothing-goes"), ("ruleset", "some-news")):
        cli(noun, "remove", key, "--yes")


def test_address_lists_are_set_from_files_and_included(cli, tmp_path):
    (tmp_path / "sites.csv").write_text("host,who\na.example,us\nb.example,them\n")
    assert "There is no address list yet" in cli("address-list", "list")
    told = cli("address-list", "set", "ports", "c.example", "--file", tmp_path / "sites.csv", "--name", "Ports")
    assert "Ports (ports), 3 addresses" in told
    assert "Nothing includes it yet" in told
    cli("ruleset", "create", "port-hosts", "--kind", "indicator", "--warn", "b.example")
    told = cli("ruleset", "change", "port-hosts", "--include", "ports:block")
    assert "Blocks what ports lists; warns on b.example." in told
    told = cli("ruleset", "show", "port-hosts")
    assert "2 addresses of the address list ports" in told
    assert "2 more come with the address list ports" in cli("rule", "list", "port-hosts")
    assert "port-hosts" in cli("address-list", "list")
    assert "used by port-hosts" in cli("address-list", "remove", "ports", "--yes", expect=1)
    cli("address-list", "set", "ports", "--take-out", "c.example")
    assert json.loads(cli("address-list", "show", "ports", "--json"))["addresses"] == ["a.example", "b.example"]
    assert "did you mean “a.example”" in cli("address-list", "set", "ports", "--take-out", "a.exampl", expect=1)
    told = cli("address-list", "set", "ports", "203.0.113.0/24", "*.x.example", expect=1)
    assert "“*.x.example” is a site pattern, which no indicator can be" in " ".join(told.split())
    assert "--replace takes the addresses" in cli("address-list", "set", "ports", "--replace", expect=2)
    assert "does not include the address list others" in cli(
        "ruleset", "change", "port-hosts", "--leave-out", "others", expect=1
    )
    cli("ruleset", "change", "port-hosts", "--leave-out", "ports")
    cli("address-list", "remove", "ports", "--yes")


def test_what_a_site_list_means_is_kept_as_probes(cli):
    cli("ruleset", "create", "try-sites", "--kind", "site", "--block", "a.example", "--allow", "a.example/live")
    visits = ("a.example", "https://a.example/live", "https://b.example/")
    told = cli("site-list", "try", "try-sites", *visits, "--save", "kept", "--to", "whole-fleet")
    assert "Saved in the probe set kept" in told
    probes = json.loads(cli("probe-set", "show", "kept", "--json"))["probes"]
    assert [(probe["to"], probe["visit"], probe["expect"]) for probe in probes] == [
        ("whole-fleet", "http://a.example/", "block"),
        ("whole-fleet", "https://a.example/live", "allow"),
        ("whole-fleet", "https://b.example/", "allow"),
    ]
    cli("rule", "add", "try-sites", "pattern", "b.example", "--action", "block")
    cli("site-list", "try", "try-sites", "https://b.example/", "--save", "kept", "--to", "whole-fleet")
    probes = json.loads(cli("probe-set", "show", "kept", "--json"))["probes"]
    assert [probe["expect"] for probe in probes] == ["block", "allow", "block"]
    assert "go together" in cli("site-list", "try", "try-sites", *visits, "--save", "kept", expect=2)
    cli("probe-set", "remove", "kept", "--yes")
    cli("ruleset", "remove", "try-sites", "--yes")


def test_programs_are_read_at_the_desk_and_put_into_sets(cli, tmp_path):
    program = tmp_path / "gnomon.exe"
    program.write_bytes(portable_executable({"ProductName": "Gnomon", "ProductVersion": "2.1"}))
    told = cli("application", "read", program)
    assert "Gnomon" in told
    (read,) = json.loads(cli("application", "read", program, "--json"))
    assert (read["application"]["version"], read["kind"]) == ("2.1", "pe")
    refused = cli("application", "read", program, tmp_path / "nowhere", expect=1)
    assert "No such file" in refused
    cli("application-set", "set", "mail", "--include", "vendor=Gnomon Works")
    told = cli("application-set", "set", "gnomon", "--file", program, "--take-in", "mail")
    assert "what mail holds" in told
    saved = json.loads(cli("application-set", "show", "gnomon", "--json"))
    assert ([one["sha256"] for one in saved["include"]], saved["sets"]) == (
        [read["application"]["sha256"]],
        ["mail"],
    )
    cli("application-set", "set", "gnomon", "--file", program)
    assert len(json.loads(cli("application-set", "show", "gnomon", "--json"))["include"]) == 1
    assert "used by gnomon" in cli("application-set", "remove", "mail", "--yes", expect=1)
    assert "a folder" in cli("application-set", "set", "gnomon", "--file", tmp_path, expect=1)
    folder, put = tmp_path / "dropped", ("application-set", "set", "gnomon")
    folder.mkdir()
    assert "no program in" in cli(*put, "--folder", folder, beside=True)
    (folder / "tide.exe").write_bytes(portable_executable({"ProductName": "Tide", "ProductVersion": "7.0"}))
    (folder / "again.exe").write_bytes(program.read_bytes())
    (folder / "notes.txt").write_text("no program")
    told = cli(*put, "--folder", folder, beside=True)
    assert ("Tide, 7.0" in told, "Gnomon" in told, "notes.txt" in told) == (True, False, False)
    before = json.loads(cli("application-set", "show", "gnomon", "--json"))["version"]
    assert "Tide" not in cli(*put, "--folder", folder, beside=True)
    assert json.loads(cli("application-set", "show", "gnomon", "--json"))["version"] == before
    assert len(json.loads(cli("application-set", "show", "gnomon", "--json"))["include"]) == 2
    assert "no folder" in cli("application-set", "set", "gnomon", "--folder", program, expect=1)
    cli("application-set", "remove", "gnomon", "--yes")
    cli("application-set", "remove", "mail", "--yes")
