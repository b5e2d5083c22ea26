"""One state: what a reader is given of it, body and version, is of one revision; and nobody's change is lost."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager

import pytest
from starlette.testclient import TestClient

from conftest import ruleset
from portero.service.app import create_app
from portero.service.keepers import open_keepers
from portero.service.secrets import hash_secret
from portero.store import access

HEADERS = {"Authorization": "Bearer pt_test"}


@pytest.fixture
def keepers(tmp_path):
    made = open_keepers(tmp_path)
    with made.store.writing() as connection:
        access.add_administrator(connection, "keeper", "keeper", "no password")
        access.add_token(
            connection,
            id="test",
            secret_hash=hash_secret("pt_test"),
            name="keeper",
            label="test",
            role="keeper",
            now=0,
            expires=None,
        )
    return made


@pytest.fixture
def http(keepers) -> Iterator[TestClient]:
    with TestClient(create_app(keepers), base_url="http://127.0.0.1", headers=HEADERS) as client:
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
    kept = {one["category"] for one in http.get("/api/v1/rulesets/shared").json()["rules"]}
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
    kept = {one["host"] for one in http.get("/api/v1/rulesets/shared").json()["rules"]}
    assert len(acknowledged) == 60
    assert not set(acknowledged) - kept
