"""Probes at the machine: faults put in on purpose are seen and were predicted; a probe hides nothing."""

from __future__ import annotations

import asyncio
import ssl
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from itertools import count

import httpx
import pytest
from msgspec import structs

from conftest import assignment, group, ruleset, run_async
from damage import Away, flip, forget, index_file
from portero.core.nouns.device import Facts
from portero.core.nouns.enrolment import NewEnrolmentCode
from portero.core.nouns.observation import OrderedProbe
from portero.core.nouns.probe_set import ProbeSet
from portero.core.nouns.rule import Rule
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.run import NewRun
from portero.core.nouns.schedule import Schedule
from portero.endpoint.agent import Agent
from portero.endpoint.calls import NotTaken, ServiceUnreachable
from portero.endpoint.folder import Folder
from portero.endpoint.probing.ending_here import probe_filter
from portero.endpoint.probing.orders import keep_probing, refusing
from portero.endpoint.probing.simulated import by_what_it_holds
from portero.endpoint.probing.starting_here import DOES_NOT_OPEN

LAYERS = {"filter": "enforcing", "browser": "enforcing", "startup": "enforcing"}
CHROMIUM = {"name": "chromium", "version": "140.0", "managed": True}
GAMBLING, LISTED, HOURLY = "http://gambling.category.test/", "https://shut.example/", "http://games.category.test/"
_NUMBERS = count(1)
VIEWER = {"product": "Deckhand Viewer"}
PROBES = [
    {"visit": GAMBLING, "expect": "block"},
    {"visit": LISTED, "expect": "block", "layer": "browser"},
    {"start": VIEWER, "expect": "block"},
    {"visit": HOURLY, "expect": "block"},
]


def this_hour() -> Schedule:
    """Open from an hour ago until in half an hour: by a clock that is an hour ahead it is over."""
    now = datetime.now(UTC)
    begins, ends = (now + timedelta(minutes=minutes) for minutes in (-60, 30))
    days = list({f"{moment:%a}".lower() for moment in (begins, ends)})
    window = {"days": days, "from": f"{begins:%H:%M}", "to": f"{ends:%H:%M}"}
    return Schedule.model_validate({"key": "this-hour", "zone": "UTC", "windows": [window]})


@pytest.fixture(scope="module")
def policy(service, portero):
    """A category, a site list, a program and something that is only stopped this hour; and a probe of each."""
    portero.groups.create(group("labs", all=[{"field": "unit", "op": "under", "value": "lab"}]))
    portero.rulesets.create(ruleset("no-gambling", gambling="block"))
    portero.rulesets.create(ruleset("no-games", games="block"))
    sites = [Rule.model_validate({"pattern": "shut.example", "action": "block"})]
    portero.rulesets.create(Ruleset(key="shut", kind="site", rules=sites))
    programs = [Rule.model_validate({"everything": True, "action": "block"})]
    portero.rulesets.create(Ruleset(key="nothing-starts", kind="startup", rules=programs))
    portero.schedules.create(this_hour())
    for key in ("no-gambling", "shut", "nothing-starts"):
        portero.assignments.create(assignment(key, "labs"))
    portero.assignments.create(assignment("no-games", "labs", schedule="this-hour"))
    document = {"key": "holds", "to": ["labs"], "probes": PROBES}
    portero.probe_sets.create(ProbeSet.model_validate(document))


class Machine:
    """A simulated machine that has joined and holds its bundle; what is wrong with it is said before it answers."""

    def __init__(self, service, portero, folder, hostname: str) -> None:
        self.folder, self.hostname, self.service = Folder(folder), hostname, service
        self.code = portero.enrolment.create_code(NewEnrolmentCode()).code

    def answer(self, portero, sets: tuple[str, ...] = ("holds",), **faults):
        """What an observed run comes to on it: the run, and what it saw, by the probe's number."""

        async def go():
            async with httpx.AsyncClient(timeout=20, transport=faults.get("service")) as http:
                facts = {"hostname": self.hostname, "unit": "lab", "layers": LAYERS, "browsers": [CHROMIUM]}
                if not self.folder.joined:
                    await Agent.join(self.folder, http, self.service.url, self.code, Facts.model_validate(facts))
                    await Agent(self.folder, http).check_in()
                kept = self.folder.identity()
                self.folder.keep_identity(structs.replace(kept, facts={**kept.facts, **faults.get("facts", {})}))
                clock = faults.get("clock", lambda: datetime.now(UTC))
                agent = Agent(self.folder, http, clock=clock)
                if not faults.get("stale"):
                    with suppress(ServiceUnreachable):
                        await agent.check_in()
                        # what it found of itself meanwhile it tells at once
                        if agent.news.is_set():
                            await agent.check_in()
                tries = faults.get("tries", by_what_it_holds)(agent)
                probing = asyncio.create_task(keep_probing(agent, tries))
                new = NewRun(kind="observed", on=(self.hostname,), sets=sets, seconds=20)
                run = await asyncio.to_thread(portero.runs.create, new)
                agent.probes.set()
                done = await asyncio.to_thread(portero.runs.get, run.id, wait=15)
                probing.cancel()
                with suppress(asyncio.CancelledError):
                    await probing
                return done

        done = run_async(go())
        return done, {one.number: one for one in portero.runs.observations(done.id)}


