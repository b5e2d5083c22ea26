"""Changing with open eyes, through the service: previews, findings, history, the board, overlaps, warnings."""

from __future__ import annotations

import json
from datetime import UTC, datetime, timedelta

import httpx
import pytest

from conftest import Wire, assignment, group, ruleset, under
from made_estates import Maker
from portero.client import AlreadyExists, ChangedMeanwhile, Invalid, NotAllowed, NotFound, StillInUse
from portero.core.nouns.assignment import Assignment, NewAssignment
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.estate import Estate
from portero.core.nouns.feed import Feed
from portero.core.nouns.group import Precedence
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.schedule import Schedule
from portero.core.nouns.settings import GroupLayers, Settings
from portero.formats.estate_document import write_estate
from serving import PASSWORD

pytestmark = pytest.mark.process
HOURS = {"key": "hours", "zone": "UTC", "windows": [{"days": ["mon"], "from": "06:00", "to": "18:00"}]}


def estate(seed: int) -> Estate:
    return Estate.model_validate(Maker(seed).estate())


@pytest.fixture(scope="module")
def machines(service, portero) -> dict[str, Wire]:
    """Three machines: one in both groups, one in each."""
    facts = {
        "both-1": {"kind": "laptop", "unit": "brackwater/office"},
        "office-1": {"kind": "desktop", "unit": "brackwater/office"},
        "laptop-1": {"kind": "laptop", "unit": "brackwater/ships"},
    }
    made = {hostname: Wire(service, portero, hostname, **fact) for hostname, fact in facts.items()}
    for one in made.values():
        one.sync()
    return made


@pytest.fixture
def little(portero, machines):
    """Two overlapping groups that say opposite things, and a mandatory rule for everybody."""
    portero.estate.put(
        Estate(
            precedence=("laptops", "office"),
            groups=(
                group("laptops", all=[{"field": "kind", "op": "is", "value": "laptop"}]),
                group("office", all=[under("brackwater/office")]),
            ),
            schedules=(Schedule.model_validate(HOURS),),
            rulesets=(
                ruleset("away", music="allow", gambling="allow"),
                ruleset("work", music="block", news="warn"),
                ruleset("never", gambling="block"),
            ),
            assignments=(
                Assignment(key="away--laptops", ruleset="away", to=("laptops",)),
                Assignment(key="work--office", ruleset="work", to=("office",)),
                Assignment(key="never--all", ruleset="never", to=("whole-fleet",), mandatory=True),
            ),
        ),
        revision=None,
    )
    return portero


def word(portero, device: str, category: str) -> str:
    attempt = Attempt(device=device, url=f"http://{category}.category.test/")
    return portero.checks.check(attempt).intended.verdict.value


# --- previews ---

CHANGES = {
    "group": lambda p: p.groups.create(group("more", all=[under("brackwater")])),
    "group removed": lambda p: p.groups.remove("nobody-uses", version=None),
    "order": lambda p: p.groups.put_order(Precedence(precedence=("office", "laptops")), version=None),
    "ruleset": lambda p: p.rulesets.put(ruleset("work", music="warn"), version=None),
    "new ruleset": lambda p: p.rulesets.create(ruleset("new", games="block")),
    "assignment": lambda p: p.assignments.create(assignment("never", "office")),
    "assignment removed": lambda p: p.assignments.remove("work--office", version=None),
    "schedule": lambda p: p.schedules.put(Schedule.model_validate({**HOURS, "zone": "device"}), version=None),
    "settings": lambda p: p.settings.put(Settings.model_validate({"layers": {"filter": "observing"}}), version=None),
    "layer modes": lambda p: p.layer_modes.put(
        GroupLayers.model_validate({"group": "office", "filter": "off"}), version=None
    ),
    "estate": lambda p: p.estate.put(Estate(), revision=None),
}


@pytest.mark.parametrize("name", CHANGES)
def test_every_change_can_be_previewed_and_nothing_is_kept(little, name):
    if name == "group removed":
        little.groups.create(group("nobody-uses", all=[under("elsewhere")]))
    before, at = write_estate(little.estate.get()), next(little.revisions.list(limit=1)).number
    preview = little.preview(CHANGES[name])
    assert preview.revision == at
    assert preview.summary
    assert write_estate(little.estate.get()) == before
    assert next(little.revisions.list(limit=1)).number == at


