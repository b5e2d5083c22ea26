"""All generated sentences, read over generated estates: numbers agree, nothing is doubled, nothing gapes."""

from __future__ import annotations

import re
from collections.abc import Iterator

import pytest
from worlds import HOSTS, Fleet, changed, made

from portero.core import sentences
from portero.core.insight.blocks import blocks
from portero.core.insight.differences import differences
from portero.core.insight.effects.subjects import KnownSubjects
from portero.core.insight.findings import find_all
from portero.core.insight.previews import look_ahead
from portero.core.insight.readiness import blocker, modes_of, obstacles
from portero.core.insight.taking_hold import hidden_content, hindrances
from portero.core.insight.warnings import SeenBeside, warn_of_assignment, warn_of_ruleset
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.estate import Estate
from portero.core.resolving.compiling import compile_bundle
from portero.core.resolving.enforcement import Machine
from portero.core.resolving.explaining import Case
from portero.core.resolving.policy import Policy

NOUNS = (
    "machine|rule|category|family|host|URL|address|indicator|program|class|group|person|finding|day|minute|hour|visit|"
    "assignment|ruleset|schedule|site pattern|bundle|word|exception|feed|service|application set|search term|media type"
)
PLURALS = NOUNS.replace("|", "s|") + "s|classes|categories|families|people|searches"
WRONG = {
    "a plural of one": re.compile(rf"\b1 (?:more )?(?:{PLURALS})\b"),
    "a singular of many": re.compile(rf"\b(?:0|[2-9]|\d[\d,]*\d) (?:more )?(?:{NOUNS})\b(?!-)"),
    "none of something": re.compile(r"(?<![\d.,:/–-])\b0 [a-z]+s\b"),
    "a word twice": re.compile(r"\b([A-Za-z]{2,}) \1\b(?!-)"),
    "a gap": re.compile(r"\{|\}|\bNone\b|  |\(\)|“”| [,.;:]|(?<!/)\.\.(?!\d)|,,|;;|: *\.?$"),
    "a stop after a mark": re.compile(r"[?!;:,]\."),
    "a joining word twice": re.compile(r"\b(?:and|or) (?:and|or)\b"),
}
SEEDS = range(1, 9)


def faults(sentence: str) -> list[str]:
    """What is wrong with a sentence."""
    found = [f"{what}: {match[0]!r}" for what, pattern in WRONG.items() if (match := pattern.search(sentence))]
    if not sentence.endswith((".", "?", "!")):
        found.append("no stop")
    if sentence != sentence.strip():
        found.append("blanks around it")
    return found


def _of_estate(estate: Estate) -> Iterator[str]:
    yield from map(sentences.ruleset_sentence, estate.rulesets)
    for assignment in estate.assignments:
        yield sentences.assignment_sentence(assignment, estate.ruleset_by_key[assignment.ruleset])
    yield from map(sentences.schedule_sentence, estate.schedules)
    yield from map(sentences.application_set_sentence, estate.application_sets)
    for group in estate.groups:
        yield sentences.membership_sentence(group.members) + "."


def _of_change(before: Estate, after: Estate, fleet: Fleet) -> Iterator[str]:
    changes = tuple(differences(before, after))
    for ahead in (False, True):
        yield sentences.summary_of(changes, ahead) + "."
        for change in changes:
            yield sentences.change_sentence(change, ahead) + "."
    for change in changes:
        for detail in sentences.change_details(change):
            yield detail + "."
    world = fleet.world(before)
    groups, then = fleet.groups(before), fleet.groups(after)
    moved = {id: own for id, own in then.items() if own != groups[id]}
    seen = look_ahead(before, after, moved, world)
    yield from seen.losses
    for verdict in seen.verdicts:
        yield f"{verdict.words}, {verdict.when or 'always'}, by {verdict.by or 'no rule'}."
    modes = modes_of(after, ())
    held = hindrances(
        seen.tightened,
        hidden_content(seen.verdicts),
        lambda member: obstacles(member.facts, modes, after.coverage_table),
        after.coverage_table,
    )
    for hindrance in held:
        yield hindrance.detail
        yield hindrance.remedy


def _of_findings(estate: Estate, fleet: Fleet) -> Iterator[str]:
    world = fleet.world(estate)
    for finding in find_all(estate, world, frozenset()).items:
        yield finding.sentence
        if finding.detail:
            yield finding.detail if finding.detail.endswith(".") else finding.detail + "."
        for remedy in finding.remedies:
            yield remedy.sentence
    for ruleset in estate.rulesets:
        for warning in warn_of_ruleset(ruleset, estate, world, HOSTS, lambda host: SeenBeside((f"x.{host}",), 1)):
            yield warning.sentence
    for assignment in estate.assignments:
        for warning in warn_of_assignment(assignment, estate, world):
            yield warning.sentence


def _of_machines(maker, estate: Estate, fleet: Fleet) -> Iterator[str]:
    offline, groups = fleet.offline(estate), fleet.groups(estate)
    for _ in range(20):
        found = offline.explain(Attempt.model_validate(maker.attempt()), left_aside=True)
        for layer in (*found.intended.layers, *found.effective.layers):
            yield layer.why
            if layer.note:
                yield layer.note
            for other in (*layer.lost, *(layer.left_aside or ())):
                yield other.why + "."
        for caveat in found.effective.caveats:
            yield from (caveat.detail, caveat.remedy)
    for device in fleet.document.devices:
        policy = Policy(compile_bundle(estate, groups[device.hostname], (device.hostname,)), device.hostname)
        machine = Machine.of(device, applied=policy, coverage=estate.coverage_table)
        attempt = Attempt(device=device.hostname, url="http://nothing.test/", at=maker.base)
        known = KnownSubjects.of((estate,), lambda own=device: own.applications, {})
        told = blocks(policy, Case(attempt, HOSTS, machine), estate, known, {})
        yield from (count.sentence for count in told.counts)
        yield from (one.sentence for one in told.sometimes)
        yield from (f"{row.name}." for row in told.rules)
        yield sentences.undecided(told.undecided)
    for member in fleet.members:
        modes = modes_of(estate, groups[member.id])
        for words in map(blocker, obstacles(member.facts, modes, estate.coverage_table)):
            yield from (words.detail, words.remedy)


@pytest.mark.parametrize("seed", SEEDS)
def test_every_generated_sentence_reads_well(seed):
    maker, estate, fleet = made(seed)
    after = changed(maker, estate, seed + 100)
    said = {
        *_of_estate(estate),
        *_of_change(estate, after, fleet),
        *_of_change(after, estate, fleet),
        *_of_findings(estate, fleet),
        *_of_machines(maker, estate, fleet),
    }
    wrong = {sentence: found for sentence in said if (found := faults(sentence))}
    assert len(said) > 60
    assert wrong == {}


@pytest.mark.parametrize(
    ("sentence", "fault"),
    [
        ("It reaches 1 machines.", "a plural of one"),
        ("It reaches 4 machine.", "a singular of many"),
        ("No rule names the other 0 categories.", "none of something"),
        ("It is on on ships.", "a word twice"),
        ("It is on {where}.", "a gap"),
        ("It is on ships", "no stop"),
    ],
)
def test_the_reader_finds_what_is_wrong(sentence, fault):
    assert any(found.startswith(fault) for found in faults(sentence))
