"""The directory: nobody's is overwritten unseen, and one that lost many people waits to be looked at."""

from __future__ import annotations

import httpx
import pytest

from conftest import run_portero, signed
from portero.client.errors import ChangedMeanwhile, NotFound
from portero.core.nouns.directory import Directory, UserGroup


def people(*numbers: int) -> Directory:
    crew = tuple(f"watch-{number}" for number in numbers)
    return Directory(user_groups=(UserGroup(key="crew", users=crew),))


@pytest.fixture(scope="module")
def raw(service, portero):
    with httpx.Client(base_url=service.url, headers=signed(portero), timeout=20) as client:
        yield client


def test_a_directory_that_nobody_looked_at_is_not_overwritten(service, portero, raw):
    first = portero.directory.put(people(*range(9)))
    answer = raw.get("/api/v1/directory")
    assert answer.headers["ETag"] == f'"r{first.generation}"'
    assert raw.put("/api/v1/directory", json={}).status_code == 428
    second = portero.directory.put(people(*range(10)), version=first.generation)
    told = raw.put("/api/v1/directory", json={}, headers={"If-Match": answer.headers["ETag"]})
    assert told.status_code == 412
    assert f"brought in anew by keeper as generation {second.generation}" in told.json()["detail"]
    with pytest.raises(ChangedMeanwhile):
        portero.directory.put(people(1), version=first.generation)
    assert len(portero.directory.get().people) == 10


@pytest.mark.parametrize("left", [(), range(6), range(5, 11)])
def test_one_that_lost_a_third_of_the_people_waits_to_be_looked_at(service, portero, left):
    portero.directory.put(people(*range(9)))
    _take_if_waiting(portero)
    before = portero.directory.get()
    told = portero.directory.put(people(*left))
    assert (told.generation, len(told.people)) == (before.generation, 9)
    assert (told.waiting.lost >= 3, told.waiting.people) == (True, len(left))
    assert service.keepers.people.user_groups("watch-8") == {"crew"}
    waiting = [item for item in portero.worklist.get().items if "waits to be looked at" in item.sentence]
    assert [f"has lost {told.waiting.lost} people" in item.sentence for item in waiting] == [True]
    assert portero.directory.drop().waiting is None
    with pytest.raises(NotFound):
        portero.directory.take()
    portero.directory.put(people(*left))
    taken = portero.directory.take()
    assert (taken.people, taken.waiting) == (people(*left).people, None)
    assert service.keepers.people.user_groups("watch-3") == ({"crew"} if 3 in left else set())


def _take_if_waiting(portero) -> None:
    if portero.directory.get().waiting:
        portero.directory.take()


def test_one_that_lost_fewer_counts_at_once_in_place_of_what_waited(portero):
    portero.directory.put(people(*range(9)))
    _take_if_waiting(portero)
    assert portero.directory.put(people(1)).waiting is not None
    told = portero.directory.put(people(*range(7)))
    assert (len(told.people), told.waiting) == (7, None)


def test_the_commands(service, portero, tmp_path):
    environment = {
        "PORTERO_URL": service.url,
        "PORTERO_TOKEN": signed(portero)["Authorization"].removeprefix("Bearer "),
    }
    portero.directory.put(people(*range(9)))
    _take_if_waiting(portero)
    file = tmp_path / "people.yaml"
    file.write_text("user_groups:\n  - key: crew\n    users: [watch-1]\n")
    told = run_portero("directory", "put", file, env=environment).stdout
    assert "has lost 8 people and waits to be looked at" in told
    assert "portero directory take" in told
    assert "waits to be looked at" in run_portero("directory", "show", env=environment).stdout
    assert "counts now: 1 user group" in run_portero("directory", "take", env=environment).stdout
    assert "No generation" in run_portero("directory", "drop", env=environment, expect=1).stderr


def test_people_are_found_by_part_of_their_names(portero):
    people = {
        "users": ["Mate-1"],
        "user_groups": [
            {"key": "Watch", "users": ["mate-1", "purser-2"], "user_groups": []},
            {"key": "crew", "user_groups": ["Watch"]},
        ],
    }
    if portero.directory.put(Directory.model_validate(people)).waiting:
        portero.directory.take()
    found = portero.directory.find("MATE")
    assert [(person.user, person.user_groups) for person in found.people] == [("Mate-1", ("crew", "Watch"))]
    assert (found.people_in_all, found.user_groups) == (1, ())
    assert portero.directory.find("w").user_groups == ("crew", "Watch")
    few = portero.directory.find("-", limit=1)
    assert (len(few.people), few.people_in_all) == (1, 2)
