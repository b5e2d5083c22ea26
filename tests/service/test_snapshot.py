"""One state: what a reader is given of it, body and version, is of one revision; and nobody's change is lost."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager

import httpx
import pytest

from conftest import group, ruleset, under
from portero.service.keepers import open_keepers
from portero.service.planning import Planner
from serving import serving


@pytest.fixture
def keepers(tmp_path):
    return open_keepers(tmp_path)


@pytest.fixture
def http(keepers) -> Iterator[httpx.Client]:
    with serving(keepers) as client:
        yield client


def in_the_gap(monkeypatch, store, hook) -> None:
    """Call the hook once, right after the next transaction is committed and before anybody goes on from there."""
    writing, waiting = store.writing, [hook]

    @contextmanager
    def with_gap():
        with writing() as connection:
            before = connection.total_changes
            yield connection
            changed = connection.total_changes != before
        if changed and waiting:
            waiting.pop()()

    monkeypatch.setattr(store, "writing", with_gap)


def with_rule(body: dict, category: str) -> dict:
    rules = [*body["rules"], {"category": category, "action": "block"}]
    return {"key": body["key"], "kind": body["kind"], "rules": rules}


def test_body_and_etag_are_of_one_revision_between_commit_and_swap(keepers, http, monkeypatch):
    made = http.post("/api/v1/rulesets", json=ruleset("shared", games="block").model_dump(mode="json"))
    assert made.status_code == 201
    seen_in_the_gap = []
    in_the_gap(monkeypatch, keepers.store, lambda: seen_in_the_gap.append(http.get("/api/v1/rulesets/shared")))
    first = http.put(
        "/api/v1/rulesets/shared", json=with_rule(made.json(), "music"), headers={"If-Match": made.headers["ETag"]}
    )
    assert first.status_code == 200
    (seen,) = seen_in_the_gap
    second = http.put(
        "/api/v1/rulesets/shared", json=with_rule(seen.json(), "news"), headers={"If-Match": seen.headers["ETag"]}
    )
    kept = {rule["category"] for rule in http.get("/api/v1/rulesets/shared").json()["rules"]}
    if second.status_code == 412:
        assert kept == {"games", "music"}
    else:
        assert kept == {"games", "music", "news"}, "the second writer was given the new ETag with the old body"


def test_of_three_writers_who_try_again_on_412_nothing_acknowledged_is_lost(http):
    http.post("/api/v1/rulesets", json={"key": "shared", "kind": "indicator", "rules": []})
    acknowledged: list[str] = []

    def write(name: str) -> None:
        for number in range(20):
            host = f"{name}-{number}.example"
            while True:
                seen = http.get("/api/v1/rulesets/shared")
                rules = [*seen.json()["rules"], {"host": host, "action": "block"}]
                body = {"key": "shared", "kind": "indicator", "rules": rules}
                answer = http.put("/api/v1/rulesets/shared", json=body, headers={"If-Match": seen.headers["ETag"]})
                if answer.status_code == 200:
                    acknowledged.append(host)
                    break
                assert answer.status_code == 412

    writers = [threading.Thread(target=write, args=(name,)) for name in "abc"]
    for writer in writers:
        writer.start()
    for writer in writers:
        writer.join(120)
    kept = {rule["host"] for rule in http.get("/api/v1/rulesets/shared").json()["rules"]}
    assert len(acknowledged) == 60
    assert not set(acknowledged) - kept


def joined(http: httpx.Client, hostname: str) -> tuple[dict[str, str], dict[str, object]]:
    """A device that holds what it should have: its credential, and what it then says when it checks in."""
    code = http.post("/api/v1/enrolment-codes", json={}).json()["code"]
    told = http.post("/device/v1/join", json={"code": code, "facts": {"hostname": hostname}}).json()
    headers = {"Authorization": "Bearer " + told["credential"]}
    offered = http.post("/device/v1/check-in", json={}, headers=headers).json()
    holds = {"have": offered["bundle"], "revision": offered["revision"]}
    assert http.post("/device/v1/check-in", json=holds, headers=headers).status_code == 204
    return headers, holds


def test_nothing_new_waits_for_no_change_and_is_noted_afterwards(keepers, http):
    headers, holds = joined(http, "patient")
    before = keepers.fleet.device("patient").last_heard
    time.sleep(0.05)
    with keepers.store.writing():
        # somebody writes, for as long as it takes
        answer = http.post("/device/v1/check-in", json=holds, headers=headers, timeout=5)
        assert answer.status_code == 204
        assert keepers.fleet.device("patient").last_heard == before
    keepers.fleet.let_time_pass()
    assert keepers.fleet.device("patient").last_heard > before


def test_a_change_is_reckoned_while_machines_go_on_and_again_where_they_changed(keepers, http, monkeypatch):
    headers, _holds = joined(http, "mover")
    http.post("/api/v1/groups", json=group("ships", all=[under("ships")]).model_dump(mode="json", exclude_none=True))
    http.post("/api/v1/rulesets", json=ruleset("quiet", music="block").model_dump(mode="json", exclude_none=True))
    reckoned = []
    plan = Planner.plan

    def slow(self, *arguments):
        made = plan(self, *arguments)
        if not reckoned:
            # while it is reckoned a machine comes into the group, and into a class that there was not
            facts = {"hostname": "mover", "unit": "ships/tern"}
            assert http.post("/device/v1/check-in", json={"facts": facts}, headers=headers, timeout=5).is_success
        reckoned.append(made)
        return made

    monkeypatch.setattr(Planner, "plan", slow)
    made = http.post("/api/v1/assignments", json={"ruleset": "quiet", "to": ["ships"]})
    assert made.status_code == 201
    assert made.json()["devices"] == 1
    assert len(reckoned) == 2, "of the state before it was of no use"
    assert http.get("/api/v1/revisions").json()["items"][0]["devices"] == 1
    verdict = http.post("/api/v1/check", json={"device": "mover", "url": "http://tunes.example/"}).json()
    assert "ships" in keepers.fleet.device("mover").groups
    assert verdict["revision"] == made.json()["version"]
