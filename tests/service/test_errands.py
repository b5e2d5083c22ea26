"""Errands: a machine is asked to open a page now, and what it tells."""

from __future__ import annotations

import httpx
import pytest
from test_pushes import Waiting, machine

from conftest import Wire
from portero.client import Invalid, NotFound
from portero.core.nouns.device import Device
from portero.core.nouns.errand import ErrandAnswer, NewErrand, OpenedPage
from portero.service.errands import GIVEN_UP, KEPT, MOST_OF_DEVICE, Errands
from portero.service.live import Live
from portero.service.problems import Refusal

pytestmark = pytest.mark.process
PAGE = {
    "browser": "chromium",
    "outcome": "opened",
    "at_url": "http://a.example/",
    "hosts": [{"host": "a.example", "uses": ["page"], "requests": 2}],
}


def asked(url: str = "http://a.example/") -> NewErrand:
    return NewErrand(url=url, browser="chromium")


def test_a_machine_within_reach_is_woken_takes_the_errand_once_and_answers(service, portero):
    wire, held = machine(service, portero, "errand-pc")
    waiting = Waiting(wire, held)
    errand = portero.errands.create("errand-pc", asked())
    assert (errand.state, errand.hostname, errand.by) == ("waiting", "errand-pc", "keeper")
    waiting.join(5)
    assert waiting.woken
    assert wire.check_in(woken=True, **held).headers["Portero-Errands"] == "yes"
    assert wire.http.get("/errands").json() == [{"id": errand.id, "url": "http://a.example/", "browser": "chromium"}]
    assert wire.http.get("/errands").json() == []
    assert "Portero-Errands" not in wire.check_in(**held).headers
    assert portero.errands.get(errand.id).state == "taken"
    assert wire.http.post(f"/errands/{errand.id}", json={"page": PAGE}).status_code == 204
    done = portero.errands.done(errand)
    assert (done.state, done.page.hosts[0].host, done.problem) == ("answered", "a.example", None)
    assert wire.http.post(f"/errands/{errand.id}", json={"page": PAGE}).status_code == 404, "it is answered once"


def test_a_machine_that_cannot_says_why_and_no_other_may_answer_for_it(service, portero):
    wire, _ = machine(service, portero, "errand-kiosk")
    other = Wire(service, portero, "errand-other")
    errand = portero.errands.create("errand-kiosk", asked())
    assert other.http.get("/errands").json() == []
    assert other.http.post(f"/errands/{errand.id}", json={"page": PAGE}).status_code == 404
    assert wire.http.post(f"/errands/{errand.id}", json={"page": {"browser": ""}}).status_code == 422
    wire.http.post(f"/errands/{errand.id}", json={"problem": "there is no chromium on this machine"})
    done = portero.errands.get(errand.id)
    assert (done.state, done.problem) == ("failed", "there is no chromium on this machine")


def test_what_cannot_be_asked_is_refused(service, portero):
    with pytest.raises(NotFound):
        portero.errands.create("nobody", asked())
    with pytest.raises(NotFound, match="no errand “abc”"):
        portero.errands.get("abc")
    machine(service, portero, "errand-busy")
    for _ in range(MOST_OF_DEVICE):
        portero.errands.create("errand-busy", asked())
    with pytest.raises(Invalid, match="has 5 errands to do already"):
        portero.errands.create("errand-busy", asked())
    answer = httpx.post(service.url + "/device/v1/errands/abc", json={})
    assert answer.status_code == 401


def test_an_errand_that_nobody_answers_is_given_up_and_then_forgotten():
    now = [1_000.0]
    errands = Errands(Live(), lambda: now[0])
    device = Device.model_construct(id="d1", hostname="pc")
    errand = errands.ask(device, asked(), "somebody")
    assert errands.awaits("d1")
    assert not errands.awaits("d1"), "told once, or a held request would end again and again"
    assert errands.awaits("d1", again=True)
    now[0] += GIVEN_UP + 1
    told = errands.get(errand.id)
    assert (told.state, told.page) == ("failed", None)
    assert "did not answer in time" in told.problem
    assert errands.take("d1") == []
    with pytest.raises(Refusal):
        errands.answered("d1", errand.id, ErrandAnswer(page=OpenedPage.model_validate(PAGE)))
    now[0] += KEPT
    errands.ask(device, asked(), "somebody")
    with pytest.raises(Refusal):
        errands.get(errand.id)
