"""One endpoint: joins, checks in, keeps the last good bundle, decides visits, hands its activity over."""

from __future__ import annotations

import json
import secrets
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from functools import lru_cache
from typing import Any, NamedTuple

import httpx
import msgspec

from portero.core import sentences
from portero.core.nouns.action import Verdict
from portero.core.nouns.activity import ReportedAttempt
from portero.core.nouns.device import Facts
from portero.core.nouns.enrolment import CODE_LETTERS
from portero.core.nouns.layer import LAYERS, Layer, LayerMode, Layers
from portero.core.nouns.urls import parse_visit
from portero.core.nouns.verdict import LayerVerdict
from portero.core.resolving.bundles import BundleNotice, with_overlay
from portero.core.resolving.enforcement import gateway_of, in_mode, weaker
from portero.core.resolving.explaining import HostRulings
from portero.core.resolving.policy import Policy
from portero.core.resolving.situations import OFF_SITE, Situation
from portero.endpoint.calls import ask
from portero.endpoint.category_index import MachineIndex, fetch_part, file_name, open_index
from portero.endpoint.folder import Folder, Identity, Queue
from portero.formats.bundles import (
    BadBundle,
    CategoryParts,
    Manifest,
    apply_difference,
    open_manifest,
    unpack_bundle,
    unpack_overlay,
)

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


class _Files(NamedTuple):
    """What a manifest names, as it is kept on this machine."""

    bundle: bytes
    overlay: bytes | None
    categories: MachineIndex


