"""One attempt in several places: over all groups, on two machines, now and earlier; what of the differences decides."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from datetime import datetime
from functools import partial

from portero.core.insight.predicting import Alike
from portero.core.insight.whys import WhyAsked
from portero.core.nouns.action import Verdict
from portero.core.nouns.compared import (
    AttemptAnywhere,
    Differing,
    EarlierCompared,
    GroupVerdicts,
    MachinesCompared,
    MachineVerdict,
)
from portero.core.nouns.estate import Estate
from portero.core.nouns.urls import parse_visit
from portero.core.nouns.verdict import Explanation
from portero.core.resolving.compiling import compile_bundle
from portero.core.resolving.enforcement import Machine, gateway_of
from portero.core.resolving.policy import Policy
from portero.core.sentences import clock_off_by
from portero.core.sentences import runs as words
from portero.core.wording import joined


def over_groups(tried: AttemptAnywhere, machines: Sequence[Alike], order: Iterable[str]) -> tuple[GroupVerdicts, ...]:
    """What all machines would do about an attempt, by their groups in this order. BadUrl."""
    if tried.url is not None:
        parse_visit(tried.url)
    meant: dict[str, Counter[Verdict]] = {}
    does: dict[str, Counter[Verdict]] = {}
    examples: dict[str, dict[Verdict, str]] = {}
    for alike in machines:
        first = alike.devices[0].hostname
        told = alike.ask(tried.on(first), Verdict.BLOCK).explanation
        for group in alike.groups:
            meant.setdefault(group, Counter())[told.intended.verdict] += len(alike.devices)
            does.setdefault(group, Counter())[told.effective.verdict] += len(alike.devices)
            examples.setdefault(group, {}).setdefault(told.effective.verdict, first)
    return tuple(
        GroupVerdicts(
            group=group,
            devices=does[group].total(),
            intended=dict(meant[group]),
            effective=dict(does[group]),
            examples=examples[group],
        )
        for group in order
        if group in does
    )


def verdict_on(asked: WhyAsked) -> MachineVerdict:
    """What a machine would do about an attempt."""
    return _verdict(asked.names[-1], asked.explanation)


def _verdict(hostname: str, told: Explanation) -> MachineVerdict:
    settling = [one for one in told.effective.layers if one.verdict is told.effective.verdict]
    winner = next((one.winner for one in settling if one.winner is not None), None)
    stopping = [one.why for one in told.effective.layers if one.winner is not None] or [one.why for one in settling]
    caveats = [one.detail for one in told.effective.caveats] if told.gap != "none" else []
    return MachineVerdict(
        device=hostname,
        intended=told.intended.verdict,
        effective=told.effective.verdict,
        rule=winner,
        why=" ".join(dict.fromkeys([*stopping, *caveats])),
    )


# --- two machines ---


_WORDS = {
    "lifecycle": "lifecycle",
    "layers": "layers",
    "layer_versions": "versions of the layers",
    "is_server": "kind",
    "platform": "platform",
    "platform_version": "version of the platform",
    "place": "place",
    "zone": "time zone",
}


def two_machines(first: WhyAsked, second: WhyAsked) -> MachinesCompared:
    """The same attempt on two machines: each difference between them, and whether it alone makes the first do what the
    second does.
    """
    differing = [*_of_rules(first, second), *_of_facts(first, second)]
    one, other = verdict_on(first), verdict_on(second)
    deciding = [each.what for each in differing if each.decides]
    return MachinesCompared(
        first=one,
        second=other,
        differing=tuple(differing),
        sentence=words.compared(one, other, deciding),
    )


def _decides(first: WhyAsked, second: WhyAsked, then: Callable[[], Verdict]) -> bool:
    return first.found is not second.found and then() is second.found


def _of_rules(first: WhyAsked, second: WhyAsked) -> Iterable[Differing]:
    """The groups, with the rules that come of them; and whether what they hold is the newest."""
    if first.groups != second.groups:

        def in_the_others() -> Verdict:
            is_current = first.case.machine.applied is first.policy
            applied = second.policy if is_current else second.case.machine.applied
            return first.verdict(second.policy, applied=applied)

        yield Differing(
            what="groups",
            first=joined([key for key in first.groups if key not in second.groups]) or "none of its own",
            second=joined([key for key in second.groups if key not in first.groups]) or "none of its own",
            decides=_decides(first, second, in_the_others),
        )
    if first.case.machine.current != second.case.machine.current:

        def delivered() -> Verdict:
            return first.verdict(applied=first.policy, current=True)

        yield Differing(
            what="bundle",
            first=_held(first.case.machine),
            second=_held(second.case.machine),
            decides=_decides(first, second, delivered),
        )


def _held(machine: Machine) -> str:
    return "the newest" if machine.current else "an older one" if machine.applied is not None else "none"


def _of_facts(first: WhyAsked, second: WhyAsked) -> Iterable[Differing]:
    """What the machines tell that counts."""
    one, other = first.case.machine, second.case.machine
    for name, what in _WORDS.items():
        has, had = getattr(one, name), getattr(other, name)
        if has != had:
            yield Differing(
                what=what,
                first=_said(has),
                second=_said(had),
                decides=_decides(first, second, partial(first.verdict, **{name: had})),
            )
    for what, name, tell in (("clock", "clock_ahead", _clock), ("browsers", "browsers", _browsers)):
        has = getattr(other, name)
        if getattr(one, name) != has:
            decides = _decides(first, second, partial(first.verdict, **{name: has}))
            yield Differing(what=what, first=tell(one), second=tell(other), decides=decides)
    gateways = [
        gateway_of(first.policy.bundle, asked.case.place, asked.case.machine.addresses) for asked in (first, second)
    ]
    if gateways[0] != gateways[1]:
        yield Differing(
            what="network",
            first=gateways[0] or "none that a gateway filters",
            second=gateways[1] or "none that a gateway filters",
            decides=_decides(first, second, partial(first.verdict, addresses=other.addresses, place=other.place)),
        )


def _clock(machine: Machine) -> str:
    return "right" if machine.clock_ahead is None else clock_off_by(machine.clock_ahead)


def _said(value: object) -> str:
    if hasattr(value, "model_dump"):
        given = value.model_dump(exclude_none=True)
        return ", ".join(f"{name} {mode}" for name, mode in given.items()) or "not reported"
    return "not reported" if value is None else str(value)


def _browsers(machine: Machine) -> str:
    told = [
        f"{one.name} {one.version or ''}".strip() + ("" if one.managed else ", unmanaged") for one in machine.browsers
    ]
    return "; ".join(told) or "none reported"


# --- now and earlier ---


def now_and_earlier(
    now: WhyAsked, revision: int, earlier: WhyAsked, earlier_revision: int, at: datetime | None
) -> EarlierCompared:
    """What becomes of an attempt on a machine now, and would have earlier; each difference, and whether it alone makes
    that of now what it was.
    """
    differing = []
    if revision != earlier_revision:
        one, other = _by_number(revision), _by_number(earlier_revision)
        decides = _decides(now, earlier, lambda: by_earlier(now, earlier.estate).found)
        differing.append(Differing(what="rules", first=one, second=other, decides=decides))
    differing += [*_of_rules(now, earlier), *_of_facts(now, earlier)]
    found, was = verdict_on(now), verdict_on(earlier)
    return EarlierCompared(
        device=now.names[-1],
        revision=revision,
        now=found,
        earlier_revision=earlier_revision,
        earlier_at=at,
        earlier=was,
        differing=tuple(differing),
        sentence=words.now_and_earlier(found, was, [each.what for each in differing if each.decides]),
    )


def _by_number(revision: int) -> str:
    return f"those of revision {revision}"


def by_earlier(now: WhyAsked, earlier: Estate) -> WhyAsked:
    """The same attempt on the machine as it is, by an earlier state of the estate, which it holds."""
    policy = Policy(compile_bundle(earlier, now.groups, now.names), now.policy.device)
    machine = now.case.machine._replace(applied=policy, current=True, coverage=earlier.coverage_table)
    return replace(now, estate=earlier, policy=policy, case=now.case._replace(machine=machine))
