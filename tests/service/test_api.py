"""The service through its client and over raw HTTP: changes, versions, pages, problems."""

from __future__ import annotations

import httpx
import pytest

from conftest import Service, assignment, group, ruleset, signed, under
from portero.client import (
    AlreadyExists,
    ChangedMeanwhile,
    Invalid,
    NotAllowed,
    NotFound,
    NotSignedIn,
    Portero,
    StillInUse,
)
from portero.core.nouns.assignment import Assignment
from portero.core.nouns.ruleset import Ruleset

pytestmark = pytest.mark.process


@pytest.fixture(scope="module")
def service(tmp_path_factory):
    """A process of its own: what it logs is read."""
    running = Service(tmp_path_factory.mktemp("service"))
    yield running
    running.stop()


@pytest.fixture
def raw(service, portero):
    """Raw HTTP with the keeper's token."""
    token = signed(portero)["Authorization"]
    with httpx.Client(base_url=service.url, headers={"Authorization": token}) as http:
        yield http


def test_a_change_is_one_revision_with_its_objects_before_and_after(portero):
    first = portero.rulesets.create(ruleset("quiet", music="block"), reason="link cost")
    listed = next(portero.revisions.list())
    assert (listed.summary, listed.reason, listed.by) == ("Created ruleset quiet", "link cost", "keeper")
    assert [(change.key, change.after) for change in listed.changes] == [("quiet", None)], "lists tell no documents"
    newest = portero.revisions.get(listed.number)
    assert (newest.changed, listed.changed) == (1, 1)
    assert newest.changes[0].after["rules"] == [{"category": "music", "action": "block"}]
    second = portero.rulesets.put(ruleset("quiet", music="warn"), version=first.version)
    change = portero.revisions.get(second.version).changes[0]
    assert (change.verb, change.before["rules"][0]["action"], change.after["rules"][0]["action"]) == (
        "changed",
        "block",
        "warn",
    )
    assert second.sentence == "Warns on Music."
    assert portero.rulesets.put(ruleset("quiet", music="warn"), version=None).version == second.version, "no change"


def test_of_two_administrators_the_second_is_told_and_nothing_is_lost(portero, service):
    seen = portero.rulesets.create(ruleset("shared", games="warn"))
    portero.rulesets.put(ruleset("shared", games="block"), version=seen.version)
    before = portero.devices.rollout().revision
    with pytest.raises(ChangedMeanwhile) as told:
        portero.rulesets.put(ruleset("shared", games="allow"), version=seen.version)
    assert told.value.extra["current"]["rules"][0]["action"] == "block"
    assert portero.devices.rollout().revision == before
    assert portero.rulesets.get("shared").rules[0].action == "block"


def test_a_creation_sent_again_is_made_once(raw):
    headers = {"Idempotency-Key": "one-and-the-same"}
    raw.post("/api/v1/rulesets", json={"key": "once", "kind": "category"})
    body = {"ruleset": "once", "to": ["whole-fleet"]}
    first, again = (raw.post("/api/v1/assignments", json=body, headers=headers) for _ in range(2))
    assert (first.status_code, again.json()["key"]) == (201, first.json()["key"])
    assert len(raw.get("/api/v1/assignments?ruleset=once").json()["items"]) == 1
    other = raw.post("/api/v1/assignments", json={**body, "mandatory": True}, headers=headers)
    assert other.status_code == 422


def test_the_client_raises_one_exception_a_problem(portero):
    portero.groups.create(group("office", all=[under("brackwater/office")]))
    portero.rulesets.create(ruleset("used", news="warn"))
    made = portero.assignments.create(assignment("used", "office"))
    with pytest.raises(AlreadyExists, match="choose another key"):
        portero.groups.create(group("office"))
    with pytest.raises(StillInUse, match="used--office"):
        portero.groups.remove("office")
    with pytest.raises(StillInUse, match="used--office"):
        portero.rulesets.remove("used")
    with pytest.raises(NotFound, match="did you mean “office”"):
        portero.groups.get("offcie")
    with pytest.raises(Invalid, match="no ruleset “usde”; did you mean “used”"):
        portero.assignments.create(assignment("usde", "office"))
    portero.rulesets.create(ruleset("open", family_pastime="allow"))
    with pytest.raises(Invalid, match="may not allow broadly"):
        portero.assignments.create(assignment("open", "office", mandatory=True))
    portero.assignments.remove(made.key, version=made.version)
    portero.rulesets.remove("used")
    portero.groups.remove("office")
    with pytest.raises(NotFound):
        portero.groups.get("office")


