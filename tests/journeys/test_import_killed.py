"""An import killed with SIGKILL at random points leaves the old index or the new one, never a mixture."""

from __future__ import annotations

import random
import time

import pytest

from conftest import Service
from portero.client import Portero
from portero.core.nouns.feed import Feed
from thorough import times

pytestmark = [pytest.mark.process, pytest.mark.timeout(600)]
KILLS, HOSTS = times(4, 10), 40_000


def a_list(number: int) -> bytes:
    """Every host in one category: which one tells the generation."""
    category = ("games", "music", "sport", "news")[number % 4]
    return "".join(f"host-{n}.example,{category}\n" for n in range(HOSTS)).encode()


def test_an_import_that_is_killed_leaves_one_index_or_the_other(tmp_path):
    chance, data = random.Random(12), tmp_path / "data"
    service = Service(data)
    password = service.password
    with service.client() as portero:
        feed = {"key": "list", "kind": "categories", "format": "csv"}
        portero.feeds.create(Feed.model_validate(feed))
        path = tmp_path / "list.csv"
        path.write_bytes(a_list(0))
        portero.feeds.send("list", path)
        began = time.monotonic()
        assert portero.feeds.finished("list").in_force.number == 1
        takes = time.monotonic() - began
    seen = {0}
    current = 0
    for kill in range(1, KILLS + 1):
        path.write_bytes(a_list(kill))
        with service.client(password=password) as portero:
            portero.feeds.send("list", path)
            if kill < KILLS:
                time.sleep(chance.uniform(0, takes * 1.3))
            else:
                portero.feeds.finished("list")  # one of them is done for certain
        service.kill()
        service = Service(data)
        with service.client(password=password) as portero:
            current = after(portero, current, kill)
        seen.add(current)
    service.stop()
    assert len(seen) > 1, "some imports were done before the kill"


def after(portero: Portero, before: int, killed: int) -> int:
    """Which list counts after a kill; all that the service tells fits it."""
    names = ("games", "music", "sport", "news")
    hosts = [f"host-{n}.example" for n in range(0, HOSTS, 1999)]
    found = {portero.categories.look_up(host).categories for host in hosts}
    assert len(found) == 1, f"a mixture: {found}"
    (category,) = found.pop()
    counts = next(number for number in (killed, before) if names[number % 4] == category)
    feed = portero.feeds.get("list")
    assert (feed.in_force.entries, feed.progress) == (HOSTS, None)
    assert feed.in_force.state == "in force"
    index = portero.feeds.category_index()
    assert index.hosts == HOSTS
    assert index.generations == {"list": feed.in_force.number}
    assert portero.feeds.compare("list", feed.in_force.number).number == feed.in_force.number
    return counts