def test_a_preview_is_what_the_change_then_does(little, machines):
    softer = ruleset("work", music="warn", games="block")
    preview = little.preview(lambda asked: asked.rulesets.put(softer, version=None))
    rows = {row.subject: row for row in preview.verdicts}
    # news is no longer warned of; music is the laptops' to say on the machine that is in both groups
    assert {name: (row.before, row.after, row.devices) for name, row in rows.items()} == {
        "category games": ("allow", "block", 2),
        "category news": ("warn", "allow", 2),
        "category music": ("block", "warn", 1),
    }
    assert preview.effects == {"stopped": 1, "softened": 1, "released": 1}
    assert preview.devices == 2
    before = {name: word(little, rows[name].device, name.split()[1]) for name in rows}
    little.rulesets.put(softer, version=None)
    after = {name: word(little, rows[name].device, name.split()[1]) for name in rows}
    assert before == {name: row.before for name, row in rows.items()}
    assert after == {name: row.after for name, row in rows.items()}
    # the machines that were to get another bundle are those that wait for one
    waiting = [name for name, wire in machines.items() if wire.check_in(have="nothing").status_code == 200]
    assert len(waiting) == 3
    newest = next(little.revisions.list(limit=1))
    assert newest.devices == preview.devices


def test_findings_that_appear_and_go_and_where_it_will_not_hold_are_told(little, service):
    Wire(service, little, "records-only", kind="laptop", unit="elsewhere", layers={"filter": "observing"}).sync()
    quiet = little.preview(lambda asked: asked.rulesets.put(ruleset("away", games="block"), version=None))
    assert [one.id for one in quiet.settled if one.kind == "contradiction"]
    (held_back,) = [hindrance for hindrance in quiet.hindrances if hindrance.code == "layer-observing"]
    assert (held_back.devices, held_back.examples) == (1, ("records-only",))
    assert quiet.taking_hold.devices == quiet.devices == 3
    little.devices.retire("records-only")


def test_a_preview_refuses_what_the_change_would_be_refused(little, service):
    with pytest.raises(AlreadyExists):
        little.preview(lambda asked: asked.rulesets.create(ruleset("work", games="block")))
    with pytest.raises(StillInUse):
        little.preview(lambda asked: asked.rulesets.remove("work", version=None))
    with pytest.raises(ChangedMeanwhile):
        little.preview(lambda asked: asked.rulesets.put(ruleset("work", games="block"), version=1))
    with pytest.raises(ValueError, match="nothing that can be previewed"):
        little.preview(lambda asked: list(asked.rulesets.list()))


def test_a_preview_of_what_has_none_is_refused_and_not_done(little, service, machines):
    secret = little.access.sign_in("keeper", service.password, label="raw").secret
    with httpx.Client(base_url=service.url + "/api/v1", headers={"Authorization": f"Bearer {secret}"}) as http:
        path = f"/devices/{machines['office-1'].id}/retire?preview=true"
        refused = http.post(path, json={})
        assert (refused.status_code, refused.json()["detail"]) == (
            400,
            "This call has no preview; nothing was changed.",
        )
        assert little.devices.get("office-1").lifecycle == "enrolled"
        answer = http.delete("/assignments/work--office?preview=true", headers={"If-Match": "*"})
        assert (answer.status_code, answer.headers["Portero-Preview"]) == (200, "true")
        assert answer.json()["summary"] == "Would remove assignment work--office"
        described = http.get("/openapi.json").json()["paths"]["/api/v1/assignments/{key}"]["delete"]["responses"]
        assert described["200"]["content"]["application/json"]["schema"] == {"$ref": "#/components/schemas/Preview"}


# --- findings ---