def test_everything_about_an_assignment_can_be_changed_later(portero):
    portero.rulesets.create(ruleset("later", games="block"))
    made = portero.assignments.create(assignment("later", "whole-fleet"))
    changed = Assignment(key=made.key, ruleset="later", to=("unclaimed",), action="log", mandatory=True, reason="trial")
    after = portero.assignments.put(changed, version=made.version)
    assert after.sentence == "On unclaimed, mandatory: only records Games."
    assert portero.assignments.set_state(made.key, "paused").state == "paused"


def test_lists_page_by_cursor_and_carry_a_total(portero, raw):
    for number in range(5):
        portero.rulesets.create(ruleset(f"page-{number}"))
    total = raw.get("/api/v1/revisions").json()["total"]
    seen, cursor = [], None
    while True:
        page = raw.get("/api/v1/revisions", params={"limit": 2, **({"cursor": cursor} if cursor else {})}).json()
        assert page["total"] == total
        seen += [one["number"] for one in page["items"]]
        if not (cursor := page["next"]):
            break
    assert seen == list(range(total, 0, -1))
    for bad in ("nonsense", "WyJ4Iiwx", "-1"):
        assert raw.get("/api/v1/devices", params={"cursor": bad}).status_code == 400
        assert raw.get("/api/v1/revisions", params={"cursor": bad}).status_code == 400


@pytest.mark.parametrize(
    ("body", "status", "pointer", "words"),
    [
        (b'{"key": "x", "kind"', 400, None, "not JSON"),
        (b'{"key": "x", "kind": "category", "ruels": []}', 422, "/ruels", "unknown key “ruels”"),
        (b'{"key": 7, "kind": "category"}', 422, "/key", "7 is not text"),
        (b'{"key": "Not A Key", "kind": "category"}', 422, "/key", "“Not A Key” is no key"),
        (b'{"key": "' + b"x" * 65 + b'", "kind": "category"}', 422, "/key", "64"),
        (b'{"key": "x", "kind": "category", "name": "' + b"x" * 500 + b'"}', 422, "/name", "120"),
        (
            b'{"key": "x", "kind": "category", "rules": [{"category": "gambing", "action": "block"}]}',
            422,
            None,
            "gambling",
        ),
        (b'{"key": "x", "kind": "category", "rules": [{"action": "block"}]}', 422, None, "exactly one thing"),
        (b'{"key": "x", "kind": "category", "rules": ' + b"[" * 3000 + b"]" * 3000 + b"}", None, None, ""),
        (b"[]", 422, "", "a list is not a mapping"),
        (b"\xff\xfe", 400, None, ""),
        (b"x" * 40_100_000, 413, None, "40 MB"),
    ],
)
def test_bad_bodies_get_a_clear_problem_and_change_nothing(portero, raw, body, status, pointer, words):
    before = portero.devices.rollout().revision
    answer = raw.post("/api/v1/rulesets", content=body, headers={"Content-Type": "application/json"})
    assert answer.headers["content-type"] == "application/problem+json"
    told = answer.json()
    assert answer.status_code == status or (status is None and 400 <= answer.status_code < 500)
    assert told["type"].startswith("urn:portero:problem:")
    assert words in answer.text
    if pointer is not None:
        assert any(error["pointer"] == pointer for error in told["errors"]), told
    assert portero.devices.rollout().revision == before


def test_versions_that_are_missing_or_stale_change_nothing(portero, raw):
    portero.rulesets.create(ruleset("guarded", games="block"))
    body = {"key": "guarded", "kind": "category"}
    assert raw.put("/api/v1/rulesets/guarded", json=body).status_code == 428
    for stale in ('"r0"', "nonsense", ""):
        assert raw.put("/api/v1/rulesets/guarded", json=body, headers={"If-Match": stale}).status_code == 412
        assert raw.delete("/api/v1/rulesets/guarded", headers={"If-Match": stale}).status_code == 412
    assert raw.put("/api/v1/rulesets/other", json=body, headers={"If-Match": "*"}).status_code == 422
    answer = raw.get("/api/v1/rulesets/guarded")
    assert answer.headers["etag"] == f'"r{answer.json()["version"]}"'
    assert len(answer.json()["rules"]) == 1


