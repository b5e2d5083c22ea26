"""The category index on a machine: fetched in pieces, as differences, checked; bundles as differences too."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from pathlib import Path

import httpx
import pytest

from conftest import assignment, run_async
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.device import Facts
from portero.core.nouns.enrolment import NewEnrolmentCode
from portero.core.nouns.feed import Feed
from portero.core.nouns.indicator import RulesEdit
from portero.core.nouns.rule import Rule
from portero.core.nouns.ruleset import Ruleset
from portero.endpoint import category_index, held_policy
from portero.endpoint.agent import Agent
from portero.endpoint.folder import Folder

pytestmark = pytest.mark.process


def bring(portero, tmp_path: Path, text: str) -> None:
    file = tmp_path / "list.csv"
    file.write_text(text)
    portero.feeds.send("list", file)
    found = portero.feeds.finished("list")
    if found.waiting:  # most of what there was is gone
        portero.feeds.take("list")


@pytest.fixture(scope="module")
def feed(portero):
    portero.feeds.create(Feed.model_validate({"key": "list", "kind": "categories", "format": "csv"}))
    rules = [{"category": "games", "action": "block"}, {"category": "music", "action": "warn"}]
    portero.rulesets.create(Ruleset.model_validate({"key": "quiet", "kind": "category", "rules": rules}))
    portero.assignments.create(assignment("quiet", "whole-fleet"))


class Counting(httpx.AsyncBaseTransport):
    """Notes what is fetched and how much, and can break a link after some bytes, or alter an answer on its way."""

    def __init__(self) -> None:
        self.fetched: list[tuple[str, int]] = []
        self.breaks_after: int | None = None
        self.breaks = "index-file"
        """What is on its way as the link breaks."""
        self.alters: dict[str, Callable[[bytes], bytes]] = {}
        """What becomes of the next answer of some sort."""

    async def handle_async_request(self, request: httpx.Request) -> httpx.Response:
        # one for each request: each check-in has a loop of its own
        async with httpx.AsyncHTTPTransport() as inner:
            answer = await inner.handle_async_request(request)
            body = await answer.aread()
        part = request.url.path.split("/")[3]
        if self.breaks_after is not None and part == self.breaks and len(body) > self.breaks_after:
            cut, self.breaks_after = self.breaks_after, None
            return httpx.Response(answer.status_code, headers=answer.headers, stream=_Broken(body[:cut]))
        body = self.alters.pop(part, bytes)(body)
        self.fetched.append((part, len(body)))
        headers = {name: value for name, value in answer.headers.items() if name != "content-length"}
        return httpx.Response(answer.status_code, headers=headers, content=body)

    def of(self, part: str) -> list[int]:
        return [size for name, size in self.fetched if name == part]


class _Broken(httpx.AsyncByteStream):
    def __init__(self, data: bytes) -> None:
        self._data = data

    async def __aiter__(self):
        yield self._data
        await asyncio.sleep(0)
        raise httpx.ReadError("the link is gone")


@pytest.fixture
def machine(portero, service, tmp_path, feed):
    """A machine that has joined, with what it fetches counted."""
    code = portero.enrolment.create_code(NewEnrolmentCode()).code
    folder, link = Folder(tmp_path / "machine"), Counting()

    async def join() -> None:
        async with httpx.AsyncClient() as http:
            await Agent.join(folder, http, service.url, code, Facts(hostname=f"laptop-{tmp_path.name[-8:]}"))

    run_async(join())
    return folder, link


def check_in(machine) -> Agent:
    """What the machine is like after a check-in."""

    async def once() -> Agent:
        async with httpx.AsyncClient(transport=machine[1]) as http:
            agent = Agent(machine[0], http)
            await agent.check_in()
            return agent

    return run_async(once())


def test_a_machine_fetches_the_base_once_and_then_differences(machine, portero, tmp_path):
    hosts = "".join(f"host-{n}.example,games\n" for n in range(20_000))
    bring(portero, tmp_path, hosts)
    agent = check_in(machine)
    assert agent.rule("http://host-7.example/").verdict == "block"
    (base,) = machine[1].of("index-file")
    assert base > 50_000
    machine[1].fetched.clear()
    bring(portero, tmp_path, hosts.replace("host-7.example,games", "host-7.example,music") + "new.example,games\n")
    agent = check_in(machine)
    assert [agent.rule(f"http://{host}.example/").verdict for host in ("host-7", "host-8", "new")] == [
        "warn",
        "block",
        "block",
    ]
    (difference,) = machine[1].of("index-file")
    assert difference < base / 10
    assert machine[1].of("bundle") in ([], [0]), "the bundle is the same"
    machine[1].fetched.clear()
    check_in(machine)
    assert machine[1].fetched == [("check-in", 0)]
    index = portero.feeds.category_index()
    assert (index.hosts, index.devices_current) == (20_001, 1)


def test_a_machine_with_an_older_index_is_told_of_where_that_counts(machine, portero, tmp_path):
    bring(portero, tmp_path, "".join(f"told-{n}.example,games\n" for n in range(3_000)))
    device = check_in(machine).identity.device

    def caveats(url: str) -> list[str]:
        found = portero.checks.check(Attempt(device=device, url=url))
        return [caveat.code.value for caveat in found.effective.caveats if caveat.code.value.startswith("stale")]

    assert caveats("http://told-7.example/") == []
    assert portero.devices.get(device).applied_index == portero.feeds.category_index().digest
    bring(portero, tmp_path, "".join(f"told-{n}.example,music\n" for n in range(3_000)))
    assert caveats("http://told-7.example/") == ["stale-index"]
    assert caveats("http://games.category.test/") == []
    check_in(machine)
    assert caveats("http://told-7.example/") == []


def test_a_link_that_breaks_goes_on_where_it_broke(machine, portero, tmp_path):
    bring(portero, tmp_path, "".join(f"link-{n}.example,games\n" for n in range(20_000)))
    machine[1].breaks_after = 30_000
    with pytest.raises(RuntimeError, match="broke off on its way"):
        check_in(machine)
    agent = check_in(machine)
    assert agent.rule("http://link-7.example/").verdict == "block"
    (rest,) = machine[1].of("index-file")
    whole = portero.feeds.category_index().base_bytes
    assert rest == whole - 30_000


def test_an_index_that_somebody_altered_is_not_believed(machine, portero, tmp_path):
    bring(portero, tmp_path, "".join(f"kept-{n}.example,games\n" for n in range(5_000)))
    check_in(machine)
    folder = machine[0].path / "index"
    biggest = max(folder.iterdir(), key=lambda file: file.stat().st_size)
    biggest.write_bytes(biggest.read_bytes().replace(b'["games"]', b'["music"]'))

    async def started() -> Agent:
        # as a program that starts anew: nothing is remembered
        category_index.open_index.cache_clear()
        held_policy._rulings_of.cache_clear()
        async with httpx.AsyncClient() as http:
            return Agent(machine[0], http)

    assert "missing or damaged" in (run_async(started()).problem or "")
    assert check_in(machine).rule("http://kept-7.example/").verdict == "block", "it is fetched anew"


def test_a_bundle_that_changed_a_little_travels_as_a_difference(machine, portero):
    rules = [{"host": f"{n * 7919:x}.listed.example", "action": "block"} for n in range(5_000)]
    portero.rulesets.create(Ruleset.model_validate({"key": "listed", "kind": "indicator", "rules": rules}))
    portero.assignments.create(assignment("listed", "whole-fleet"))
    check_in(machine)
    whole = max(machine[1].of("part"))
    machine[1].fetched.clear()
    portero.indicators.edit("listed", RulesEdit(put=(Rule(host="one-more.example", action="block"),)))
    agent = check_in(machine)
    assert agent.rule("http://one-more.example/").verdict == "block"
    assert agent.rule("http://0.listed.example/").verdict == "block"
    (document,), (difference,) = machine[1].of("bundle"), machine[1].of("part")
    assert max(document, difference) < 1_500 < whole


def test_a_difference_that_was_damaged_on_its_way_is_replaced_by_the_whole(machine, portero):
    check_in(machine)
    for number, damage in enumerate((lambda body: body[:-9], lambda body: b"\xff" * len(body))):
        machine[1].fetched.clear()
        machine[1].alters = {"part": damage}
        portero.indicators.edit("listed", RulesEdit(put=(Rule(host=f"more-{number}.example", action="block"),)))
        agent = check_in(machine)
        assert agent.rule(f"http://more-{number}.example/").verdict == "block"
        difference, whole = machine[1].of("part")
        assert difference < 1_000 < whole


def test_a_part_that_broke_off_is_gone_on_with(machine, portero):
    rules = [{"host": f"{n * 104_729:x}.broken.example", "action": "block"} for n in range(5_000)]
    portero.rulesets.create(Ruleset.model_validate({"key": "broken", "kind": "indicator", "rules": rules}))
    portero.assignments.create(assignment("broken", "whole-fleet"))
    machine[1].breaks_after, machine[1].breaks = 5_000, "part"
    # few are lacking: each is fetched by itself
    with pytest.raises(RuntimeError, match="part broke off on its way"):
        check_in(machine)
    machine[1].fetched.clear()
    agent = check_in(machine)
    assert agent.rule("http://0.broken.example/").verdict == "block"
    sizes = {file.stat().st_size for file in (machine[0].path / "parts").iterdir()}
    assert any(size + 5_000 in sizes for size in machine[1].of("part")), "what had come was kept"


def test_many_parts_come_at_once_and_a_damaged_one_is_fetched_anew(machine, portero):
    for number in range(8):
        host = f"many-{number}.example"
        rules = [{"host": host, "action": "block"}]
        portero.rulesets.create(Ruleset.model_validate({"key": f"many-{number}", "kind": "indicator", "rules": rules}))
        portero.assignments.create(assignment(f"many-{number}", "whole-fleet"))
    tarred = bytearray()

    def damage(body: bytes) -> bytes:
        tarred.extend(body)
        # the last part in the archive: its content, not its header
        place = body.rindex(b"\x28\xb5\x2f\xfd") + 6
        return body[:place] + bytes([body[place] ^ 0xFF]) + body[place + 1 :]

    machine[1].alters = {"parts": damage}
    agent = check_in(machine)
    assert agent.problems is None
    assert [agent.rule(f"http://many-{number}.example/").verdict for number in range(8)] == ["block"] * 8
    assert len(machine[1].of("parts")) == 1
    assert len(machine[1].of("part")) == 1, "the damaged one alone is fetched again"


def test_a_file_that_is_longer_than_was_signed_for_is_not_taken(machine, portero, tmp_path):
    bring(portero, tmp_path, "".join(f"long-{n}.example,games\n" for n in range(9_000)))
    machine[1].alters = {"index-file": lambda body: body + b"x" * 5_000_000}
    assert "damaged on its way" in (check_in(machine).problem or "")
    assert not any(file.stat().st_size > 5_000_000 for file in machine[0].path.rglob("*"))
    assert check_in(machine).rule("http://long-7.example/").verdict == "block"