def test_a_finding_is_shown_accepted_for_a_while_opened_again_and_remedied(little):
    found = little.findings.list(kind="shadowed").items
    assert [item.assignments for item in found] == [("away--laptops",)]
    (one,) = found
    assert little.findings.get(one.id) == one
    assert [device.hostname for device in little.findings.devices(one.id)] == sorted(one.examples)
    with pytest.raises(NotFound):
        list(little.findings.devices("shadowed.nothing"))
    until = datetime.now(UTC) + timedelta(days=5)
    accepted = little.findings.accept(one.id, reason="until the race", until=until)
    assert (accepted.accepted.by, accepted.accepted.reason) == ("keeper", "until the race")
    assert little.findings.list(accepted=False, kind="shadowed").items == ()
    assert little.findings.list().accepted == 1
    little.findings.reopen(one.id)
    assert little.findings.get(one.id).is_open
    with pytest.raises(Invalid, match="has passed"):
        little.findings.accept(one.id, reason="too late", until=datetime.now(UTC) - timedelta(days=1))
    with pytest.raises(NotFound):
        little.findings.reopen(one.id)
    with pytest.raises(Invalid, match="this finding has remove-rules"):
        little.findings.take_remedy(one.id, "extend")
    preview = little.preview(lambda asked: asked.findings.take_remedy(one.id, "remove-rules"))
    assert [gone.id for gone in preview.settled] == [one.id]
    assert preview.effects == {}
    little.findings.take_remedy(one.id, "remove-rules")
    with pytest.raises(NotFound):
        little.findings.get(one.id)
    newest = next(little.revisions.list(limit=1))
    assert (newest.summary, newest.reason) == ("Changed ruleset away", f"Remedy of {one.id}: remove-rules")


def test_findings_are_chosen_by_severity_kind_group_and_ruleset(little):
    every = little.findings.list()
    assert {item.kind for item in every.items} >= {"shadowed", "contradiction"}
    assert every.open["medium"] >= 1
    assert {item.severity for item in little.findings.list(severity="medium").items} <= {"high", "medium"}
    assert {item.kind for item in little.findings.list(group="office").items} == {"contradiction"}
    assert all("work" in item.rulesets for item in little.findings.list(ruleset="work").items)


def test_an_exception_has_an_owner_a_reason_and_an_end(little, service):
    with pytest.raises(ValueError, match="an exception needs ends and reason"):
        NewAssignment.model_validate({"ruleset": "work", "to": "office", "owner": "it-desk"})
    exception = {"ruleset": "work", "to": "laptops", "owner": "gone", "reason": "Audit", "ends": "2030-01-01T00:00:00Z"}
    made = little.assignments.create(NewAssignment.model_validate(exception))
    (one,) = little.findings.list(kind="owner-gone").items
    assert one.assignments == (made.key,)
    kept = little.assignments.put(
        Assignment.model_validate({**exception, "key": made.key, "owner": "keeper"}), version=made.version
    )
    assert kept.owner == "keeper"
    assert little.findings.list(kind="owner-gone").items == ()


# --- history ---


@pytest.mark.parametrize("seed", range(4))
def test_any_earlier_revision_is_had_again_exactly_and_restored(portero, machines, seed):
    states = {}
    for number in range(5):
        made = portero.estate.put(estate(50 * seed + number), revision=None)
        states[made.revision] = write_estate(portero.estate.get())
    first, *_, last = states
    for number, written in states.items():
        assert write_estate(portero.revisions.estate(number)) == written, number
    compared = portero.revisions.compare(first, last)
    assert (compared.from_, compared.to) == (first, last)
    assert portero.revisions.compare(first, first).changes == ()
    preview = portero.preview(lambda asked: asked.revisions.restore(first))
    assert preview.revision == last
    restored = portero.revisions.restore(first, reason="as it was")
    assert (restored.number, restored.reason) == (last + 1, "as it was")
    assert write_estate(portero.estate.get()) == states[first]
    with pytest.raises(Invalid, match="nothing to restore"):
        portero.revisions.restore(first)
    with pytest.raises(NotFound):
        portero.revisions.restore(10**6)


