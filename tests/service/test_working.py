"""An answer that takes its time tells how far it is, to whoever asks for that; soon it comes as ever."""

from __future__ import annotations

import json
import threading
from collections.abc import Iterator
from contextlib import contextmanager

import httpx
import pytest

from conftest import assignment, ruleset
from portero.client import Portero
from portero.client.errors import Invalid
from portero.service.problems import Refusal
from serving import held_looks

ACCEPT = {"Accept": "text/event-stream"}


@pytest.fixture(scope="module", autouse=True)
def something_to_settle(portero):
    portero.rulesets.create(ruleset("calm", games="block"))
    portero.assignments.create(assignment("calm", "unclaimed"))


@contextmanager
def asked(service, portero, path: str) -> Iterator[httpx.Response]:
    token = portero._connection.transport.token
    headers = {**ACCEPT, "Authorization": f"Bearer {token}"}
    with httpx.stream("GET", f"{service.url}/api/v1{path}", headers=headers, timeout=30) as answer:
        yield answer


def events(answer: httpx.Response) -> Iterator[tuple[str, dict]]:
    name = ""
    for line in answer.iter_lines():
        key, _, value = line.partition(": ")
        if key == "event":
            name = value
        elif key == "data":
            yield name, json.loads(value)


def test_what_takes_its_time_is_told_and_then_answered(service, portero):
    with asked(service, portero, "/findings") as plain:
        assert plain.headers["content-type"] == "application/json"
        whole = json.loads(plain.read())
    assert whole["items"]
    with held_looks(service) as go_on, asked(service, portero, "/findings") as answer:
        assert answer.headers["content-type"].startswith("text/event-stream")
        assert answer.headers["x-request-id"]
        assert answer.headers["cache-control"] == "no-store"
        found = events(answer)
        assert next(found) == ("working", {"what": "Rules that meet", "done": 3, "of": 9})
        go_on.set()
        name, told = next(found)
        while name == "working":
            name, told = next(found)
        assert (name, told["status"], told["body"]) == ("answered", 200, whole)
        assert told["headers"]["content-type"] == "application/json"
        assert list(found) == []


def test_who_does_not_ask_is_told_nothing(service, portero):
    with held_looks(service) as go_on:
        threading.Timer(0.8, go_on.set).start()
        assert portero.findings.list().items


def test_a_refusal_is_as_ever_where_it_comes_soon(service, portero):
    with asked(service, portero, "/groups/nobody") as answer:
        assert answer.status_code == 404
        assert answer.headers["content-type"] == "application/problem+json"


def test_what_nobody_foresaw_is_told_with_its_request_id(service, portero, monkeypatch):
    def broken(estate, world):
        world.note("Rules that meet", 1, 9)
        threading.Event().wait(0.8)
        raise ZeroDivisionError

    monkeypatch.setattr(service.keepers.foresight, "_found", None)
    monkeypatch.setattr(service.keepers.foresight, "_find", broken)
    with asked(service, portero, "/findings") as answer:
        *_, (name, told) = events(answer)
        assert (name, told["status"]) == ("answered", 500)
        assert answer.headers["x-request-id"] in told["body"]["detail"]
    monkeypatch.undo()
    assert portero.findings.list().items


def patient(portero: Portero, notes: list) -> Portero:
    """The same client, that is told how far answers are."""

    @contextmanager
    def working():
        yield lambda *told: notes.append(told)

    transport = portero._connection.transport
    return Portero(transport.url, token=transport.token, working=working)


def test_a_client_is_told_and_has_the_same_answer(service, portero):
    notes: list = []
    with held_looks(service) as go_on, patient(portero, notes) as asking:
        threading.Timer(0.8, go_on.set).start()
        found = asking.findings.list()
        assert found == portero.findings.list()
        assert list(asking.rulesets.list()) == list(portero.rulesets.list())
    assert notes[0] == ("Rules that meet", 3, 9)


def test_a_preview_is_told_and_raised_as_ever(service, portero):
    notes: list = []
    with held_looks(service) as go_on, patient(portero, notes) as asking:
        threading.Timer(0.8, go_on.set).start()
        seen = asking.preview(lambda client: client.rulesets.create(ruleset("other", news="block")))
    assert seen.changes[0].key == "other"
    assert notes[0] == ("Rules that meet", 3, 9)


def test_a_refusal_that_comes_late_is_raised(service, portero, monkeypatch):
    def refused(estate, world):
        world.note("Rules that meet", 1, 9)
        threading.Event().wait(0.8)
        raise Refusal("invalid", "Not today.")

    notes: list = []
    monkeypatch.setattr(service.keepers.foresight, "_found", None)
    monkeypatch.setattr(service.keepers.foresight, "_find", refused)
    with patient(portero, notes) as asking, pytest.raises(Invalid, match="Not today"):
        asking.findings.list()
    assert notes == [("Rules that meet", 1, 9)]