@pytest.fixture
def machine(service, portero, policy, tmp_path):
    hostname = f"lab-{next(_NUMBERS)}"
    return Machine(service, portero, tmp_path, hostname)


def test_a_machine_as_it_should_be_sees_what_is_expected(machine, portero):
    done, seen = machine.answer(portero)
    assert (done.failed, done.disagreements) == (0, 0), [one.sentence for one in done.results]
    assert {number: one.seen.layer for number, one in seen.items()} == {
        1: "filter",
        2: "browser",
        3: "startup",
        4: "filter",
    }


@pytest.mark.parametrize(
    ("probe", "facts", "cause"),
    [
        (1, {"layers": {**LAYERS, "filter": "observing"}}, "layer-off-machine"),
        (3, {"layers": {**LAYERS, "startup": "off"}}, "layer-off-machine"),
        (
            2,
            {
                "browsers": [
                    {
                        **CHROMIUM,
                        "policy": {
                            "file": "/etc/chromium/policies/managed/portero.json",
                            "state": "foreign",
                        },
                    }
                ]
            },
            "policy-overridden",
        ),
    ],
)
def test_a_fault_that_a_machine_tells_of_is_seen_and_was_predicted(machine, portero, probe, facts, cause):
    done, seen = machine.answer(portero, facts=facts)
    told = seen[probe]
    assert (told.seen.verdict, told.predicted, told.agrees) == ("allow", "allow", True)
    assert [one.code for one in done.results[probe - 1].causes] == [cause]


def test_a_document_that_did_not_arrive_is_seen_and_was_predicted(machine, portero):
    machine.answer(portero)
    portero.rulesets.create(ruleset("no-news", news="block"))
    portero.assignments.create(assignment("no-news", "labs"))
    news = {"key": "news", "to": ["labs"], "probes": [{"visit": "http://news.category.test/", "expect": "block"}]}
    portero.probe_sets.create(ProbeSet.model_validate(news))
    done, seen = machine.answer(portero, sets=("news",), stale=True)
    assert (seen[1].seen.verdict, seen[1].agrees) == ("allow", True)
    assert [one.code for one in done.results[0].causes] == ["not-delivered"]


def test_a_damaged_index_is_seen_and_was_predicted(machine, portero, tmp_path):
    listed = {"key": "listed", "to": ["labs"], "probes": [{"visit": "http://lucky-reef.example/", "expect": "block"}]}
    portero.probe_sets.create(ProbeSet.model_validate(listed))
    _, seen = machine.answer(portero, sets=("listed",))
    assert seen[1].seen.verdict == "block"
    flip(index_file(tmp_path, described=False))
    forget()
    done, seen = machine.answer(portero, sets=("listed",), service=Away("index", "index-file"))
    assert (seen[1].seen.verdict, seen[1].predicted, seen[1].agrees) == ("allow", "allow", True)
    assert [one.code for one in done.results[0].causes] == ["stale-index"]


def test_a_clock_that_is_wrong_is_seen_and_was_predicted(machine, portero):
    done, seen = machine.answer(portero, clock=lambda: datetime.now(UTC) + timedelta(hours=1))
    assert (seen[4].seen.verdict, seen[4].predicted, seen[4].agrees) == ("allow", "allow", True)
    assert "60 minutes ahead" in seen[4].predicted_why
    assert [one.code for one in done.results[3].causes] == ["clock-off"]
    # what holds at any time is stopped by any clock
    assert (seen[1].seen.verdict, seen[1].agrees) == ("block", True)
    assert "clock-off" in portero.devices.get(machine.hostname).blockers