def test_a_revision_is_told_in_sentences_and_as_a_difference_of_documents(little):
    little.rulesets.put(ruleset("work", music="warn", games="block"), version=None, reason="Season")
    newest = next(little.revisions.list(limit=1)).number
    told = little.revisions.get(newest)
    (change,) = told.changes
    assert change.sentence == "changed ruleset work"
    assert set(change.details) == {"warns on Music, and blocked before", "blocks Games", "no longer warns on News"}
    assert "-- {category: news, action: warn}" in change.difference.splitlines()
    assert "+- {category: games, action: block}" in change.difference.splitlines()
    seen = little.assignments.get("work--office")
    moved = Assignment.model_validate({"key": seen.key, "ruleset": "work", "to": ["laptops"], "mandatory": True})
    little.assignments.put(moved, version=seen.version)
    (change,) = little.revisions.get(newest + 1).changes
    assert change.details == ("to: also laptops", "to: no longer office", "mandatory: yes, and no before")


def test_revisions_are_found_by_who_what_and_why(little):
    little.rulesets.put(ruleset("work", music="warn"), version=None, reason="For the winter season")
    assert [revision.changes[0].key for revision in little.revisions.list(q="winter", limit=1)] == ["work"]
    about = list(little.revisions.list(noun="ruleset", key="work", limit=5))
    assert about
    assert all(("ruleset", "work") in {(change.noun, change.key) for change in revision.changes} for revision in about)
    assert list(little.revisions.list(by="nobody")) == []


def test_who_last_changed_what_governs_a_machine(little):
    little.rulesets.put(ruleset("work", music="warn"), version=None, reason="Winter")
    newest = next(little.revisions.list(limit=1)).number
    found = little.revisions.governing("both-1")
    assert (found[0].noun, found[0].key, found[0].revision, found[0].by) == ("ruleset", "work", newest, "keeper")
    assert (found[0].because, found[0].reason) == ("by assignment work--office", "Winter")
    assert {(one.noun, one.key) for one in found} >= {("group", "office"), ("assignment", "away--laptops")}
    assert "work" not in {one.key for one in little.revisions.governing("laptop-1")}


def test_an_author_does_not_restore_settings_and_feeds(little, service):
    service.add("an-author", "author")
    at = next(little.revisions.list(limit=1)).number
    settings = Settings.model_validate({"newly_registered_days": 9})
    little.settings.put(settings, version=None)
    with service.client("an-author", PASSWORD) as author:
        with pytest.raises(NotAllowed, match="needs the role of a keeper"):
            author.revisions.restore(at)
        assert author.preview(lambda asked: asked.revisions.restore(at)).summary == "Would change the settings"
        little.revisions.restore(at)
        elsewhere = {"key": "old", "kind": "categories", "format": "csv", "address": "https://feeds.example/old.csv"}
        little.feeds.create(Feed.model_validate(elsewhere))
        fetching = next(little.revisions.list(limit=1)).number
        little.feeds.remove("old")
        with pytest.raises(NotAllowed, match=f"as restoring revision {fetching} changes the feeds"):
            author.revisions.restore(fetching)
        assert list(little.feeds.list()) == []


# --- the board, overlaps, the worklist, warnings ---


def test_the_board_shows_what_is_put_where(little):
    board = little.board.get()
    assert [row.target for row in board.rows] == ["laptops", "office", "unclaimed", "whole-fleet"]
    assert [row.devices for row in board.rows] == [2, 2, 0, 3]
    cells = {(cell.target, cell.ruleset): cell for cell in board.cells}
    assert (cells["whole-fleet", "never"].action, cells["whole-fleet", "never"].mandatory) == ("block", True)
    assert cells["office", "work"].action is None
    assert (board.in_force, len(board.columns)) == (3, 3)


