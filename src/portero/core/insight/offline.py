"""Judge attempts from an estate and a facts document alone, with no service."""

from __future__ import annotations

from datetime import datetime

from portero.core.matching.categories import CategoryIndex
from portero.core.matching.members import Member, facts_from
from portero.core.matching.membership import Membership
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.base import unknown_word
from portero.core.nouns.estate import Estate, FactsDocument
from portero.core.nouns.verdict import Explanation
from portero.core.resolving.bundles import compile_bundle
from portero.core.resolving.deciding import Policy
from portero.core.resolving.explaining import explain
from portero.core.resolving.standing import Standing


class UnknownDevice(LookupError):
    """The facts document has no device of that name."""


class OfflineEstate:
    """An estate with the facts of its devices. Each device is taken to have applied the newest bundle."""

    def __init__(self, estate: Estate, facts: FactsDocument, index: CategoryIndex, now: datetime) -> None:
        """`now` counts for attempts that name no time."""
        self._now = now
        self._estate = estate
        self._index = index
        self._devices = {device.hostname: device for device in facts.devices}
        self._membership = Membership(estate.groups, estate.group_order)
        self._policies: dict[tuple[str, ...], Policy] = {}

    def explain(self, attempt: Attempt) -> Explanation:
        """The whole answer to an attempt. UnknownDevice or BadUrl where it cannot be judged."""
        device = self._devices.get(attempt.device.lower())
        if device is None:
            raise UnknownDevice(unknown_word("device", attempt.device, self._devices) + " in the facts document")
        member = Member(device.hostname, facts_from(device), device.labels)
        policy = self._policy(self._membership.groups_of(member, attempt.at or self._now))
        filled = attempt.model_copy(update={"place": attempt.place or device.place})
        standing = Standing.of(device, applied=policy, coverage=self._estate.coverage_table)
        return explain(policy, filled, self._index, standing)

    def _policy(self, groups: tuple[str, ...]) -> Policy:
        policy = self._policies.get(groups)
        if policy is None:
            policy = self._policies[groups] = Policy(compile_bundle(self._estate, groups))
        return policy