def test_where_a_list_stops_the_page_to_set_out_from_it_is_said_so(machine, portero):
    probes = [
        {"visit": LISTED, "reached_by": "link", "expect": "block"},
        {"visit": "https://work.example/", "reached_by": "redirect", "expect": "allow"},
    ]
    listed = {"key": "from-a-search", "to": ["labs"], "probes": probes}
    portero.probe_sets.create(ProbeSet.model_validate(listed))
    _, seen = machine.answer(portero, sets=("from-a-search",))
    assert [(seen[1].seen.verdict, seen[1].how), (seen[2].seen.verdict, seen[2].how)] == [
        ("block", "by a link"),
        ("allow", "by a redirect"),
    ]
    everything = {"key": "only-work", "kind": "site", "rules": [{"pattern": "*", "action": "block"}]}
    portero.rulesets.create(Ruleset.model_validate(everything))
    made = portero.assignments.create(assignment("only-work", "labs"))
    _, seen = machine.answer(portero, sets=("from-a-search",))
    portero.assignments.remove(made.key)
    assert {one.seen.problem for one in seen.values()} == {DOES_NOT_OPEN}


def test_a_machine_may_be_set_up_to_try_nothing(machine, portero):
    done, _ = machine.answer(portero, tries=lambda _agent: refusing("This machine is set up to try nothing."))
    assert {one.code for result in done.results for one in result.causes} == {"not-tried"}
    assert done.results[0].causes[0].detail == "This machine is set up to try nothing."


def test_an_answer_to_nothing_that_was_asked_is_refused(machine, portero):
    machine.answer(portero)

    async def lie():
        async with httpx.AsyncClient() as http:
            agent = Agent(machine.folder, http)
            for body in ({"once": "a" * 32, "seen": []}, {"seen": []}):
                with pytest.raises(NotTaken):
                    await agent.call("POST", "probes", json=body)

    run_async(lie())


def test_through_the_port_for_probes_nobody_gets_anywhere_and_nothing_is_recorded(machine, portero):
    machine.answer(portero)

    async def try_it():
        async with httpx.AsyncClient() as http:
            agent = Agent(machine.folder, http)
            async with probe_filter(agent, None) as (port, _, pages):
                unchecked = ssl.create_default_context()
                unchecked.check_hostname, unchecked.verify_mode = False, ssl.CERT_NONE
                async with httpx.AsyncClient(proxy=f"http://127.0.0.1:{port}", verify=unchecked) as browser:
                    open_pages = [await browser.get(f"{scheme}://open.example/") for scheme in ("http", "https")]
                    stopped = await browser.get(GAMBLING)
                    with pytest.raises(httpx.ProxyError):
                        await browser.get(GAMBLING.replace("http:", "https:"))
                    linked = await browser.get(pages.leading_to('http://open.example/?a=1&b="', "link"))
                    away = await browser.get(pages.leading_to(GAMBLING, "redirect"))
                    redirected = await browser.get(str(away.url.join("/redirect")))
            return open_pages, stopped, (linked, away, redirected), agent.queue.waiting()

    open_pages, stopped, (linked, away, redirected), waiting = run_async(try_it())
    assert 'href="http://open.example/?a=1&amp;b=&quot;"' in linked.text
    assert 'href="/redirect"' in away.text
    assert (redirected.status_code, redirected.headers["Location"]) == (302, GAMBLING)
    assert {page.text.partition("<p>")[2] for page in open_pages} == {"This visit was let through. Nothing was loaded."}
    assert stopped.status_code == 403
    assert "portero-notice" in stopped.text
    assert waiting == 0


def test_what_a_newer_service_asks_is_left_and_the_next_is_tried(machine, portero):
    machine.answer(portero)
    asked: list = []
    probe = OrderedProbe(number=1, visit=GAMBLING).model_dump(exclude_none=True)
    order = {"once": "y" * 20, "seconds": 5, "probes": [probe]}

    async def hear():
        async with httpx.AsyncClient() as http:
            agent = Agent(machine.folder, http)

            async def call(method, path, **options):
                asked.append((method, options.get("json")))
                orders = [{"once": "x" * 20, "probes": [{"number": 1, "colour": "red"}]}, order]
                return httpx.Response(200, json=orders if method == "GET" else None)

            agent.call = call
            probing = asyncio.create_task(keep_probing(agent, by_what_it_holds(agent)))
            agent.probes.set()
            await asyncio.sleep(0.3)
            probing.cancel()

    run_async(hear())
    assert [(method, (body or {}).get("once")) for method, body in asked] == [("GET", None), ("POST", "y" * 20)]
