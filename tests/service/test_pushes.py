"""Push: machines are told to ask now, and what each answers is kept."""

from __future__ import annotations

import threading
import time
from contextlib import suppress

import httpx
import pytest

from conftest import Wire, assignment, group, ruleset, signed
from portero.client import Invalid, NotAllowed, NotFound, Portero
from portero.core.nouns.device import NewDevice
from portero.core.nouns.enrolment import Invitations
from portero.core.nouns.push import NewPush
from portero.service import pushes
from serving import PASSWORD, Served


def machine(service: Served, portero: Portero, hostname: str, **facts: object) -> tuple[Wire, dict]:
    """A machine that holds what it should."""
    wire = Wire(service, portero, hostname, **facts)
    _, offered = wire.sync()
    return wire, {"have": offered["bundle"], "revision": offered["revision"]}


class Waiting(threading.Thread):
    """A machine that holds a request until it is woken."""

    def __init__(self, wire: Wire, held: dict) -> None:
        super().__init__(daemon=True)
        self.wire, self.held, self.woken = wire, held, 0.0
        self.start()
        time.sleep(0.3)

    def run(self) -> None:
        with suppress(httpx.HTTPError):
            # the service may be stopped first
            if self.wire.http.get("/wait", params={"have": self.held["have"]}).status_code == 200:
                self.woken = time.monotonic()


def only(portero: Portero, push) -> object:
    (receipt,) = portero.pushes.receipts(push.id)
    return receipt


def test_a_machine_that_holds_a_request_is_woken_and_its_receipt_goes_all_the_way(service, portero):
    wire, held = machine(service, portero, "within-reach")
    waiting = Waiting(wire, held)
    push = portero.pushes.create(NewPush(devices=("within-reach",), reason="tried at the desk"))
    assert (push.devices, push.told, push.scope, push.by) == (1, 1, "within-reach", "keeper")
    waiting.join(5)
    assert waiting.woken, "though nothing is new for it"
    portero.rulesets.create(ruleset("push-quiet", music="block"))
    portero.assignments.create(assignment("push-quiet", "whole-fleet"))
    offered = wire.check_in(woken=True, **held).json()
    assert only(portero, push).state == "told"
    wire.http.get("/bundle/" + offered["bundle"])
    fetched = only(portero, push)
    assert (fetched.state, fetched.applied_at) == ("fetched", None)
    wire.check_in(woken=True, have=offered["bundle"], revision=offered["revision"])
    receipt = only(portero, push)
    assert receipt.state == "applied"
    assert receipt.told_at <= receipt.fetched_at <= receipt.applied_at
    assert receipt.expected_at is None
    told = portero.pushes.get(push.id)
    assert (told.applied, told.sentence) == (1, "The machine holds what it should.")


def test_one_that_holds_what_it_should_answers_by_checking_in(service, portero):
    wire, held = machine(service, portero, "up-to-date")
    push = portero.pushes.create(NewPush(devices=("up-to-date",)))
    waits = only(portero, push)
    assert (waits.state, waits.told_at) == ("waiting", None)
    assert waits.last_heard < waits.expected_at
    assert wire.check_in(**held).status_code == 204
    receipt = only(portero, push)
    assert (receipt.state, receipt.fetched_at) == ("applied", None)


def test_one_that_is_off_is_told_as_soon_as_it_asks_whether_anything_is_new(service, portero):
    wire, held = machine(service, portero, "was-off")
    push = portero.pushes.create(NewPush(devices=("was-off",)))
    before = time.monotonic()
    assert wire.http.get("/wait", params={"have": held["have"]}).status_code == 200
    assert time.monotonic() - before < 5, "it is not held"
    assert only(portero, push).state == "told"
    waiting = Waiting(wire, held)
    time.sleep(0.5)
    assert not waiting.woken, "once is enough"


def test_why_a_machine_could_not_apply_it_is_on_its_receipt_until_it_could(service, portero):
    wire, held = machine(service, portero, "disk-full")
    push = portero.pushes.create(NewPush(devices=("disk-full",)))
    wire.check_in(**held, problem="there is no room left on its disk")
    assert (only(portero, push).state, only(portero, push).problem) == ("failed", "there is no room left on its disk")
    assert portero.pushes.get(push.id).failed == 1
    wire.check_in(**held)
    assert (only(portero, push).state, only(portero, push).problem) == ("applied", None)


