"""Cases as files: JSON, with the bundles as they travel. Made where a machine saw something else than was predicted."""

from __future__ import annotations

import base64
import binascii

from pydantic import ValidationError

from portero.core.insight.observing import predicted_of
from portero.core.insight.whys import WhyAsked
from portero.core.matching.categories import MemoryIndex
from portero.core.nouns.base import without_tags
from portero.core.nouns.device import Facts
from portero.core.nouns.faults import fault_at, fault_of
from portero.core.nouns.observation import Observation
from portero.core.nouns.probe_case import KeptBundle, ProbeCase, Replayed
from portero.core.nouns.urls import parse_visit
from portero.core.resolving.bundles import Bundle, coverage_of
from portero.core.resolving.enforcement import Machine
from portero.core.resolving.explaining import Case, explain
from portero.core.resolving.policy import Policy
from portero.core.sentences import observing as words
from portero.formats.bundles import pack_bundle, read_bundle
from portero.formats.packing import BadBundle


class BadCase(ValueError):
    """The file is no case, or is damaged; the message says what is wrong where."""


def case_of(asked: WhyAsked, facts: Facts, observation: Observation) -> ProbeCase:
    """What a machine saw otherwise than predicted, with all that the prediction was made of."""
    machine, attempt = asked.case.machine, asked.case.attempt
    told = {name: value for name, value in dict(facts).items() if name != "signed_in"}
    return ProbeCase(
        portero_case=1,
        observation=observation,
        attempt=attempt,
        newest=_kept(asked.policy),
        held=None if machine.applied is None else _kept(machine.applied),
        facts=Facts.model_validate({**told, "applications": ()}),
        lifecycle=machine.lifecycle,
        current=machine.current,
        index_current=machine.index_current,
        has_index=machine.has_index,
        since=dict(machine.since),
        hosts=_hosts(asked.case),
        user_groups=tuple(sorted(asked.case.user_groups)),
        catalogue=_functions(asked.case),
    )


def _kept(policy: Policy) -> KeptBundle:
    packed = pack_bundle(policy.bundle)
    return KeptBundle(digest=packed.digest, packed=base64.b64encode(packed.packed).decode())


def _hosts(case: Case) -> dict[str, tuple[str, ...]]:
    if case.attempt.url is None:
        return {}
    labels = parse_visit(case.attempt.url).host.split(".")
    above = [".".join(labels[place:]) for place in range(len(labels))]
    return {host: found for host in above if (found := case.categories.get(host))}


def _functions(case: Case) -> dict[str, tuple[str, ...]]:
    product = (case.attempt.start.product if case.attempt.start is not None else None) or ""
    known = case.machine.catalogue
    return {name: tuple(sorted(known[name])) for name in (product.casefold(),) if name in known}


def write_case(case: ProbeCase) -> bytes:
    """A case as the bytes of its file."""
    return case.model_dump_json(exclude_none=True, indent=1).encode()


def read_case(data: bytes) -> ProbeCase:
    """The case in a file. BadCase."""
    try:
        return ProbeCase.model_validate_json(data)
    except ValidationError as problem:
        first = problem.errors()[0]
        raise BadCase(f"this is no case: {fault_at(without_tags(first['loc']), fault_of(first))}") from problem


def replay(case: ProbeCase) -> Replayed:
    """Decide a case again with no service. BadCase where its bundles do not read; BadUrl."""
    newest = _policy(case.newest, case)
    held = None if case.held is None else newest if case.held == case.newest else _policy(case.held, case)
    machine = Machine.of(
        case.facts,
        lifecycle=case.lifecycle,
        applied=held,
        current=case.current,
        index_current=case.index_current,
        has_index=case.has_index,
        since=case.since,
        coverage=coverage_of(newest.bundle),
        catalogue={name: frozenset(found) for name, found in case.catalogue.items()},
    )
    again = Case(case.attempt, MemoryIndex(dict(case.hosts)), machine, frozenset(case.user_groups))
    then = case.observation
    verdict, why, _ = predicted_of(explain(newest, again), then.seen)
    return Replayed(
        observation=then,
        decided=verdict.value,
        reproduced=verdict is then.predicted,
        agrees=verdict is then.seen.verdict,
        why=why,
        sentence=words.replayed(then, verdict, why),
    )


def _policy(kept: KeptBundle, case: ProbeCase) -> Policy:
    try:
        bundle = read_bundle(base64.b64decode(kept.packed, validate=True), kept.digest)
    except (BadBundle, binascii.Error) as problem:
        raise BadCase(f"a bundle of this case does not read: {problem}") from problem
    if not isinstance(bundle, Bundle):
        raise BadCase("a bundle of this case is not whole")
    return Policy(bundle, case.facts.hostname)
