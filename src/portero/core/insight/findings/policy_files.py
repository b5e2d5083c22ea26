"""Of which machines something is the matter with the policy file of a browser, by what it is."""

from __future__ import annotations

from collections.abc import Callable

from portero.core.matching.members import Member, PolicyFacts
from portero.core.nouns.browser_policy import PolicyFileState
from portero.core.resolving.enforcement import overriding


def _overridden(policy: PolicyFacts) -> bool:
    return overriding(policy) is not None


def _unwritten(policy: PolicyFacts) -> bool:
    return policy.state == PolicyFileState.UNWRITTEN


def _tampered(policy: PolicyFacts) -> bool:
    return policy.tampering is not None


def is_in_force(policy: PolicyFacts) -> bool:
    """Whether a browser goes by its policy file."""
    return not _overridden(policy) and not _unwritten(policy)


def _of_policy_file(test: Callable[[PolicyFacts], bool]) -> Callable[[Member], bool]:
    """Whether that is so of the policy file of some browser of a machine."""
    return lambda member: any(one.policy is not None and test(one.policy) for one in member.facts.browsers)


OF_POLICY_FILES = {
    "policy-overridden": _of_policy_file(_overridden),
    "policy-unwritten": _of_policy_file(_unwritten),
    "tampered": _of_policy_file(_tampered),
}
