"""What devices speak: joining, checking in, bundles, activity, waking, and every way to get it wrong."""

from __future__ import annotations

import threading
import time

import httpx
import pytest

from conftest import Wire, assignment, eventually, group, ruleset, signed, under
from portero.core.nouns.assignment import Assignment
from portero.core.nouns.enrolment import NewEnrolmentCode
from portero.formats.index_files import IndexFile
from portero.formats.manifests import open_manifest

pytestmark = pytest.mark.process


@pytest.fixture
def wire(service, portero, request):
    return Wire(service, portero, f"wire-{abs(hash(request.node.name)) % 10_000}")


def test_a_device_joins_gets_its_bundle_and_is_current(portero, wire):
    portero.groups.create(group("wire-office", all=[under("brackwater/office")]))
    portero.rulesets.create(ruleset("wire-quiet", music="block"))
    portero.assignments.create(assignment("wire-quiet", "wire-office"))
    assert portero.devices.get(wire.id).rollout.state == "waiting"
    bundle, offered = wire.sync()
    assert [one.ruleset for one in bundle.assignments] == ["wire-quiet"]
    device = portero.devices.get(wire.id)
    assert (device.rollout.state, device.groups) == ("current", ("wire-office", "whole-fleet"))
    tagged = {"If-None-Match": f'"{offered["bundle"]}"'}
    again = wire.http.get("/bundle/" + offered["bundle"], headers=tagged)
    assert (again.status_code, again.content) == (304, b"")
    index = open_manifest(offered["manifest"], wire.key).index
    base = wire.http.get("/index/" + index).json()["base"]
    whole = wire.http.get("/index-file/" + base["digest"])
    assert IndexFile(whole.content).get("lucky-reef.example") == ("gambling",)
    rest = wire.http.get("/index-file/" + base["digest"], headers={"Range": "bytes=1000-"})
    assert (rest.status_code, rest.content) == (206, whole.content[1000:])
    assert wire.http.get("/index/" + index, headers={"If-None-Match": f'"{index}"'}).status_code == 304


def test_a_waiting_device_is_woken_by_a_change_that_touches_it_and_by_no_other(portero, wire):
    _, offered = wire.sync()
    portero.rulesets.create(ruleset("wake", games="block"))
    woken: list[float] = []

    def wait() -> None:
        assert wire.http.get("/wait", params={"have": offered["bundle"]}).status_code == 200
        woken.append(time.monotonic())

    thread = threading.Thread(target=wait)
    thread.start()
    time.sleep(0.5)
    portero.groups.create(group("elsewhere", all=[under("brackwater/ships")]))
    portero.assignments.create(assignment("wake", "elsewhere"))
    time.sleep(0.5)
    assert not woken, "nothing has changed for this device"
    before = time.monotonic()
    portero.assignments.create(assignment("wake", "whole-fleet"))
    thread.join(10)
    assert woken[0] - before < 5
    assert wire.check_in(have=offered["bundle"], revision=offered["revision"]).status_code == 200


def test_a_device_that_changes_groups_goes_forward_never_back(portero, service):
    device = Wire(service, portero, "mover")
    portero.groups.create(group("movers", all=[{"field": "kind", "op": "is", "value": "kiosk"}]))
    portero.rulesets.create(ruleset("kiosk-own", news="block"))
    portero.assignments.create(assignment("kiosk-own", "movers"))
    settled = Wire(service, portero, "settled", kind="kiosk")
    settled.sync()
    portero.rulesets.create(ruleset("office-own", news="warn"))
    portero.assignments.create(assignment("office-own", "unclaimed"))
    _, before = device.sync()
    moved = device.check_in(facts={**device.facts, "kind": "kiosk"}, have=before["bundle"], revision=before["revision"])
    assert moved.json()["revision"] >= before["revision"]
    assert "movers" in portero.devices.get("mover").groups


