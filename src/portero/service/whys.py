"""Why attempts on the fleet's machines come to what they do, from all that the service knows."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import datetime, timedelta

from portero.core.insight.quick_words import Known
from portero.core.insight.whys import WhyAsked, mended_by, why
from portero.core.insight.whys.question import Earlier
from portero.core.matching.members import Member, facts_from
from portero.core.matching.membership import Membership
from portero.core.nouns.action import Verdict
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.device import Device, Lifecycle
from portero.core.nouns.estate import Estate
from portero.core.nouns.urls import parse_visit
from portero.core.nouns.why import Why, WhyQuestion, WhyRemedy
from portero.core.resolving.compiling import compile_bundle
from portero.core.resolving.policy import Policy
from portero.core.sentences import whys as words
from portero.core.wording import counted
from portero.service.checks import Checks
from portero.service.directory import DirectoryKeeper
from portero.service.estate import EstateKeeper
from portero.service.fleet import FleetKeeper
from portero.service.foresight import Foresight
from portero.service.lookups import Lookups
from portero.service.problems import Refusal
from portero.store import activity, devices, earlier_facts, revisions
from portero.store.activity import ActivityFilter
from portero.store.database import Store
from portero.store.earlier_facts import FactsThen
from portero.store.moments import moment


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
        clock: Callable[[], float],
    ) -> None:
        self._store, self._estate, self._fleet, self._foresight = store, estate, fleet, foresight
        self._people, self._checks, self._lookups, self._now = people, checks, lookups, clock

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

    def asking_then(self, device: Device, at: datetime) -> tuple[int, Callable[[Attempt, Verdict], WhyAsked]]:
        """The revision of a moment, and what asks about attempts on a machine as both were then: by the rules of that
        revision, once the machine held them. What categories hosts are in is known of now alone. Refusal.
        """
        told, revision = self._told_then(device, at)
        estate = self._estate.at(revision)
        names = (device.id, told.facts.hostname)
        lifecycle = Lifecycle.INVITED if device.joined_at is None or at < device.joined_at else Lifecycle.ENROLLED
        member = Member(device.id, facts_from(told.facts), told.labels, lifecycle)
        groups = Membership(estate.groups, estate.group_order).groups_of(member, at)
        policy = Policy(compile_bundle(estate, groups, names), told.facts.hostname)
        case_of = self._checks.seat_then(told.facts, policy, estate, lifecycle, at)
        known = self.known(estate)

        def ask(attempt: Attempt, expected: Verdict) -> WhyAsked:
            case = case_of(attempt)
            return WhyAsked(
                estate=estate,
                policy=policy,
                case=case,
                groups=groups,
                names=names,
                expected=expected,
                known=known,
                facts=told.facts,
            )

        return revision, ask

    def _told_then(self, device: Device, at: datetime) -> tuple[FactsThen, int]:
        """What a machine had told by a moment, and the revision that counted. Refusal where that is not known."""
        now, days = moment(self._now()), self._estate.snapshot.estate.settings.facts_days
        if at > now:
            raise Refusal("invalid", "That moment is still to come; name one that is past.")
        if at < now - timedelta(days=days):
            said = f"What machines told is kept for {counted(days, 'day')}; name a later moment, or a revision."
            raise Refusal("invalid", said)
        with self._store.reading() as connection:
            known_at = moment(devices.known_since(connection, device.id))
            if at < known_at:
                said = f"{device.hostname} was not known then; it is since {known_at:%Y-%m-%d %H:%M} UTC."
                raise Refusal("invalid", said)
            told = earlier_facts.facts_at(connection, device.id, at.timestamp())
            return told, revisions.revision_at(connection, at.timestamp())

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
