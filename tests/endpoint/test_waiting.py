"""How long a request is held, and what an endpoint does when many are woken at once."""

from __future__ import annotations

import asyncio

import httpx
import pytest

from conftest import run_async
from portero.endpoint import waiting
from portero.endpoint.calls import ServiceUnreachable
from portero.endpoint.waiting import Hold


class Service:
    """Answers a held request as it is told, after some seconds of a clock of its own."""

    def __init__(self, monkeypatch) -> None:
        self.now, self.asked, self.slept = 0.0, [], []
        monkeypatch.setattr(waiting.time, "monotonic", lambda: self.now)
        monkeypatch.setattr(waiting.random, "uniform", lambda _low, high: high)

        async def sleep(seconds: float) -> None:
            self.slept.append(seconds)

        monkeypatch.setattr(waiting.asyncio, "sleep", sleep)

    def answering(self, after: float, answer: httpx.Response | None):
        async def call(_method: str, _path: str, params: dict[str, str], **options: float) -> httpx.Response:
            self.asked.append(float(params["hold"]))
            assert options["timeout"] > self.asked[-1]
            self.now += after
            if answer is None:
                raise ServiceUnreachable("the service answered 504")
            return answer

        return call


@pytest.fixture
def service(monkeypatch):
    return Service(monkeypatch)


def held(hold: Hold, call) -> bool:
    return run_async(hold.wait(call, {"have": "sha256:x"}))


def test_a_proxy_that_cuts_requests_off_has_them_asked_for_shorter(service):
    hold = Hold()
    assert held(hold, service.answering(30.0, None)) is False
    assert held(hold, service.answering(24.0, httpx.Response(204))) is False
    assert service.asked == [55.0, 24.0]
    # and for somewhat longer again, where it was not cut off
    held(hold, service.answering(25.0, httpx.Response(204)))
    assert service.asked[-1] == pytest.approx(25.2)


def test_it_never_gets_shorter_than_a_bound_nor_longer_than_the_first(service):
    hold = Hold()
    for _ in range(20):
        held(hold, service.answering(5.0, None))
    assert hold.seconds == waiting.LEAST_HOLD
    for _ in range(100):
        held(hold, service.answering(5.0, httpx.Response(204)))
    assert hold.seconds == waiting.FIRST_HOLD


def test_a_service_that_is_away_is_told_and_says_nothing_of_what_lies_between(service):
    hold = Hold()
    with pytest.raises(ServiceUnreachable):
        held(hold, service.answering(0.1, None))
    assert hold.seconds == waiting.FIRST_HOLD


@pytest.mark.parametrize(
    ("body", "seconds"),
    [
        (b'{"news": true, "spread": 12.5}', 12.5),
        (b'{"news": true, "spread": 1e9}', waiting.MOST_SPREAD),
        (b'{"news": true, "spread": -4}', 0.0),
        (b'{"news": true, "spread": "soon"}', 0.0),
        (b'{"news": true}', 0.0),
        (b"[]", 0.0),
        (b"<html>", 0.0),
    ],
)
def test_where_many_are_woken_each_takes_its_time_within_bounds(service, body, seconds):
    assert held(Hold(), service.answering(1.0, httpx.Response(200, content=body))) is True
    assert service.slept == [seconds]


def test_the_service_says_how_far_they_spread():
    from portero.service import live

    async def woken() -> list[float]:
        waits = live.Live()
        waits.start(asyncio.get_running_loop())
        held = [waits.device_waits(f"device-{number}", number % 3) for number in range(3_000)]
        news = [one.__enter__() for one in held]
        waits.wake({0, 1})
        await asyncio.sleep(0)
        spreads = [one.spread for one in news if await one.within(0)]
        for one in held:
            one.__exit__(None, None, None)
        assert waits.held == 0
        return spreads

    assert run_async(woken()) == [2_000 / live.WOKEN_A_SECOND] * 2_000