def test_activity_that_is_sent_twice_counts_once(portero, wire):
    attempt = {
        "seq": 1,
        "at": "2026-11-01T10:00:00Z",
        "url": "http://lucky-reef.example/",
        "host": "lucky-reef.example",
        "verdict": "block",
        "reference": "ABCD-EFGH",
    }
    batch = {
        "batch": 1,
        "attempts": [attempt],
        "counts": [{"hour": "2026-11-01T10:00:00Z", "host": "news.example", "visits": 3}],
    }
    answers = [wire.http.post("/activity", json=batch).json() for _ in range(3)]
    assert [answer["new"] for answer in answers] == [1, 0, 0]
    found = list(portero.activity.list(device=wire.id))
    assert [one.reference for one in found] == ["ABCD-EFGH"]
    assert next(portero.activity.list(reference="abcd-efgh")).hostname == found[0].hostname
    future = {**attempt, "seq": 2, "at": "2099-01-01T00:00:00Z"}
    wire.http.post("/activity", json={"batch": 2, "attempts": [future]})
    newest = next(portero.activity.list(device=wire.id))
    assert newest.at == newest.received_at, "the service's time rules"


def test_starts_are_listed_beside_visits(portero, wire):
    program = {"product": "Deckhand Viewer", "version": "4.1", "path": "/opt/viewer"}
    start = {"seq": 1, "at": "2026-11-01T10:00:00Z", "start": program, "parent": "/usr/bin/dash", "user": "fitter-2"}
    visit = {"seq": 2, "at": "2026-11-01T10:00:00Z", "url": "http://viewer.example/", "host": "viewer.example"}
    attempts = [{**one, "verdict": "block"} for one in (start, visit)]
    wire.http.post("/activity", json={"batch": 1, "attempts": attempts})
    assert len(list(portero.activity.list(device=wire.id))) == 2
    found = list(portero.activity.list(device=wire.id, program="hand view"))
    assert [(one.tried, one.parent, one.url, one.host) for one in found] == [
        ("Deckhand Viewer", "/usr/bin/dash", None, None)
    ]
    assert [one.host for one in portero.activity.list(device=wire.id, host="viewer")] == ["viewer.example"]


@pytest.mark.parametrize(
    "broken",
    [{}, {"url": "http://a.example/"}, {"url": "http://a.example/", "host": "a.example", "start": {"file": "a"}}],
)
def test_an_attempt_is_either_a_visit_or_a_start(wire, broken):
    attempt = {"seq": 1, "at": "2026-11-01T10:00:00Z", "verdict": "block", **broken}
    answer = wire.http.post("/activity", json={"batch": 1, "attempts": [attempt]})
    assert answer.status_code == 422
    assert "either a visit" in answer.text


def test_visits_to_test_hosts_are_left_out_unless_asked_for(portero, wire):
    host = "gambling.category.test"
    attempt = {"seq": 1, "at": "2026-11-01T10:00:00Z", "url": f"http://{host}/", "host": host, "verdict": "block"}
    wire.http.post("/activity", json={"batch": 1, "attempts": [attempt]})
    assert not list(portero.activity.list(device=wire.id))
    assert [one.test for one in portero.activity.list(device=wire.id, tests=True)] == [True]


def test_a_failure_to_apply_is_told_until_it_is_mended(portero, wire):
    wire.sync()
    portero.rulesets.create(ruleset("breaks", sport="block"))
    portero.assignments.create(assignment("breaks", "whole-fleet"))
    wire.check_in(problem="the bundle is damaged")
    rollout = portero.devices.get(wire.id).rollout
    assert (rollout.state, rollout.problem) == ("failed", "the bundle is damaged")
    wire.sync()
    assert portero.devices.get(wire.id).rollout.state == "current"


def test_a_device_gets_nobody_elses_bundle_and_no_administrators_page(portero, service, wire):
    portero.groups.create(group("secret", all=[{"field": "hostname", "op": "is", "value": "other-one"}]))
    portero.rulesets.create(ruleset("secret", news="warn"))
    portero.assignments.create(assignment("secret", "secret"))
    other = Wire(service, portero, "other-one")
    _, offered = other.sync()
    assert wire.http.get("/bundle/" + offered["bundle"]).status_code == 404
    credential = wire.http.headers["Authorization"]
    assert httpx.get(service.url + "/api/v1/devices", headers={"Authorization": credential}).status_code == 401


def test_a_device_that_holds_a_foreign_bundle_is_told_its_own_and_gets_no_other(portero, service):
    # as after a restore from a backup that never saw the bundle
    wire = Wire(service, portero, "stranger")
    offered = wire.check_in(have="sha256:never-made-here", revision=7).json()
    assert portero.devices.get(wire.id).rollout.state == "waiting"
    assert wire.http.get("/bundle/sha256:never-made-here").status_code == 404
    assert wire.http.get("/bundle/" + offered["bundle"]).status_code == 200


