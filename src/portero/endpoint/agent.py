"""One endpoint: joins, checks in, keeps the last good bundle, decides visits, hands its activity over."""

from __future__ import annotations

import asyncio
import json
import secrets
from collections.abc import Callable, Iterable, Mapping
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from typing import Any, NamedTuple

import httpx
import msgspec

from portero import __version__
from portero.core import sentences
from portero.core.nouns.action import Verdict
from portero.core.nouns.activity import FoundRunning, ReportedAttempt
from portero.core.nouns.check_in import (
    CHECK_IN_HEADER,
    ERRANDS_HEADER,
    LEAST_CHECK_IN,
    MOST_CHECK_IN,
    PROBES_HEADER,
    PROGRAMS_HEADER,
)
from portero.core.nouns.coverage import Reach
from portero.core.nouns.device import Application, Facts
from portero.core.nouns.enrolment import CODE_LETTERS
from portero.core.nouns.layer import LAYERS, Layer, LayerMode, Layers
from portero.core.nouns.urls import parse_visit
from portero.core.nouns.verdict import LayerVerdict
from portero.core.resolving.bundles import BundleNotice, coverage_of
from portero.core.resolving.enforcement import gateway_of, in_mode, weaker
from portero.core.resolving.host_rulings import HostRulings
from portero.core.resolving.situations import Situation
from portero.core.resolving.telling import teller_of
from portero.endpoint.browsers.managed import ManagedBrowsers, with_browsers
from portero.endpoint.browsers.policy_file import Noticed
from portero.endpoint.calls import ask
from portero.endpoint.folder import Folder, Identity, Queue, told_of
from portero.endpoint.guard.ruling import StartRuling
from portero.endpoint.guard.trials import Trials
from portero.endpoint.held_policy import HeldPolicy
from portero.endpoint.inventory import Inventory
from portero.endpoint.local_log import LocalLog
from portero.endpoint.own_clock import clock_ahead
from portero.endpoint.situation import PEOPLE, UNTIL_RESTART, situation_of
from portero.endpoint.waiting import Hold
from portero.formats.bundles import READABLE_FORMATS
from portero.formats.manifests import READABLE_MANIFESTS, Manifest
from portero.formats.packing import BadBundle
from portero.formats.program_lists import difference

FACTS_EVERY = timedelta(days=1)
"""How often facts are told even where they did not change."""


class AgentRuling(NamedTuple):
    """What the endpoint makes of one visit."""

    url: str
    host: str
    verdict: Verdict
    categories: tuple[str, ...]
    layer: LayerVerdict
    reference: str | None
    notice: BundleNotice | None = None
    """What the assignment that stops or warns has its notice say, beside the reason."""


_LOGGED = {Verdict.BLOCK: "stopped", Verdict.WARN: "warned"}


def new_reference() -> str:
    """A fresh reference code for a notice: eight letters and digits that people do not confuse."""
    letters = [secrets.choice(CODE_LETTERS) for _ in range(8)]
    return "".join(letters[:4]) + "-" + "".join(letters[4:])


