"""Judge attempts from an estate and a facts document alone, with no service."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import datetime
from typing import NamedTuple

from portero.core.insight.newcomers import with_known_members
from portero.core.insight.predicting import Alike
from portero.core.insight.quick_words import Known
from portero.core.insight.site_lists import (
    any_browsers,
    browser_list,
    governed_browsers,
    groups_alone,
    list_in_force,
    platform_of,
    told_of_list,
    told_of_patterns,
)
from portero.core.insight.whys.question import WhyAsked
from portero.core.matching.applications import catalogue_of, members_of
from portero.core.matching.categories import CategoryIndex
from portero.core.matching.members import Member, MemberFacts, facts_from
from portero.core.matching.membership import Membership
from portero.core.nouns.action import Verdict
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.base import unknown_word
from portero.core.nouns.browser_list import BrowserList, ListPlatform
from portero.core.nouns.device import Application, DocumentDevice
from portero.core.nouns.estate import Estate, FactsDocument
from portero.core.nouns.finding import DeviceName
from portero.core.nouns.group import BUILT_IN
from portero.core.nouns.verdict import Explanation
from portero.core.nouns.worklist import AuthoringWarning
from portero.core.resolving.compiling import ANY_STATE, compile_bundle
from portero.core.resolving.enforcement import Machine
from portero.core.resolving.explaining import Case, explain
from portero.core.resolving.policy import Policy


class UnknownDevice(LookupError):
    """The facts document has no device of that name."""


class Standing(NamedTuple):
    """A device of the facts document as attempts find it: its policy, and all that is known beside it."""

    hostname: str
    policy: Policy
    case: Case
    groups: tuple[str, ...]


class OfflineEstate:
    """An estate with the facts of its devices. Each device is taken to have applied the newest bundle."""

    def __init__(self, estate: Estate, facts: FactsDocument, index: CategoryIndex, now: datetime) -> None:
        """`now` counts for attempts that name no time. CannotFreeze where a set is to be frozen that cannot be."""
        self.now, self.index, self._directory = now, index, facts.directory
        applications = [application for device in facts.devices for application in _applications(device)]
        self._catalogue = catalogue_of(applications)
        frozen = with_frozen_members(estate, applications)
        self._estate = with_known_members(None, frozen, applications, self._catalogue)
        self._devices = {device.hostname: device for device in facts.devices}
        self._membership = Membership(estate.groups, estate.group_order)
        self._policies: dict[tuple[object, ...], Policy] = {}
        self._people: dict[str, frozenset[str]] = {}
        self._groups: dict[str, tuple[str, ...]] = {}
        self._standings: dict[tuple[str, tuple[str, ...]], Machine] = {}

    @property
    def zone(self) -> str:
        """The clock on which moments are read that name no zone of their own."""
        return self._estate.settings.zone

    def groups_of(self, hostname: str, at: datetime | None = None) -> tuple[str, ...]:
        """The groups of a device of the facts document, strongest first."""
        known = self._groups.get(hostname)
        if known is None:
            device = self._devices[hostname]
            member = Member(hostname, facts_from(device), device.labels)
            known = self._membership.groups_of(member, at or self.now)
            if not self._membership.names_time:
                self._groups[hostname] = known
        return known

    def _machine(self, device: DocumentDevice, groups: tuple[str, ...]) -> Machine:
        known = self._standings.get((device.hostname, groups))
        if known is None:
            policy = self._policy(groups, device.hostname)
            known = self._standings[device.hostname, groups] = Machine.of(
                device, applied=policy, coverage=self._estate.coverage_table, catalogue=self._catalogue
            )
        return known

    def compile_all(self) -> None:
        """Make the policy of every device, and of a device in every group: what cannot be resolved shows now."""
        for hostname in self._devices:
            self._policy(self.groups_of(hostname), hostname)
        self._policy(self._estate.group_order, "")

    def told_of_sites(self) -> list[AuthoringWarning]:
        """What browsers make of the site rulesets otherwise than written, and of the merged lists of the machines; with
        no machine in the document, of one in each group that has a list.
        """
        sites = [ruleset for ruleset in self._estate.rulesets if ruleset.kind == "site"]
        found = [told for ruleset in sites for told in told_of_patterns(ruleset)]
        table = self._estate.coverage_table
        classes: dict[tuple[tuple[str, ...], tuple[str, ...]], list[MemberFacts]] = {}
        for hostname, device in self._devices.items():
            classes.setdefault((self.groups_of(hostname), self._own(hostname)), []).append(facts_from(device))
        if not classes:
            classes = {(groups, ()): [] for groups in self._groups_with_sites({ruleset.key for ruleset in sites})}
        for (groups, names), facts in classes.items():
            merged = list_in_force(self._estate, groups, names, self.now)
            browsers = governed_browsers(facts, table) or any_browsers(table)
            found += told_of_list(merged, browsers, rules=False) if merged.settled else ()
        return list(dict.fromkeys(found))

    def site_list(self, name: str, browser: str, platform: ListPlatform | None) -> BrowserList:
        """The site list of a device of the facts document, or of a group, as a browser is handed it. UnknownDevice."""
        device = self._devices.get(name.casefold())
        table = self._estate.coverage_table
        if device is None:
            if name not in self._estate.group_order and name not in BUILT_IN:
                known = [*self._devices, *self._estate.group_order, *BUILT_IN]
                raise UnknownDevice(unknown_word("device or group", name, known))
            merged = list_in_force(self._estate, groups_alone(name), (), self.now)
            return browser_list(name, merged, table, browser, platform or "linux")
        facts = facts_from(device)
        merged = list_in_force(self._estate, self.groups_of(device.hostname), self._own(device.hostname), self.now)
        return browser_list(
            device.hostname, merged, table, browser, platform or platform_of(facts.platform), facts.browsers
        )

    def _own(self, hostname: str) -> tuple[str, ...]:
        """The device's name, where something is meant for it alone."""
        return (hostname,) if hostname in self._estate.named_devices else ()

    def _groups_with_sites(self, sites: set[str]) -> Iterator[tuple[str, ...]]:
        targets = {key for one in self._estate.assignments if one.ruleset in sites for key in one.groups}
        for key in sorted(targets):
            yield groups_alone(key)

    @property
    def groups_name_time(self) -> bool:
        """Whether it hangs on the moment which groups a device is in."""
        return self._membership.names_time

    def standing(self, attempt: Attempt) -> Standing:
        """How an attempt finds its device. UnknownDevice."""
        device = self._devices.get(attempt.device.casefold().rstrip("."))
        if device is None:
            raise UnknownDevice(unknown_word("device", attempt.device, self._devices) + " in the facts document")
        at = attempt.at or self.now
        groups = self.groups_of(device.hostname, at)
        filled = attempt.model_copy(update={"at": at, "place": attempt.place or device.place})
        case = Case(filled, self.index, self._machine(device, groups), self._user_groups(attempt.user))
        return Standing(device.hostname, self._policy(groups, device.hostname), case, groups)

    def explain(self, attempt: Attempt, left_aside: bool = False) -> Explanation:
        """The whole answer to an attempt. UnknownDevice or BadUrl where it cannot be judged."""
        hostname, policy, case, groups = self.standing(attempt)
        whole = self._policy(groups, hostname, whole=True) if left_aside else None
        return explain(policy, case, whole=whole)

    def alike(self) -> list[Alike]:
        """Every device of the facts document by itself."""
        return [
            Alike(self.groups_of(hostname), (DeviceName(id=hostname, hostname=hostname),), self._asking(hostname))
            for hostname in self._devices
        ]

    def _asking(self, hostname: str) -> Callable[[Attempt, Verdict], WhyAsked]:
        def ask(attempt: Attempt, expected: Verdict) -> WhyAsked:
            return self.question(attempt.model_copy(update={"device": hostname}), expected)

        return ask

    def programs_of(self, name: str) -> tuple[Application, ...]:
        """The programs that a device of the facts document tells of; none where there is no such device."""
        device = self._devices.get(name.casefold().rstrip("."))
        return device.applications if device is not None else ()

    def question(self, attempt: Attempt, expected: Verdict) -> WhyAsked:
        """An attempt, and what was expected of it. UnknownDevice."""
        hostname, policy, case, groups = self.standing(attempt)
        device = self._devices[hostname]
        known = Known(self._estate, lambda: device.applications, self._known_machine, self._directory)
        return WhyAsked(
            estate=self._estate,
            policy=policy,
            case=case,
            groups=groups,
            names=(hostname,),
            expected=expected,
            known=known,
            facts=device,
        )

    def _known_machine(self, name: str) -> str | None:
        return name if name in self._devices else None

    def _user_groups(self, user: str | None) -> frozenset[str]:
        if user is None:
            return frozenset()
        known = self._people.get(user)
        if known is None:
            known = self._people[user] = self._directory.groups_of(user)
        return known

    def _policy(self, groups: tuple[str, ...], hostname: str, whole: bool = False) -> Policy:
        names = self._own(hostname)
        key = (groups, names, whole)
        policy = self._policies.get(key)
        if policy is None:
            more = {"states": ANY_STATE} if whole else {}
            bundle = compile_bundle(self._estate, groups, names, **more)
            policy = self._policies[key] = Policy(bundle, hostname if names else "")
        return policy


def _applications(device: DocumentDevice) -> list[Application]:
    """The programs known of a device, those of its browsers among them."""
    return [*device.applications, *(browser.application for browser in device.browsers if browser.application)]


def with_frozen_members(estate: Estate, applications: list[Application]) -> Estate:
    """The estate with what its frozen sets hold, where the document does not say: what is found now. CannotFreeze."""
    waiting = [
        application_set
        for application_set in estate.application_sets
        if not application_set.following and application_set.frozen_members is None
    ]
    if not waiting:
        return estate
    frozen = {
        application_set.key: application_set.model_copy(
            update={
                "frozen_members": members_of(
                    application_set, applications, estate.application_set_by_key, estate.corrected_programs
                )
            }
        )
        for application_set in waiting
    }
    return estate.replacing(
        application_sets=tuple(
            frozen.get(application_set.key, application_set) for application_set in estate.application_sets
        )
    )
