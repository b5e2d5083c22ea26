"""What comes in from outside has bounds: odd addresses, numbers, times and letters are refused, and nobody is hurt."""

from __future__ import annotations

import base64
import json
import time

import httpx
import pytest

from conftest import Wire, assignment, group, ruleset, signed
from portero.core.nouns.activity import MOST_A_DAY
from portero.store.database import Store

FAR = ["0001-01-01T00:00:00+14:00", "0001-01-01T00:00:00Z", "1969-12-31T23:59:59Z", "3000-01-01T00:00:00Z"]
FAR += ["9999-12-31T23:59:59-14:00"]


@pytest.fixture
def raw(service, portero):
    with httpx.Client(base_url=service.url, headers=signed(portero), timeout=20) as client:
        yield client


@pytest.mark.parametrize("hour", FAR)
def test_a_count_of_another_age_is_refused_and_lookups_go_on(service, portero, raw, hour):
    device = Wire(service, portero, f"time-{FAR.index(hour)}")
    counts = [{"hour": hour, "host": "poisoned.example", "visits": 1}]
    answer = device.http.post("activity", json={"batch": 1, "counts": counts})
    assert answer.status_code == 422
    assert "between 1970 and 2999" in answer.json()["detail"]
    looked = raw.get("/api/v1/categories/lookup", params={"url": "poisoned.example"})
    assert looked.status_code == 200, looked.text


def test_counts_from_the_future_count_as_of_now(service, portero, raw):
    device = Wire(service, portero, "early-bird")
    counts = [{"hour": "2999-01-01T00:00:00Z", "host": "early.example", "visits": 3}]
    assert device.http.post("activity", json={"batch": 1, "counts": counts}).status_code == 200
    with service.keepers.store.reading() as connection:
        (hour,) = connection.execute("SELECT hour FROM visit_count WHERE host = 'early.example'").fetchone()
    assert hour <= service.keepers.now()


@pytest.mark.parametrize("last_start", FAR)
def test_a_start_of_another_age_is_refused(service, portero, last_start):
    device = Wire(service, portero, "odd-clock")
    answer = device.check_in(facts={"hostname": "odd-clock", "last_start": last_start})
    assert answer.status_code == 422
    assert "last_start" in answer.json()["detail"]


@pytest.mark.parametrize("revision", [-1, 2**53 + 1, 2**63, 2**64, 10**30])
def test_no_revision_is_so_far_away(service, portero, raw, revision):
    assert raw.get(f"/api/v1/revisions/{revision}").status_code in (404, 422)
    device = Wire(service, portero, "odd-revision")
    answer = device.check_in(have="sha256:none", revision=revision)
    assert answer.status_code == 400
    assert "revision" in answer.json()["detail"]


@pytest.mark.parametrize("path", ["/console/%00", "/console/a%00b", "/console/" + "a" * 5000, "/console/..%2f..%2fetc"])
def test_odd_addresses_below_the_console_show_the_console(service, path):
    answer = httpx.get(service.url + path)
    assert answer.status_code == 200
    assert '<div id="app">' in answer.text


HALF = "\ud800"


def test_half_a_character_is_refused(raw):
    cursor = base64.urlsafe_b64encode(json.dumps(["hostname+", HALF, HALF]).encode()).decode()
    for path in ("/api/v1/devices", "/api/v1/activity"):
        answer = raw.get(path, params={"cursor": cursor})
        assert answer.status_code == 400, answer.text
    body = json.dumps({"calendar": HALF})
    answer = raw.post("/api/v1/days-off", content=body, headers={"Content-Type": "application/json"})
    assert answer.status_code == 422, answer.text
    body = json.dumps({"key": "half", "days_off": [HALF], "windows": [{"days": ["mon"], "from": "01:00", "to": HALF}]})
    answer = raw.post("/api/v1/schedules", content=body, headers={"Content-Type": "application/json"})
    assert answer.status_code == 422, answer.text


