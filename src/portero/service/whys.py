"""Why attempts on the fleet's machines come to what they do, from all that the service knows."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from portero.core.insight.quick_words import Known
from portero.core.insight.whys import WhyAsked, mended_by, why
from portero.core.insight.whys.question import Earlier
from portero.core.nouns.action import Verdict
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.device import Device
from portero.core.nouns.estate import Estate
from portero.core.nouns.urls import parse_visit
from portero.core.nouns.why import Why, WhyQuestion, WhyRemedy
from portero.core.sentences import whys as words
from portero.service.checks import Checks
from portero.service.directory import DirectoryKeeper
from portero.service.estate import EstateKeeper
from portero.service.fleet import FleetKeeper
from portero.service.foresight import Foresight
from portero.service.lookups import Lookups
from portero.service.problems import Refusal
from portero.store import activity, revisions
from portero.store.activity import ActivityFilter
from portero.store.database import Store


class Whys:
    """Answers why an attempt on a machine of the fleet is, or is not, stopped."""

    def __init__(
        self,
        store: Store,
        estate: EstateKeeper,
        fleet: FleetKeeper,
        foresight: Foresight,
        people: DirectoryKeeper,
        checks: Checks,
        lookups: Lookups,
    ) -> None:
        self._store, self._estate, self._fleet, self._foresight = store, estate, fleet, foresight
        self._people, self._checks, self._lookups = people, checks, lookups

    def why(self, asked: WhyQuestion) -> Why:
        """Why an attempt does, or does not, come to what was expected. Refusal; BadUrl where the URL is none."""
        return why(self._question(asked))

    def mended(self, asked: WhyRemedy, estate: Estate) -> Estate:
        """The estate with a cause mended, by one of its remedies. Refusal."""
        try:
            return mended_by(self._question(asked, estate), asked.cause, asked.remedy)
        except KeyError as problem:
            said = f"There is no remedy “{asked.remedy}” of “{asked.cause}” here (any more); ask again why."
            raise Refusal("invalid", said) from problem

    def _question(self, asked: WhyQuestion, estate: Estate | None = None) -> WhyAsked:
        device = self._fleet.device(asked.attempt.device)
        question = self.asking(device, estate)(asked.attempt, asked.expected or Verdict.BLOCK)
        if asked.expected is None and question.found is Verdict.BLOCK:
            return question.expecting(Verdict.ALLOW)
        return question

    def asking(self, device: Device, estate: Estate | None = None) -> Callable[[Attempt, Verdict], WhyAsked]:
        """Asks about attempts on a machine, which is looked at once."""
        policy, case_of = self._checks.seat(device)
        estate = estate or self._estate.snapshot.estate
        known = self.known(estate)

        def ask(attempt: Attempt, expected: Verdict) -> WhyAsked:
            return WhyAsked(
                estate=estate,
                policy=policy,
                case=case_of(attempt),
                groups=device.groups,
                names=(device.id, device.hostname),
                expected=expected,
                known=known,
                facts=device.facts,
                rollout=device.rollout,
                last_heard=device.last_heard,
                earlier=self._earlier,
                went_on=lambda: self._went_on(device, attempt.url),
                said_by=lambda: self._said_by(attempt.url),
            )

        return ask

    def known(self, estate: Estate) -> Known:
        """What words are looked up in."""
        return Known(estate, self._foresight.programs, self._machine, self._people.directory)

    def _machine(self, name: str) -> str | None:
        try:
            return self._fleet.device(name).hostname
        except Refusal:
            return None

    def _earlier(self) -> Iterator[Earlier]:
        """The states of the estate before this one, the latest first."""
        for number in range(self._estate.snapshot.revision, 0, -1):
            with self._store.reading() as connection:
                revision = revisions.get_revision(connection, number)
            if revision is not None:
                yield Earlier(number, revision.summary, self._estate.at(number - 1))

    def _went_on(self, device: Device, url: str | None) -> str | None:
        """When somebody last went on past a warning of this host there. Who it was is not told."""
        if url is None:
            return None
        visit = parse_visit(url)
        with self._store.reading() as connection:
            filter = ActivityFilter(device=device.id, host=visit.host, verdict="warn", tests=True)
            found = activity.list_activity(connection, filter, None, 100).items
        at = next((one.at for one in found if one.continued and one.host == visit.host), None)
        return words.went_on(at) if at is not None else None

    def _said_by(self, url: str | None) -> str | None:
        """By what the host has its categories, in words."""
        return words.said_by(self._lookups.host(url)) if url is not None else None