@lru_cache(maxsize=512)
def _rulings_of(manifest: Manifest, files: _Files, hostname: str) -> HostRulings:
    bundle = unpack_bundle(files.bundle, manifest.bundle)
    if manifest.overlay and files.overlay is not None:
        try:
            bundle = with_overlay(bundle, unpack_overlay(files.overlay, manifest.overlay, manifest.bundle))
        except ValueError as problem:
            raise BadBundle(str(problem)) from problem
    return HostRulings(Policy(bundle, hostname if manifest.overlay else ""), open_index(files.categories))


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
    ) -> None:
        """`tells_facts` is False for one that is to show what stale facts look like."""
        self.folder, self.now = folder, clock
        self.identity: Identity = folder.identity()
        self.queue = Queue(folder)
        self.manifest: Manifest | None = None
        self.rulings: HostRulings | None = None
        self._people: dict[str, list[str]] = json.loads(folder.read("people.json") or b"{}")
        """The user groups of the people seen here, as the service told them."""
        self._since: dict[str, float] = json.loads(folder.read("until-restart.json") or b"{}")
        """Since when assignments that hold until restart are applied here."""
        self.problem: str | None = None
        self._http = http
        self._tells_facts = tells_facts
        self._told: Facts | None = None
        self._told_at: datetime | None = None
        self._own = Facts.model_validate(self.identity.facts)
        self._load()

    @property
    def facts(self) -> Facts:
        """What the device reports. Layers do what the bundle means them to, as far as the machine lets them."""
        if self.rulings is None:
            return self._own
        meant = self.rulings.policy.bundle.layers
        does = {
            layer: weaker(own, LayerMode(meant[layer])) for layer in LAYERS if (own := self._own.layers.mode(layer))
        }
        return self._own.model_copy(update={"layers": Layers(**does)})

    @property
    def gateway(self) -> str | None:
        """The gateway network to which this machine, where it is now, leaves its filtering."""
        if self.rulings is None:
            return None
        return gateway_of(self.rulings.policy.bundle, self._own.place, self._own.addresses)

    def _news_of_facts(self) -> Facts | None:
        """The facts, where the service has not heard them, or not for a day."""
        facts, now = self.facts, self.now()
        if not self._tells_facts:
            return None
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

    async def _call(self, method: str, path: str, **options: Any) -> httpx.Response:
        headers = {"Authorization": f"Bearer {self.identity.credential}", **options.pop("headers", {})}
        url = self.identity.service + "/device/v1/" + path
        return await ask(self._http, method, url, headers=headers, **options)

    # --- policy ---

    def _load(self) -> None:
        """Take up the last good bundle, verified anew: nobody can slip in another while the endpoint is off."""
        token = self.folder.read("manifest.jws")
        if token is None:
            return
        try:
            self._take(token.decode(errors="replace"), open_manifest(token.decode(), self.identity.signing_key))
        except (BadBundle, UnicodeDecodeError) as problem:
            self.problem = f"the bundle kept on this machine cannot be trusted: {problem}"

    def _take(self, token: str, manifest: Manifest) -> None:
        packed = self.folder.read("bundles/" + file_name(manifest.bundle))
        overlay = self.folder.read("overlays/" + file_name(manifest.overlay)) if manifest.overlay else None
        written = self.folder.read("index/" + file_name(manifest.index))
        if packed is None or written is None or (manifest.overlay and overlay is None):
            raise BadBundle("the bundle, its overlay or the category index is missing")
        parts = CategoryParts.read(written)
        if parts.digest != manifest.index:
            raise BadBundle("the category index is not the one that the manifest names: the digests differ")
        index = MachineIndex(parts.digest, parts, self.folder.path / "index")
        # the revision does not change what is decided: the same files give the same rulings
        named = msgspec.structs.replace(manifest, revision=0, made_at="", generations=())
        self.rulings = _rulings_of(named, _Files(packed, overlay, index), self._own.hostname)
        self.manifest = manifest
        self._note_until_restart()

    def _note_until_restart(self) -> None:
        """Keep since when assignments that hold until restart are applied; forget those that are gone."""
        assert self.rulings is not None
        keys = [assignment.key for assignment in self.rulings.policy.bundle.assignments if assignment.until_restart]
        since = {key: self._since.get(key, self.now().timestamp()) for key in keys}
        if since != self._since:
            self._since = since
            self.folder.write("until-restart.json", json.dumps(since).encode())

    async def check_in(self, woken: bool = False) -> bool:
        """Tell the service what this device is and holds, and take what it should have; True where that is new."""
        message: dict[str, Any] = {"woken": woken}
        if self.manifest:
            message |= self._held
        if self.problem:
            message["problem"] = self.problem[:500]
        answer = await self._tell(message)
        if answer.status_code == 204:
            self.problem = None
            await self._learn_people()
            return False
        try:
            await self._apply(answer.json()["manifest"])
        except BadBundle as problem:
            # the last good bundle stays in force; the service learns why at the next check-in
            self.problem = str(problem)
            return False
        self.problem = None
        assert self.manifest is not None
        await self._tell({**self._held, "woken": True})
        await self._learn_people()
        return True

    @property
    def _held(self) -> dict[str, Any]:
        """What this device holds, for the service."""
        assert self.manifest is not None
        return {"have": self.manifest.name, "revision": self.manifest.revision, "index": self.manifest.index}

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
            answer = await self._call("GET", "people", params={"user": user})
            self._people[user] = answer.json()["user_groups"]
        if self._people != before:
            self.folder.write("people.json", json.dumps(self._people).encode())

    async def _tell(self, message: dict[str, Any]) -> httpx.Response:
        """A check-in, with the facts where there is news of them."""
        facts = self._news_of_facts()
        if facts is not None:
            message["facts"] = facts.model_dump(mode="json", exclude_none=True)
        answer = await self._call("POST", "check-in", json=message)
        if facts is not None:
            self._told, self._told_at = facts, self.now()
        return answer

    async def _apply(self, token: str) -> None:
        manifest = open_manifest(token, self.identity.signing_key)
        if self.manifest and manifest.revision < self.manifest.revision:
            raise BadBundle(
                f"the service offers revision {manifest.revision}, older than {self.manifest.revision} held here"
            )
        await self._fetch_bundle(manifest.bundle)
        if manifest.overlay:
            await self._fetch("overlay", "overlays", manifest.overlay)
        parts = await self._fetch_index(manifest.index)
        try:
            self._take(token, manifest)
        except BadBundle:
            (self.folder.path / "bundles" / file_name(manifest.bundle)).unlink(missing_ok=True)
            (self.folder.path / "overlays" / file_name(manifest.overlay or "none")).unlink(missing_ok=True)
            raise
        self.folder.write("manifest.jws", token.encode())
        self.folder.drop_others("bundles", file_name(manifest.bundle))
        self.folder.drop_others("overlays", file_name(manifest.overlay or "none"))
        self.folder.drop_others("index", file_name(manifest.index), *(file_name(file.digest) for file in parts.files))

    async def _fetch_bundle(self, digest: str) -> None:
        """The bundle: as a difference to the one held here, where the service has that one still."""
        before = self.manifest.bundle if self.manifest else digest
        held = self.folder.read("bundles/" + file_name(before)) if before != digest else None
        if held is None:
            await self._fetch("bundle", "bundles", digest)
            return
        answer = await self._call("GET", f"bundle/{digest}", params={"from": before})
        whole = answer.content
        if answer.headers.get("Portero-From") == before:
            try:
                whole = apply_difference(held, answer.content, digest)
            except BadBundle:
                whole = (await self._call("GET", f"bundle/{digest}")).content
        self.folder.write("bundles/" + file_name(digest), whole)

    async def _fetch_index(self, digest: str) -> CategoryParts:
        """What the category index consists of, and those of its files that are not here yet."""
        await self._fetch("index", "index", digest)
        parts = CategoryParts.read(self.folder.read("index/" + file_name(digest)) or b"")
        for part in parts.files:
            await fetch_part(self.folder, self._http, self.identity, part)
        return parts

    async def _fetch(self, what: str, folder: str, digest: str) -> None:
        name = f"{folder}/{file_name(digest)}"
        headers = {"If-None-Match": f'"{digest}"'} if self.folder.read(name) is not None else {}
        answer = await self._call("GET", f"{what}/{digest}", headers=headers)
        if answer.status_code != 304:
            self.folder.write(name, answer.content)

    async def wait(self) -> bool:
        """Hold until the service has something for this device (True), or for a while (False)."""
        held = {"have": self.manifest.name, "index": self.manifest.index} if self.manifest else {"have": ""}
        answer = await self._call("GET", "wait", params=held, timeout=40.0)
        return answer.status_code == 200

    # --- visits ---

    def situation(self, user: str | None, at: datetime | None = None) -> Situation:
        """Who visits now, on this machine as it is."""
        own, folded = self._own, user.casefold() if user else None
        return Situation(
            at=at or self.now(),
            user=folded,
            user_groups=frozenset(self._people.get(folded or "", ())),
            place=own.place.value if own.place else OFF_SITE,
            zone=own.zone,
            last_start=own.last_start.timestamp() if own.last_start else None,
            applied=self._since,
        )

    def rule(self, url: str, user: str | None = None, *, page: bool = True, at: datetime | None = None) -> AgentRuling:
        """Decide a visit on the last good bundle; with none yet, all is allowed. BadUrl where the URL is none.

        `page` is False where no more than the host is seen of it, as in a tunnel.
        """
        self.meet(user)
        visit = parse_visit(url)
        if self.rulings is None:
            layer = LayerVerdict(layer="filter", verdict=Verdict.ALLOW, why="No bundle has been applied yet.")
            return AgentRuling(visit.url, visit.host, Verdict.ALLOW, (), layer, None)
        frame = self.rulings.policy.frame(self.situation(user, at))
        entry, layer = self.rulings.of(visit, frame, page)
        layer = self._as_it_is(layer)
        reference = new_reference() if layer.verdict is not Verdict.ALLOW else None
        notice = self._notice(layer) if reference else None
        return AgentRuling(visit.url, visit.host, layer.verdict, entry.categories, layer, reference, notice)

    def _notice(self, layer: LayerVerdict) -> BundleNotice | None:
        assert self.rulings is not None
        assert layer.winner is not None
        bundle = self.rulings.policy.bundle
        key = next(assignment.notice for assignment in bundle.assignments if assignment.key == layer.winner.assignment)
        return bundle.parts.notices.get(key) if key else None

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

    async def report(self) -> int:
        """Hand over all activity that waits; returns how many batches went. What is not acknowledged is sent again."""
        sent = 0
        while (batch := self.queue.next_batch()) is not None:
            headers = {"Content-Type": "application/json"}
            answer = await self._call("POST", "activity", content=batch, headers=headers)
            self.queue.acknowledged(answer.json()["batch"])
            sent += 1
        return sent
