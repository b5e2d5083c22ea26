"""Signing in under attack: who guesses waits, longer each time; who is right gets in; all others are answered."""

from __future__ import annotations

import threading
import time
from collections import Counter
from concurrent.futures import ThreadPoolExecutor

import httpx
import pytest
from argon2 import PasswordHasher

from conftest import eventually
from portero.service import signing_in
from portero.service.guessing import LONGEST_WAIT, TRIES, guessers_of, place_of
from portero.store import administrators, guesses
from serving import Served

RIGHT = "a long enough password"


@pytest.fixture
def served(tmp_path):
    made = Served.of(tmp_path / "service")
    for name in ("steward", "purser"):
        made.add(name, "reader", RIGHT)
    yield made
    made.stop()
    made.keepers.close()


def attempt(served, name: str, password: str = "wrong", address: str = "127.0.0.1") -> httpx.Response:
    """A try from one of the addresses that loopback has."""
    with httpx.Client(transport=httpx.HTTPTransport(local_address=address, verify=False), timeout=60) as http:
        return http.post(served.url + "/api/v1/session", json={"name": name, "password": password})


def statuses(served, names, address: str = "127.0.0.1") -> Counter[int]:
    return Counter(attempt(served, name, address=address).status_code for name in names)


def test_who_guesses_waits_and_longer_each_time(served, monkeypatch):
    assert statuses(served, ["steward"] * 5) == {401: 5}
    told = attempt(served, "steward", RIGHT)
    assert told.status_code == 429, "even the right one, from there"
    assert 0 < int(told.headers["Retry-After"]) <= 16
    assert "wait" in told.json()["detail"]
    waits = []
    guessing = served.keepers.guessing
    guessers = guessers_of("steward", "127.0.0.1")
    for _ in range(12):
        guessing.wrong(guessers)
        waits.append(guessing.wait(guessers))
    assert waits == pytest.approx(sorted(waits), abs=1)
    assert waits[1] > 1.9 * waits[0]
    assert waits[-1] == pytest.approx(LONGEST_WAIT, abs=2)


def test_a_restart_forgives_nothing(served):
    statuses(served, ["steward"] * 5)
    served.stop()
    served.keepers.close()
    again = Served.of(served.data)
    assert attempt(again, "steward").status_code == 429
    again.stop()
    again.keepers.close()


def test_guesses_at_the_same_time_count_each(served):
    with ThreadPoolExecutor(signing_in.MOST_OF_ONE) as pool:
        found = Counter(pool.map(lambda _number: attempt(served, "steward").status_code, range(40)))
    assert found[401] <= TRIES["name and address"]
    assert found[401] + found[429] == 40


def test_names_that_do_not_exist_are_throttled_alike(served):
    for name in ("steward", "nobody-of-that-name"):
        assert statuses(served, [name] * 8) == {401: 5, 429: 3}, name


def test_names_sprayed_from_one_address_are_throttled(served):
    found = statuses(served, [f"made-up-{number}" for number in range(40)])
    assert found == {401: TRIES["address"], 429: 40 - TRIES["address"]}


def test_the_rightful_person_on_another_address_still_gets_in(served):
    statuses(served, ["steward"] * 12)
    statuses(served, [f"made-up-{number}" for number in range(30)])
    assert attempt(served, "steward", RIGHT, address="127.0.0.2").status_code == 200
    assert attempt(served, "purser", RIGHT, address="127.0.0.3").status_code == 200


def test_a_name_that_reads_like_another_with_an_address_is_not_counted_for_that_one(served):
    statuses(served, ["steward from 127.0.0.2"] * 6)
    assert attempt(served, "steward", RIGHT, address="127.0.0.2").status_code == 200


def test_being_right_forgives_own_slips_but_not_what_else_came_from_there(served):
    for _ in range(3):
        statuses(served, ["steward"] * 4)
        assert attempt(served, "steward", RIGHT).status_code == 200
    assert attempt(served, "purser").status_code == 401
    with served.keepers.store.reading() as connection:
        found = guesses.of(connection, guessers_of("steward", "127.0.0.1").keys(), served.keepers.now())
    numbers = {guesser: made.number for guesser, made in found.items()}
    assert numbers == {"at steward from 127.0.0.1": 0, "from 127.0.0.1": 13, "at steward": 12}


def test_ten_thousand_names_clear_nothing(served):
    statuses(served, ["steward"] * 5)
    with served.keepers.store.writing() as connection:
        now = served.keepers.now()
        guesses.note(connection, [f"at made-up-{number}" for number in range(10_001)], now)
        guesses.forget(connection, now)
    assert attempt(served, "steward").status_code == 429


def test_guessers_are_forgotten_after_a_day_and_never_too_many_are_kept(served, monkeypatch):
    monkeypatch.setattr(guesses, "MOST_KEPT", 50)
    with served.keepers.store.writing() as connection:
        guesses.note(connection, ["old"], 1_000.0)
        guesses.note(connection, [f"new-{number}" for number in range(80)], 200_000.0)
        assert guesses.of(connection, ["old"], 200_000.0) == {}
        guesses.forget(connection, 200_000.0)
        (number,) = connection.execute("SELECT count(*) FROM guess").fetchone()
    assert number == 50


def test_an_ipv6_network_counts_as_one_address():
    assert place_of("2001:db8:1:2::1") == place_of("2001:db8:1:2:ffff::9") != place_of("2001:db8:1:3::1")
    assert place_of("192.0.2.7") != place_of("192.0.2.8")


def test_everybody_else_is_answered_while_many_sign_in(served, monkeypatch):
    looked: list[str] = []

    def slow(_hash: object, _password: object) -> bool:
        looked.append(threading.current_thread().name)
        time.sleep(0.05)
        return False

    monkeypatch.setattr(signing_in, "password_matches", slow)
    with ThreadPoolExecutor(100) as pool:
        waiting = [
            pool.submit(attempt, served, f"made-up-{number}", "x", f"127.0.1.{number + 1}") for number in range(100)
        ]
        eventually(lambda: looked)
        for _ in range(20):
            assert httpx.get(served.url + "/readyz", timeout=3).status_code == 200
        found = Counter(future.result().status_code for future in waiting)
    assert found[401] + found[429] == 100
    assert found[429] >= 100 - signing_in.MOST_WAITING - len(looked)
    assert set(looked) == {"signing in"}, "not on a thread that answers"


def test_it_rests_as_long_as_it_worked(served, monkeypatch):
    rested: list[float] = []
    monkeypatch.setattr(signing_in, "password_matches", lambda *_: time.sleep(0.1))
    real = time.sleep
    monkeypatch.setattr(signing_in, "rest", lambda seconds: (rested.append(seconds), real(0))[1])
    statuses(served, ["steward"] * 3)
    assert len(rested) >= 2
    assert all(seconds >= 0.1 for seconds in rested)


def test_a_hash_of_other_costs_is_made_anew_when_its_password_comes(served):
    with served.keepers.store.writing() as connection:
        administrators.rehash(
            connection, "steward", PasswordHasher(time_cost=1, memory_cost=1024, parallelism=1).hash(RIGHT)
        )
    assert attempt(served, "steward", RIGHT).status_code == 200
    with served.keepers.store.reading() as connection:
        assert "m=19456,t=2,p=1" in administrators.password_of(connection, "steward").hash
    assert attempt(served, "steward", RIGHT).status_code == 200
