"""Findings about what is meant and not carried out: layers that do not enforce, services that were declined."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

from portero.core import sentences
from portero.core.by_identity import ByIdentity
from portero.core.insight.effects.subjects import Subject
from portero.core.insight.effects.world import World
from portero.core.insight.findings.alone import Put
from portero.core.insight.findings.told import HeldMembers, Told, finding, rule_at
from portero.core.matching.classes import Groups
from portero.core.matching.members import Member
from portero.core.nouns.action import STOPPING, Action, overridden
from portero.core.nouns.assignment import Assignment, State
from portero.core.nouns.estate import Estate
from portero.core.nouns.finding import FindingKind, Severity
from portero.core.nouns.layer import LAYERS, LayerMode, LayerName
from portero.core.nouns.rule import Rule
from portero.core.nouns.ruleset import KINDS_OF_LAYER, Ruleset
from portero.core.nouns.selector import OF_SERVICES
from portero.core.nouns.service import Decision, Service
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.core.resolving.deciding import Visited
from portero.core.wording import LAYER_WORDS

ESTATE = "estate"


class _Word(NamedTuple):
    """Whose word makes a layer do less than enforce: a group's or the estate's."""

    by: str
    layer: LayerName
    mode: LayerMode


@dataclass(frozen=True)
class Undone:
    """Looks at the estate for what is decided and undone elsewhere. `puts` are its assignments."""

    estate: Estate
    world: World
    puts: Sequence[Put]

    def find(self) -> Iterator[Told]:
        """All of them."""
        stopping = [put for put in self.puts if self._is_in_force(put) and any(self._stopping(put))]
        yield from self._layers(stopping)
        yield from self._services(stopping)
        yield from self._beaten(stopping)

    def _is_in_force(self, put: Put) -> bool:
        ends = put.assignment.ends
        return put.assignment.state is State.ACTIVE and (ends is None or ends > self.world.now) and len(put.devices) > 0

    @staticmethod
    def _stopping(put: Put) -> Iterator[Rule]:
        """Its rules that stop something."""
        return (rule for rule in put.ruleset.rules if overridden(rule.action, put.assignment.action) in STOPPING)

    # --- layers ---

    def _layers(self, stopping: Sequence[Put]) -> Iterator[Told]:
        undone: dict[_Word, list[Put]] = defaultdict(list)
        members: dict[_Word, dict[str, Member]] = defaultdict(dict)
        for put in stopping:
            for layer in LAYERS:
                if put.ruleset.kind in KINDS_OF_LAYER[layer]:
                    for word, held in self._words_over(put, layer).items():
                        undone[word].append(put)
                        members[word].update((member.id, member) for member in held)
        for word, puts in undone.items():
            yield self._told(word, puts, list(members[word].values()))

    def _words_over(self, put: Put, layer: LayerName) -> dict[_Word, list[Member]]:
        """By whose words a layer does not enforce on which of its devices, where that is to be told: a group may well
        have a layer off, but not against what is mandatory. That the startup layer of the estate does not enforce is
        told of each assignment.
        """
        found: dict[_Word, list[Member]] = defaultdict(list)
        for some in put.devices.lists:
            for word, members in self._words_among(layer, some).items():
                if put.assignment.mandatory if word.by != ESTATE else layer != "startup":
                    found[word] += members
        return found

    def _words_among(self, layer: LayerName, some: Sequence[Member]) -> dict[_Word, list[Member]]:
        """By whose words a layer does not enforce on which of some devices."""
        known = self._among.get((layer, id(some)))
        if known is None:
            known = self._among[layer, id(some)] = defaultdict(list)
            # all of a class are in the same groups
            uniform = bool(some) and some is self.world.classes.get(self.world.groups(some[0].id))
            for member in some[:1] if uniform else some:
                word = self._word_over(layer, self.world.groups(member.id))
                if word.mode is not LayerMode.ENFORCING:
                    known[word] += some if uniform else [member]
        return known

    @cached_property
    def _among(self) -> dict[tuple[LayerName, int], dict[_Word, list[Member]]]:
        return {}

    def _word_over(self, layer: LayerName, groups: Groups) -> _Word:
        known = self._words.get((layer, groups))
        if known is None:
            by, mode = self.estate.mode_given_by(layer, groups), self.estate.mode_of(layer, groups)
            known = self._words[layer, groups] = _Word(by, layer, mode)
        return known

    @cached_property
    def _words(self) -> dict[tuple[LayerName, Groups], _Word]:
        return {}

    def _told(self, word: _Word, puts: Sequence[Put], members: Sequence[Member]) -> Told:
        mandatory = [put for put in puts if put.assignment.mandatory]
        about = mandatory or puts
        severity = Severity.HIGH if mandatory and word.mode is LayerMode.OFF else Severity.MEDIUM
        of_group = word.by != ESTATE
        words = sentences.undone_by_layer(
            LAYER_WORDS[word.layer],
            word.mode.value,
            word.by,
            [put.words for put in about],
            bool(mandatory),
            len(members),
        )
        return finding(
            FindingKind.UNDONE_BY_LAYER,
            severity,
            (word.by, word.layer),
            words,
            assignments=[put.assignment.key for put in about],
            rulesets=list(dict.fromkeys(put.ruleset.key for put in about)),
            groups=(word.by,) if of_group else (),
            devices=HeldMembers([members]),
            remedies=[(f"enforce-{word.layer}", {"group": word.by})] if of_group else (),
        )

    # --- allows ---

    def _beaten(self, stopping: Sequence[Put]) -> Iterator[Told]:
        """Indicators' allows of hosts that a mandatory category rule stops for all: two kinds, one ladder."""
        stronger = [put for put in stopping if put.ruleset.kind == "category" and _is_always(put.assignment)]
        holding = [_Holding(other) for other in stronger]
        for put in self.puts if stronger else ():
            if put.ruleset.kind != "indicator" or put.assignment.mandatory or not self._is_in_force(put):
                continue
            stays = overridden(Action.ALLOW, put.assignment.action) is Action.ALLOW
            if stays and (allows := _allows.of(put.ruleset)):
                over = [one.put for one in holding if one.holds_all(put)]
                yield from self._beaten_by(put, allows, over)

    def _beaten_by(self, put: Put, allows: Sequence[tuple[int, Rule]], over: Sequence[Put]) -> Iterator[Told]:
        show = self.world.matcher(self.estate).show
        beaten: dict[str, list[int]] = defaultdict(list)
        for number, rule in allows:
            visited = show(Subject(rule.selector.kind, rule.selector.value, f"http://{rule.host_named}/")).visited
            by = next((other for other in over if visited and self._is_stopped(other, visited)), None)
            if by is not None:
                beaten[by.assignment.key].append(number)
        for other in over:
            if numbers := beaten.get(other.assignment.key):
                words = [sentences.selector_words(put.ruleset.rules[number - 1]) for number in numbers]
                yield put.told(
                    FindingKind.ALLOW_BEATEN,
                    Severity.MEDIUM,
                    sentences.allow_beaten(put.words, words, other.words, len(put.devices)),
                    code=other.assignment.key,
                    assignments=(put.assignment.key, other.assignment.key),
                    rulesets=(put.ruleset.key, other.ruleset.key),
                    groups=put.assignment.groups,
                    rules=[rule_at(put.ruleset, number) for number in numbers],
                    remedies=put.removing if len(numbers) == len(put.ruleset.rules) else (),
                )

    def _is_stopped(self, put: Put, visited: Visited) -> bool:
        """Whether a category ruleset stops a host, and opens nothing of it."""
        met = [rule for rule in put.ruleset.rules if _meets(rule, visited)]
        return any(rule in met for rule in self._stopping(put)) and all(rule.action is not Action.ALLOW for rule in met)

    # --- services ---

    def _services(self, stopping: Sequence[Put]) -> Iterator[Told]:
        declined = [service for service in self.estate.services if service.decision is Decision.DECLINED]
        indicators = [put for put in stopping if put.ruleset.kind == "indicator"] if declined else []
        rules = [rule for put in indicators for rule in self._stopping(put)]
        for service in declined:
            if not any(_stops(rule, service) for rule in rules):
                yield finding(
                    FindingKind.NOT_CARRIED_OUT,
                    Severity.MEDIUM,
                    (service.key,),
                    sentences.not_carried_out(service.name or service.key),
                )