def test_groups_and_all_that_wait_can_be_told(service, portero):
    portero.groups.create(group("lights", all=[{"field": "hostname", "op": "starts_with", "value": "light-"}]))
    lights = [machine(service, portero, f"light-{number}") for number in range(3)]
    push = portero.pushes.create(NewPush(group="lights", devices=("light-1",)))
    assert (push.devices, push.scope) == (3, "light-1 and group lights")
    assert [one.hostname for one in portero.pushes.receipts(push.id)] == ["light-0", "light-1", "light-2"]
    portero.rulesets.create(ruleset("push-lights", games="block"))
    portero.assignments.create(assignment("push-lights", "lights"))
    wire, held = lights[0]
    offered = wire.check_in(**held).json()
    wire.check_in(have=offered["bundle"], revision=offered["revision"])
    push = portero.pushes.create(NewPush(waiting=True))
    told = {one.hostname for one in portero.pushes.receipts(push.id)}
    assert {"light-1", "light-2"} <= told
    assert "light-0" not in told
    assert [one.state for one in portero.pushes.receipts(push.id, state="applied")] == []
    assert portero.pushes.list()[0].id == push.id


@pytest.mark.parametrize(
    ("asked", "problem", "says"),
    [
        ({}, Invalid, "say which machines"),
        ({"devices": ["nowhere"]}, NotFound, "no device “nowhere”"),
        ({"devices": ["till-1"]}, Invalid, "has never joined"),
        ({"group": "lihgts"}, NotFound, "did you mean “lights”"),
        ({"devices": ["x" * 300]}, Invalid, "255"),
        ({"devices": [], "group": "lights", "extra": 1}, Invalid, "extra"),
        ({"devices": ["a"] * 1_001}, Invalid, "1,000 at the most"),
        ({"group": "unmanned"}, Invalid, "none of those that are meant has joined"),
    ],
)
def test_what_cannot_be_told_is_refused_and_leaves_no_push(service, portero, asked, problem, says):
    if "till-1" not in {device.hostname for device in portero.devices.list()}:
        portero.enrolment.invite(Invitations(devices=(NewDevice(hostname="till-1"),)))
        hostname = {"field": "hostname", "op": "is", "value": "till-1"}
        portero.groups.create(group("unmanned", all=[hostname]))
    before = len(portero.pushes.list())
    answer = httpx.post(service.url + "/api/v1/pushes", json=asked, headers=signed(portero))
    assert answer.status_code == {Invalid: 422, NotFound: 404}[problem]
    assert says in answer.text
    assert len(portero.pushes.list()) == before
    with pytest.raises(NotFound, match="no push"):
        portero.pushes.get("nothing")


def test_responders_may_push_and_readers_may_not(service, portero):
    machine(service, portero, "anybodys")
    service.add("push-responder", "responder")
    service.add("push-reader", "reader")
    with service.client("push-responder", PASSWORD) as responder:
        assert responder.pushes.create(NewPush(devices=("anybodys",))).by == "push-responder"
    with service.client("push-reader", PASSWORD) as reader, pytest.raises(NotAllowed, match="role of a responder"):
        reader.pushes.create(NewPush(devices=("anybodys",)))
    acts = [entry.act for entry in portero.audit.list(limit=5)]
    assert "createPush" in acts


def test_receipts_live_on_over_a_restart_and_old_pushes_make_room(tmp_path):
    served = Served.of(tmp_path)
    with served.client() as portero:
        machine(served, portero, "kept")
        first = portero.pushes.create(NewPush(devices=("kept",)))
    password = served.password
    served.stop()
    served = Served.of(tmp_path)
    with served.client(password=password) as portero:
        assert only(portero, first).state == "waiting"
        for _ in range(pushes.MOST_PUSHES):
            portero.pushes.create(NewPush(devices=("kept",)))
        assert first.id not in {push.id for push in portero.pushes.list()}
        assert len(portero.pushes.list()) == pushes.MOST_PUSHES
        with pytest.raises(NotFound):
            portero.pushes.get(first.id)
    served.stop()


def test_many_that_answer_while_they_are_told_all_have_their_receipts(service, portero):
    portero.groups.create(group("crowd", all=[{"field": "hostname", "op": "starts_with", "value": "crowd-"}]))
    crowd = [machine(service, portero, f"crowd-{number}") for number in range(6)]
    ended = threading.Event()

    def keep_asking(wire: Wire, held: dict) -> None:
        while not ended.is_set():
            assert wire.check_in(**held).status_code in (200, 204)

    askers = [threading.Thread(target=keep_asking, args=one, daemon=True) for one in crowd]
    for asker in askers:
        asker.start()
    made = [portero.pushes.create(NewPush(group="crowd")) for _ in range(10)]
    ended.set()
    for asker in askers:
        asker.join()
    for wire, held in crowd:
        wire.check_in(**held)
    states = {receipt.state.value for push in made for receipt in portero.pushes.receipts(push.id)}
    assert states <= {"applied", "told"}
    assert [push.id for push in portero.pushes.list()[:10]] == [push.id for push in reversed(made)]