class Agent:
    """An endpoint in its folder. The caller gives the HTTP client, the device's facts and the clock."""

    def __init__(
        self,
        folder: Folder,
        http: httpx.AsyncClient,
        clock: Callable[[], datetime] = lambda: datetime.now(UTC),
        *,
        tells_facts: bool = True,
        last_start: datetime | None = None,
        signed_in: Callable[[], tuple[str, ...]] = tuple,
        browsers: ManagedBrowsers | None = None,
        inventory: Inventory | None = None,
    ) -> None:
        """`tells_facts` is False for one that is to show what stale facts look like. `last_start` is when the machine
        was last started, and `signed_in` who is there, where its own facts do not say.
        `browsers` are those whose policy files it keeps, and
        `inventory` has the programs that it looks for itself.
        """
        self.folder, self.now, self.browsers, self.inventory = folder, clock, browsers, inventory
        self._signed_in, self._looking = signed_in, asyncio.Lock()
        self._told_programs: tuple[Application, ...] | None = None
        self.log = LocalLog(folder)
        self.startup: LayerMode | None = None
        """What the startup layer can do here, as its guard tells; None where only the facts say."""
        self.guard_problem: str | None = None
        """What is wrong with the guard, in words."""
        self.news = asyncio.Event()
        """Set where there is something that the service should hear before it is due."""
        self.errands = asyncio.Event()
        """Set where the service has something for this machine to do."""
        self.probes = asyncio.Event()
        """Set where the service asks this machine to try something."""
        self.trials = Trials()
        """Starts of programs that are only being tried."""
        self.identity: Identity = folder.identity()
        self.queue = Queue(folder)
        self._unwritten: dict[str, str] = {}
        """Files of this machine that could not be written, and why; enforcing goes on."""
        self._lost: list[str] = []
        """What was damaged and is begun anew: told once."""
        self._people: dict[str, list[str]] = self._kept(PEOPLE)
        """The user groups of the people seen here, as the service told them."""
        self._since: dict[str, float] = self._kept(UNTIL_RESTART)
        """Since when assignments that hold until restart are applied here."""
        self._http, self._hold = http, Hold()
        self._tells_facts = tells_facts
        self._told: Facts | None = None
        self._told_at: datetime | None = None
        self.asked_every: float | None = None
        """Seconds between check-ins, as the service asks; None before it did."""
        own = Facts.model_validate(self.identity.facts)
        self._own = own.model_copy(update={"last_start": own.last_start or last_start})
        self.held = HeldPolicy(folder, self.identity, self._own.hostname)
        self.problem: str | None = self.held.load()
        self._note_until_restart()

    @property
    def manifest(self) -> Manifest | None:
        """What was applied last."""
        return self.held.manifest

    @property
    def rulings(self) -> HostRulings | None:
        """What this machine rules by; None where it has nothing yet."""
        return self.held.rulings

    @property
    def problems(self) -> str | None:
        """All that is wrong here, in words."""
        of_browsers = self.browsers.problem if self.browsers else None
        of_programs = self.inventory.problem if self.inventory else None
        found = [self.problem, *self._lost, *self._unwritten.values(), self.queue.problem, of_browsers, of_programs]
        found.append(self.guard_problem)
        return "; ".join(filter(None, found)) or None

    def _kept(self, name: str) -> Any:
        """What was kept under a name, or nothing: what is damaged is begun anew, and told."""
        try:
            found = json.loads(self.folder.read(name) or b"{}")
            if not isinstance(found, dict):
                raise ValueError("not a mapping")
        except (ValueError, OSError):
            self._lost.append(f"{name} could not be read on this machine; it is begun anew")
            return {}
        return found

    def _keep(self, name: str, value: object) -> None:
        """Keep something in the folder. Where that cannot be done it is told, and what is in memory counts."""
        try:
            self.folder.write(name, json.dumps(value).encode())
            self._unwritten.pop(name, None)
        except OSError as problem:
            self._unwritten[name] = f"{name} could not be written on this machine: {told_of(problem)}"

    @property
    def facts(self) -> Facts:
        """What the device reports. Layers do what the bundle means them to, as far as the machine lets them."""
        own = self._own if self.browsers is None else with_browsers(self._own, self.browsers.facts)
        if self.startup is not None:
            reported = own.layers.model_copy(update={"startup": self.startup})
            versions = own.layer_versions.model_copy(update={"startup": __version__})
            own = own.model_copy(update={"layers": reported, "layer_versions": versions})
        if self.rulings is None:
            return own
        meant = self.rulings.policy.bundle.layers
        does = {layer: weaker(mode, LayerMode(meant[layer])) for layer in LAYERS if (mode := own.layers.mode(layer))}
        return own.model_copy(update={"layers": Layers(**does)})

    @property
    def gateway(self) -> str | None:
        """The gateway network to which this machine, where it is now, leaves its filtering."""
        if self.rulings is None:
            return None
        return gateway_of(self.rulings.policy.bundle, self._own.place, self._own.addresses)

    def _news_of_facts(self) -> Facts | None:
        """The facts, where the service has not heard them, or not for a day."""
        if not self._tells_facts:
            return None
        facts, now = self.facts, self.now()
        facts = facts.model_copy(update={"signed_in": facts.signed_in or self._signed_in()})
        if facts == self._told and self._told_at and now - self._told_at < FACTS_EVERY:
            return None
        return facts

    @staticmethod
    async def join(folder: Folder, http: httpx.AsyncClient, service: str, code: str, facts: Facts) -> Identity:
        """Join with an enrolment code; the identity is kept in the folder. Refused, NotTaken, Unreachable."""
        told = facts.model_dump(mode="json", exclude_none=True)
        answer = await ask(http, "POST", f"{service}/device/v1/join", json={"code": code, "facts": told})
        body = answer.json()
        identity = Identity(service, body["device"], body["credential"], body["signing_key"], told)
        folder.keep_identity(identity)
        return identity

    async def call(self, method: str, path: str, **options: Any) -> httpx.Response:
        """Ask the service something as this machine. NotTaken, ServiceRefused, ServiceUnreachable."""
        headers = {"Authorization": f"Bearer {self.identity.credential}", **options.pop("headers", {})}
        url = self.identity.service + "/device/v1/" + path
        return await ask(self._http, method, url, headers=headers, **options)

    # --- policy ---

    def _note_until_restart(self) -> None:
        """Keep since when assignments that hold until restart are applied; forget those that are gone."""
        if self.rulings is None:
            return
        keys = [assignment.key for assignment in self.rulings.policy.bundle.assignments if assignment.until_restart]
        since = {key: self._since.get(key, self.now().timestamp()) for key in keys}
        if since != self._since:
            self._since = since
            self._keep(UNTIL_RESTART, since)

    def take_up(self) -> None:
        """Rule by what is kept on the disk, where somebody else has changed it there."""
        self.problem = self.held.look_again() or self.problem

    async def check_in(self, woken: bool = False) -> bool:
        """Tell the service what this device is and holds, and take what it should have; True where that is new."""
        self.take_up()
        message: dict[str, Any] = {"woken": woken, **self._held}
        if problems := self.problems:
            message["problem"] = problems[:500]
        answer = await self._tell(message)
        self._lost.clear()
        self.queue.told()
        if answer.status_code == 204:
            self.problem = None
            await self._learn_people()
            return False
        try:
            await self.held.apply(answer.json()["manifest"], self._http, self.call)
        except BadBundle as problem:
            # the last good bundle stays in force; the service learns why at the next check-in
            self.problem = str(problem)
            return False
        except OSError as problem:
            self.problem = f"what should be applied could not be kept on this machine: {told_of(problem)}"
            return False
        self.problem = None
        self._note_until_restart()
        if self.manifest:
            self.log.note(self.now(), "applied", f"revision {self.manifest.revision}")
        await self._tell({**self._held, "woken": True})
        await self._learn_people()
        return True

    @property
    def _held(self) -> dict[str, Any]:
        """What this device holds, for the service; nothing, where what it holds on its disk is not what it rules by."""
        held, reads = self.held, {"manifests": READABLE_MANIFESTS, "bundles": READABLE_FORMATS}
        if held.manifest is None or held.broken:
            return reads
        manifest = held.manifest
        holds = {"have": manifest.name, "revision": manifest.revision, "epoch": manifest.epoch, "index": held.index}
        return {**reads, **holds}

    @property
    def until_restart_since(self) -> Mapping[str, float]:
        """Since when the assignments that hold until restart are applied here, by key."""
        return self._since

    def groups_of(self, user: str | None) -> frozenset[str]:
        """The user groups of somebody, as the service told them."""
        return frozenset(self._people.get((user or "").casefold(), ()))

    def meet(self, user: str | None) -> None:
        """Somebody uses this machine; their user groups are asked for at the next check-in."""
        if user and user.casefold() not in self._people:
            self._people[user.casefold()] = []

    async def _learn_people(self) -> None:
        """Ask for the user groups of the people seen here, where rules name any."""
        named = self.rulings and any(assignment.user_groups for assignment in self.rulings.policy.bundle.assignments)
        if not named or not self._people:
            return
        before = dict(self._people)
        for user in before:
            answer = await self.call("GET", "people", params={"user": user})
            self._people[user] = answer.json()["user_groups"]
        if self._people != before:
            self._keep(PEOPLE, self._people)

    async def _tell(self, message: dict[str, Any]) -> httpx.Response:
        """A check-in, with the facts where there is news of them."""
        facts = self._news_of_facts()
        if facts is not None:
            # its programs are told by themselves, and what was told before holds
            left_out = {"applications"} if self.inventory else set()
            message["facts"] = facts.model_dump(mode="json", exclude_none=True, exclude=left_out)
        programs = self.inventory.applications if self.inventory and self._tells_facts else None
        told = None if programs is None else difference(self._told_programs, programs)
        if told is not None:
            message["programs"] = msgspec.to_builtins(told)
        answer = await self.call("POST", "check-in", json=message)
        if facts is not None:
            self._told, self._told_at = facts, self.now()
        self._told_programs = None if answer.headers.get(PROGRAMS_HEADER) else programs
        if answer.headers.get(ERRANDS_HEADER):
            self.errands.set()
        if answer.headers.get(PROBES_HEADER):
            self.probes.set()
        self._look_at_clock(answer.headers.get("Date"))
        with suppress(ValueError):
            asked = float(answer.headers.get(CHECK_IN_HEADER, ""))
            # what is far out of bounds is no interval that anybody set
            self.asked_every = min(max(asked, LEAST_CHECK_IN), MOST_CHECK_IN)
        return answer

    def _look_at_clock(self, date: str | None) -> None:
        """Find how far the clock here is off; where that is news, the service hears of it at once."""
        found = clock_ahead(self.now(), date, self._own.clock_ahead)
        if found != self._own.clock_ahead:
            self._own = self._own.model_copy(update={"clock_ahead": found})
            self.news.set()

    async def wait(self) -> bool:
        """Hold until the service has something for this device (True), or for a while (False)."""
        held = {"have": self.manifest.name, "index": self.held.index} if self.manifest else {"have": ""}
        return await self._hold.wait(self.call, held)

    # --- people ---

    async def know(self, users: Iterable[str | None]) -> None:
        """Learn the user groups of people who have not been seen here yet."""
        before = len(self._people)
        for user in users:
            self.meet(user)
        if len(self._people) > before:
            await self._learn_people()

    # --- browsers ---

    async def look_at_browsers(self) -> list[Noticed]:
        """See that the policy files of this machine's browsers are what they should be; what was noticed."""
        async with self._looking:
            if self.browsers is None or self.rulings is None:
                return []
            before, bundle = self.browsers.facts, self.rulings.policy.bundle
            merged = self.rulings.policy.frame(self.situation(None)).site_list
            wanted = merged if bundle.layers["browser"] == LayerMode.ENFORCING else None
            now = self.now().timestamp()
            noticed = await asyncio.to_thread(self.browsers.look, wanted, coverage_of(bundle), now)
            for one in noticed:
                self.log.note(self.now(), one.what, one.text)
            if self.browsers.facts != before:
                self.news.set()
            return noticed

    # --- visits ---

    def situation(self, user: str | None, at: datetime | None = None) -> Situation:
        """Who visits now, on this machine as it is."""
        return situation_of(self._own, user, self._people, self._since, at or self.now())

    def rule_in_browser(self, url: str, browser: str, at: datetime | None = None) -> AgentRuling | None:
        """What a managed browser of this machine refuses by its own list, before the filter sees it; None where it
        opens. BadUrl where the URL is none.
        """
        if self.rulings is None or self._own.layers.browser is not LayerMode.ENFORCING:
            return None
        policy, visit, os = self.rulings.policy, parse_visit(url), self._own.os
        own = next((one for one in self._own.browsers if one.name == browser), None)
        table, platform = coverage_of(policy.bundle), os.family if os else None
        if own is None or not own.managed or table.reach("site-list", browser, platform, visit.scheme) is Reach.NONE:
            return None
        layer = teller_of(policy).sites(
            policy.frame(self.situation(None, at)), visit, table.list_support(browser, platform, own.version)
        )
        layer = in_mode(layer, LayerMode(policy.bundle.layers["browser"]), "The browser's list is not to count here.")
        if layer.verdict is not Verdict.BLOCK:
            return None
        return AgentRuling(visit.url, visit.host, Verdict.BLOCK, (), layer, None)

    @property
    def looks_at_types(self) -> bool:
        """Whether a rule of the last good bundle is about the type of what comes back."""
        return self.rulings is not None and bool(self.rulings.policy.media)

    def rule(
        self,
        url: str,
        user: str | None = None,
        *,
        page: bool = True,
        media_type: str | None = None,
        at: datetime | None = None,
    ) -> AgentRuling:
        """Decide a visit on the last good bundle; with none yet, all is allowed. BadUrl where the URL is none.

        `page` is False where no more than the host is seen of it, as in a tunnel; `media_type` is that of what came
        back, once that is known.
        """
        self.meet(user)
        visit = parse_visit(url)
        if self.rulings is None:
            layer = LayerVerdict(layer="filter", verdict=Verdict.ALLOW, why="No bundle has been applied yet.")
            return AgentRuling(visit.url, visit.host, Verdict.ALLOW, (), layer, None)
        frame = self.rulings.policy.frame(self.situation(user, at))
        entry, layer = self.rulings.of(visit, frame, page, media_type)
        layer = self._as_it_is(layer)
        reference = new_reference() if layer.verdict is not Verdict.ALLOW else None
        notice = self.notice_of(layer) if reference else None
        return AgentRuling(visit.url, visit.host, layer.verdict, entry.categories, layer, reference, notice)

    def _as_it_is(self, layer: LayerVerdict) -> LayerVerdict:
        """What the filter does of what the rules say: as far as the estate means it to, and the machine lets it."""
        assert self.rulings is not None
        if self.gateway:
            return in_mode(layer, LayerMode.OFF, sentences.left_to_gateway(self.gateway))
        meant = LayerMode(self.rulings.policy.bundle.layers["filter"])
        mode = weaker(meant, self._own.layers.filter or meant)
        return in_mode(layer, mode, sentences.does(Layer.FILTER, mode))

    def record(
        self,
        ruling: AgentRuling,
        *,
        user: str | None = None,
        browser: str | None = None,
        at: datetime | None = None,
        continued: bool = False,
    ) -> None:
        """Record a visit: stopped, warned and logged ones one by one, allowed ones as hourly counts."""
        if self.facts.layers.filter is LayerMode.OFF:
            return
        at, logged = at or self.now(), bool(ruling.layer.logged)
        if ruling.verdict is not Verdict.ALLOW and not continued:
            self.log.note(at, _LOGGED[ruling.verdict], f"{ruling.url[:500]} ({ruling.layer.why})")
        if ruling.verdict is Verdict.ALLOW and not logged:
            self.queue.count(ruling.host, at)
            return
        self.queue.record(
            ReportedAttempt(
                seq=1,
                at=at,
                url=ruling.url[:8192],
                host=ruling.host,
                user=user,
                browser=browser,
                categories=ruling.categories,
                verdict=ruling.verdict,
                continued=continued,
                logged=logged,
                winner=ruling.layer.winner or next(iter(ruling.layer.logged), None),
                reference=ruling.reference,
                bundle=self.manifest.name if self.manifest else None,
            )
        )

    def record_start(
        self,
        ruling: StartRuling,
        *,
        user: str | None = None,
        parent: str | None = None,
        at: datetime | None = None,
        continued: bool = False,
        running: FoundRunning | None = None,
    ) -> str | None:
        """Record a start that was stopped, warned of or logged, or a program that was found `running`; the reference
        for the notice, where one is due.
        """
        at, layer = at or self.now(), ruling.layer
        self.meet(user)
        reference = new_reference() if ruling.verdict is not Verdict.ALLOW and running is None else None
        attempt = ReportedAttempt(
            seq=1,
            at=at,
            start=ruling.program,
            parent=parent,
            running=running,
            user=user,
            verdict=ruling.verdict,
            continued=continued,
            logged=bool(layer.logged),
            winner=layer.winner or next(iter(layer.logged), None),
            reference=reference,
            bundle=self.manifest.name if self.manifest else None,
        )
        if ruling.verdict is not Verdict.ALLOW and not continued:
            word = running or _LOGGED[ruling.verdict]
            self.log.note(at, word, f"{attempt.tried[:500]} ({layer.why})")
        self.queue.record(attempt)
        return reference

    def notice_of(self, layer: LayerVerdict) -> BundleNotice | None:
        """What the assignment that stops or warns has its notice say, beside the reason."""
        key = layer.winner.assignment if layer.winner else None
        bundle = self.rulings.policy.bundle if self.rulings else None
        assigned = next((one.notice for one in bundle.assignments if one.key == key), None) if bundle else None
        return bundle.references.notices.get(assigned) if bundle and assigned else None

    async def report(self) -> int:
        """Hand over all activity that waits; returns how many batches went. What is not acknowledged is sent again."""
        sent = 0
        while (batch := self.queue.next_batch()) is not None:
            headers = {"Content-Type": "application/json"}
            answer = await self.call("POST", "activity", content=batch, headers=headers)
            self.queue.acknowledged(answer.json()["batch"])
            sent += 1
        return sent