def _allows_of_hosts(ruleset: Ruleset) -> list[tuple[int, Rule]]:
    rules = enumerate(ruleset.rules, 1)
    return [(number, rule) for number, rule in rules if rule.action is Action.ALLOW and rule.host_named is not None]


_allows = ByIdentity(_allows_of_hosts)


def _is_always(assignment: Assignment) -> bool:
    """Whether it is mandatory, for everybody, everywhere and at all times."""
    bound = (assignment.names_people, assignment.schedule, assignment.starts, assignment.ends, assignment.until_restart)
    return assignment.mandatory and assignment.place == "anywhere" and not any(bound)


class _Holding:
    """An assignment with all devices that it is on."""

    def __init__(self, put: Put) -> None:
        self.put, self._lists = put, {id(some) for some in put.devices.lists}

    @cached_property
    def _ids(self) -> set[str]:
        return {member.id for member in self.put.devices}

    def holds_all(self, other: Put) -> bool:
        """Whether it is on all devices of another one."""
        if len(other.devices) > len(self.put.devices):
            return False
        rest = [some for some in other.devices.lists if id(some) not in self._lists]
        return all(member.id in self._ids for some in rest for member in some)


def _meets(rule: Rule, visited: Visited) -> bool:
    """Whether a category rule is about the host that is visited."""
    families = {TAXONOMY.family_of.get(key) for key in visited.categories}
    return bool(rule.everything) or rule.category in visited.categories or (rule.family or "") in families


def _stops(rule: Rule, service: Service) -> bool:
    """Whether a rule stops the service, or one of its hosts."""
    if rule.selector.kind in OF_SERVICES:
        return service.is_meant_by(rule.selector)
    named = rule.host_named
    return named is not None and any(host == named or host.endswith(f".{named}") for host in service.hosts)