def test_a_device_hands_over_so_much_a_day_and_no_more(service, portero, raw):
    device = Wire(service, portero, "chatterbox")
    attempt = {"at": "2026-01-01T00:00:00Z", "url": "http://a.example/", "host": "a.example", "verdict": "block"}
    with service.keepers.store.writing() as connection:
        connection.execute(
            "UPDATE device SET rows_day = ?, rows_today = ? WHERE id = ?",
            (int(service.keepers.now() // 86_400), MOST_A_DAY - 2, device.id),
        )
    batch = {"batch": 1, "attempts": [{**attempt, "seq": seq} for seq in range(1, 6)]}
    answer = device.http.post("activity", json=batch).json()
    assert (answer["batch"], answer["new"], answer["dropped"]) == (1, 2, 3)
    assert device.http.post("activity", json=batch).json()["new"] == 0
    events = raw.get(f"/api/v1/devices/{device.id}/events").json()
    told = [event["what"] for event in events if "a day" in event["what"]]
    assert told == [f"handed over more than {MOST_A_DAY:,} entries of activity a day; the rest of today is not kept"]


def test_the_most_of_a_day_is_told_where_a_batch_ends_just_there(service, portero, raw):
    device = Wire(service, portero, "to-the-brim")
    attempt = {"at": "2026-01-01T00:00:00Z", "url": "http://a.example/", "host": "a.example", "verdict": "block"}
    with service.keepers.store.writing() as connection:
        connection.execute(
            "UPDATE device SET rows_day = ?, rows_today = ? WHERE id = ?",
            (int(service.keepers.now() // 86_400), MOST_A_DAY - 1, device.id),
        )
    for batch in (1, 2, 3):
        answer = device.http.post("activity", json={"batch": batch, "attempts": [{**attempt, "seq": batch}]}).json()
        assert answer["new"] == (1 if batch == 1 else 0)
    events = raw.get(f"/api/v1/devices/{device.id}/events").json()
    assert len([event for event in events if "a day" in event["what"]]) == 1


def test_a_foreign_host_is_not_told_back(service):
    for path in ("/console", "/", "/console/x/"):
        answer = httpx.get(service.url + path, headers={"Host": "evil.example"}, follow_redirects=False)
        assert "evil.example" not in answer.headers.get("location", ""), path
        assert "evil.example" not in answer.text, path


def test_the_sizes_of_another_class_are_not_told(service, portero):
    mine, theirs = Wire(service, portero, "mine"), Wire(service, portero, "theirs")
    portero.groups.create(group("their-group", all=[{"field": "hostname", "op": "is", "value": "theirs"}]))
    portero.rulesets.create(ruleset("their-rules", games="block"))
    portero.assignments.create(assignment("their-rules", "their-group"))
    own, foreign = mine.sync()[1]["bundle"], theirs.sync()[1]["bundle"]
    assert own != foreign
    whole = mine.http.get(f"bundle/{own}")
    told = mine.http.get(f"bundle/{own}", params={"from": foreign})
    assert "Portero-From" not in told.headers
    assert told.content == whole.content
    # and saying that it holds it makes no difference
    mine.check_in(have=foreign, revision=1)
    told = mine.http.get(f"bundle/{own}", params={"from": foreign})
    assert "Portero-From" not in told.headers


def test_one_device_cannot_push_the_epoch_away(service, portero):
    liar = Wire(service, portero, "liar")
    for epoch in (2**53, 10**12):
        assert liar.check_in(have="sha256:x", revision=2**53, epoch=epoch).status_code == 200
        assert portero.epoch.get().devices_ahead == 0
        assert portero.epoch.begin().epoch <= service.keepers.now() + 86_401


def test_asking_often_whether_it_is_ready_writes_once_a_second(raw, monkeypatch):
    tried: list[float] = []
    monkeypatch.setattr(Store, "check", lambda _self: tried.append(1.0))
    began = time.monotonic()
    for _ in range(50):
        assert raw.get("/readyz").status_code == 200
    assert len(tried) <= 1 + time.monotonic() - began