@pytest.mark.parametrize(
    ("path", "body", "status"),
    [
        ("/check-in", b"{", 400),
        ("/check-in", b"[]", 400),
        ("/check-in", b'{"hvae": "x"}', 400),
        ("/check-in", b'{"facts": {"hostname": "a b"}}', 422),
        ("/check-in", b'{"facts": {"hostname": "a", "unknown": 1}}', 422),
        ("/check-in", b'{"facts": {"hostname": "a", "zone": "Mars/Base"}}', 422),
        ("/check-in", b'{"facts": {"hostname": "a", "addresses": ["1.2.3"]}}', 422),
        ("/check-in", b"[" * 100_000, 400),
        ("/activity", b"{}", 422),
        ("/activity", b'{"batch": 1, "attempts": [{"seq": 0}]}', 422),
        ("/activity", b'{"batch": 1, "attempts": [{"seq": 1, "at": "yesterday"}]}', 422),
        ("/activity", b"\xff", 422),
        ("/join", b'{"code": "WRONG", "facts": {"hostname": "a"}}', 403),
        ("/join", b'{"code": 7}', 400),
    ],
)
def test_bad_messages_are_told_and_change_nothing(portero, wire, path, body, status):
    before = (portero.devices.get(wire.id).facts, portero.devices.rollout())
    answer = wire.http.post(path, content=body)
    assert (answer.status_code, answer.headers["content-type"]) == (status, "application/problem+json"), answer.text
    assert (portero.devices.get(wire.id).facts, portero.devices.rollout()) == before


def test_a_code_is_good_as_often_as_it_says(portero, service):
    code = portero.enrolment.create_code(NewEnrolmentCode(uses=2, labels={"wave": "first"})).code
    facts = {"hostname": "uses"}
    joins = [
        httpx.post(service.url + "/device/v1/join", json={"code": code, "facts": facts}).status_code for _ in range(3)
    ]
    assert joins == [201, 201, 403]
    answer = httpx.get(service.url + "/api/v1/devices/uses", headers=signed(portero))
    assert (answer.status_code, "say which by its id" in answer.json()["detail"]) == (409, True)
    assert all(device.labels == {"wave": "first"} for device in portero.devices.list(search="uses"))


def test_wrong_codes_are_slowed_down_and_right_ones_are_not(service, portero):
    statuses = {
        httpx.post(service.url + "/device/v1/join", json={"code": f"X{n}", "facts": {"hostname": "x"}}).status_code
        for n in range(9)
    }
    assert statuses == {403, 429}
    assert Wire(service, portero, "still-welcome").id


def test_lists_of_devices_filter_sort_and_page(portero, service):
    found = list(portero.devices.list(unit="brackwater/office", sort="hostname", descending=True))
    names = [device.hostname for device in found]
    assert names == sorted(names, reverse=True)
    assert len(names) > 3
    headers = signed(portero)
    page = httpx.get(service.url + "/api/v1/devices?limit=2&sort=last_heard", headers=headers).json()
    assert (len(page["items"]), page["total"] >= len(names)) == (2, True)
    after = httpx.get(
        service.url + "/api/v1/devices",
        params={"limit": 2, "sort": "last_heard", "cursor": page["next"]},
        headers=headers,
    ).json()
    assert not {one["id"] for one in page["items"]} & {one["id"] for one in after["items"]}
    assert not list(portero.devices.list(search="100%_nothing"))
    assert {device.hostname for device in portero.devices.list(group="secret")} == {"other-one"}
    eventually(lambda: portero.devices.rollout().current >= 1)


def test_a_paused_assignment_leaves_the_bundle_and_comes_back_the_same(portero, wire):
    portero.rulesets.create(ruleset("onoff", humour="block"))
    made = portero.assignments.create(assignment("onoff", "whole-fleet"))
    _, on = wire.sync()
    portero.assignments.put(Assignment(key=made.key, ruleset="onoff", to=made.to, state="paused"), version=made.version)
    bundle, off = wire.sync()
    assert "onoff" not in [one.ruleset for one in bundle.assignments]
    portero.assignments.set_state(made.key, "active")
    _, again = wire.sync()
    assert (again["bundle"], again["revision"] > off["revision"]) == (on["bundle"], True)