def test_nobody_gets_in_without_a_good_token_and_readers_change_nothing(service, portero):
    made = portero._connection.ask("POST", "/tokens", json={"label": "reading", "role": "reader"}).json()
    with Portero(service.url, token=made["secret"]) as reader:
        assert list(reader.groups.list())
        with pytest.raises(NotAllowed, match="needs the role of an author; this token is reader; sign in"):
            reader.groups.create(group("mine"))
        with pytest.raises(NotAllowed, match="keeper"):
            reader.enrolment.create_code()
        portero._connection.delete(f"/tokens/{made['id']}")
        with pytest.raises(NotSignedIn, match="not good"):
            list(reader.groups.list())
    for headers in ({}, {"Authorization": "Bearer nonsense"}, {"Authorization": "Basic a2VlcGVyOng="}):
        answer = httpx.get(service.url + "/api/v1/devices", headers=headers)
        assert (answer.status_code, answer.json()["type"]) == (401, "urn:portero:problem:not-signed-in")
        assert httpx.post(service.url + "/device/v1/check-in", json={}, headers=headers).status_code == 401


def test_a_browsers_session_needs_its_csrf_token_for_changes(service):
    with httpx.Client(base_url=service.url) as browser:
        answer = browser.post("/api/v1/session", json={"name": "keeper", "password": service.password})
        cookie = answer.headers["set-cookie"].lower()
        assert "httponly" in cookie
        assert "samesite=strict" in cookie
        body = {"key": "from-a-browser", "kind": "category"}
        assert browser.post("/api/v1/rulesets", json=body).status_code == 403
        wrong = {"X-CSRF-Token": "wrong"}
        assert browser.post("/api/v1/rulesets", json=body, headers=wrong).status_code == 403
        right = {"X-CSRF-Token": answer.json()["csrf_token"]}
        assert browser.post("/api/v1/rulesets", json=body, headers=right).status_code == 201
        assert browser.delete("/api/v1/session", headers=right).status_code == 204
        assert browser.get("/api/v1/devices").status_code == 401


def test_guessing_passwords_is_slowed_down(service):
    answers = [
        httpx.post(service.url + "/api/v1/session", json={"name": "nobody", "password": "x"}).status_code
        for _ in range(7)
    ]
    assert answers == [401] * 5 + [429] * 2


def test_answers_carry_the_headers_that_keep_browsers_safe(service):
    answer = httpx.get(service.url + "/healthz")
    assert answer.json()["status"] == "ok"
    assert "script-src 'self'" in answer.headers["content-security-policy"]
    assert answer.headers["x-content-type-options"] == "nosniff"
    assert "server" not in answer.headers
    assert httpx.get(service.url + "/readyz").json()["status"] == "ready"
    assert httpx.get(service.url + "/api/v1/nothing").headers["content-type"] == "application/problem+json"
    assert httpx.get(service.url + "/", follow_redirects=False).headers["location"] == "/console/"


def test_secrets_never_reach_the_log_or_the_store(service, portero):
    code = portero.enrolment.create_code().code
    token = signed(portero)["Authorization"].removeprefix("Bearer ")
    log = "\n".join(service.lines[2:])
    store = b"".join(path.read_bytes() for path in service.data.glob("portero.sqlite3*"))
    for secret in (code, token, service.password):
        assert secret not in log
        assert secret.encode() not in store
    assert (service.data / "signing-key.pem").stat().st_mode & 0o077 == 0


def test_a_ruleset_round_trips_with_names_and_notes(portero):
    body = {
        "key": "kept",
        "name": "Kept",
        "kind": "category",
        "rules": [{"category": "news", "action": "warn", "name": "N", "note": "why"}],
    }
    portero.rulesets.create(Ruleset.model_validate(body))
    rule = portero.rulesets.get("kept").rules[0]
    assert (rule.name, rule.note) == ("N", "why")