def test_what_overlapping_groups_contribute_and_what_wins(little):
    found = little.board.overlap("office", "laptops")
    assert (found.targets, found.devices, found.examples) == (("laptops", "office"), 1, ("both-1",))
    rows = {row.subject: row for row in found.rows}
    music = rows["category music"]
    assert [(contribution.target, contribution.action) for contribution in music.contributions] == [
        ("laptops", "allow"),
        ("office", "block"),
    ]
    assert [(outcome.verdict, outcome.by) for outcome in music.outcomes] == [("allow", "away on laptops")]
    assert music.differ
    assert [outcome.by for outcome in rows["category gambling"].outcomes] == ["never on whole-fleet"]
    assert not rows["category news"].differ
    one = little.board.overlap(device="both-1", visit="Music")
    assert [row.subject for row in one.rows] == ["category music"]
    host = little.board.overlap("office", visit="http://news.category.test/page").rows[0]
    assert [(out.verdict, out.devices) for out in host.outcomes] == [("warn", 2)]
    program = little.board.overlap("office", program="Deckhand Viewer").rows[0]
    assert (program.subject, program.contributions) == ("program Deckhand Viewer", ())
    with pytest.raises(NotFound, match="did you mean “office”"):
        little.board.overlap("offise")
    with pytest.raises(Invalid):
        little.board.overlap()
    with pytest.raises(Invalid):
        little.board.overlap("office", visit="http://")
    shared = little.board.group_overlaps().shared
    assert [(one.groups, one.devices) for one in shared] == [(("laptops", "office"), 1)]


def test_the_worklist_has_gaps_findings_and_endings_most_urgent_first(little, service):
    ends = (datetime.now(UTC) + timedelta(days=2)).isoformat()
    little.assignments.create(NewAssignment.model_validate({"ruleset": "work", "to": "laptops", "ends": ends}))
    Wire(service, little, "off-1", layers={"filter": "off"}).sync()
    items = little.worklist.get().items
    assert {item.kind for item in items} >= {"gap", "finding", "ending"}
    order = [("high", "medium", "low").index(item.severity) for item in items]
    assert order == sorted(order)
    assert all(item.next and item.link.startswith("/") for item in items)
    little.devices.retire("off-1")


def test_what_should_be_known_while_a_rule_is_written(little, service):
    Wire(service, little, "https-1", browsers=[{"name": "chromium", "version": "140", "managed": True}]).sync()
    little.rulesets.create(
        Ruleset.model_validate(
            {"key": "hosts", "kind": "indicator", "rules": [{"host": "parcel-refund.example", "action": "block"}]}
        )
    )
    rules = [
        {"url": "https://files.example/drop/", "action": "block"},
        {"host": "parcel-refnd.example", "action": "block"},
        {"host": "shop.exmaple", "action": "block"},
        {"host": "www.shop.example", "action": "block"},
        {"host": "a.shop.example", "action": "warn"},
        {"host": "shop.example", "action": "warn"},
    ]
    written = Ruleset.model_validate({"key": "written", "kind": "indicator", "rules": rules})
    found = {(warning.rule, warning.code): warning for warning in little.worklist.warnings(ruleset=written)}
    assert set(found) == {
        *((1, "path-hidden"), (2, "host-near"), (3, "host-suffix"), (4, "host-www"), (5, "covered")),
    }
    assert (found[1, "path-hidden"].instead, found[1, "path-hidden"].devices) == ("files.example", 1)
    assert found[2, "host-near"].instead == "parcel-refund.example"
    assert found[4, "host-www"].instead == "shop.example"
    idle = NewAssignment.model_validate({"ruleset": "away", "to": "office", "state": "draft"})
    codes = {warning.code for warning in little.worklist.warnings(assignment=idle)}
    assert "shadowed" in codes
    new = NewAssignment.model_validate({"ruleset": "hosts", "to": "office"})
    assert little.worklist.warnings(assignment=new) == []
    little.devices.retire("https-1")


def test_warnings_and_boards_are_read_raw(little, service):
    secret = little.access.sign_in("keeper", service.password, label="raw").secret
    with httpx.Client(base_url=service.url + "/api/v1", headers={"Authorization": f"Bearer {secret}"}) as http:
        assert http.post("/warnings", json={"assignment": {"ruleset": "none", "to": "office"}}).json() == []
        wrong = http.post("/warnings", content=json.dumps({"ruleset": {"key": "x"}}))
        assert wrong.status_code == 422
        assert http.get("/overlaps", params=[("group", "office"), ("group", "laptops")]).json()["devices"] == 1
