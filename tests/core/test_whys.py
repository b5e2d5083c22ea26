"""Every way in which a block does not hold is told, with its proof and the step that mends it."""

from __future__ import annotations

import pytest
from ways import WAYS, Way

from made_estates import BASE, INDEX, Maker
from portero.core.insight.offline import OfflineEstate
from portero.core.insight.whys import cause_of, mended_by, why
from portero.core.matching.categories import MemoryIndex
from portero.core.nouns.action import Verdict
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.estate import Estate, FactsDocument
from portero.core.nouns.why import CauseCode, Stage
from portero.core.sentences.whys import STAGE_OF
from thorough import times


@pytest.mark.parametrize("way", WAYS, ids=lambda way: f"{way.number}-{way.code}")
def test_each_way_is_told_and_what_would_mend_it_does(way: Way):
    question = way.question()
    told = why(question)
    found = {cause.code: cause for cause in told.causes}
    assert way.code in found, (told.sentence, list(found))
    cause = found[way.code]
    assert cause.detail.endswith((".", "!"))
    assert cause.remedy.endswith(".")
    assert cause.decisive is way.mends, told.sentence
    assert (told.cause is way.code) is way.is_cause, told.sentence
    for remedy in cause.remedies:
        mended = mended_by(question, way.code, remedy.key)
        assert not list(mended.faults())
        assert question.under(mended).value == way.expected


@pytest.mark.parametrize("seed", range(times(25, 300)))
def test_on_any_estate_the_answer_agrees_with_the_decision_and_what_decides_does_decide(seed):
    maker = Maker(seed, BASE)
    document, facts = maker.estate(), FactsDocument.model_validate(maker.facts())
    estate = Estate.model_validate(document)
    offline = OfflineEstate(estate, facts, MemoryIndex(dict(INDEX)), BASE)
    for _ in range(6):
        attempt = Attempt.model_validate(maker.attempt())
        for expected in Verdict:
            question = offline.question(attempt, expected)
            told = why(question)
            assert told.found is offline.explain(attempt).effective.verdict
            assert told.holds is (told.found is expected)
            assert told.holds or told.causes, told.sentence
            assert (told.cause is None) is told.holds
            for cause in told.causes:
                mends = [mended_by(question, cause.code, remedy.key) for remedy in cause.remedies]
                assert all(not list(mended.faults()) for mended in mends)
                # a layer that is let enforce does so once the machine follows
                if cause.decisive and mends and cause.stage is not Stage.ENFORCEMENT:
                    assert question.under(mends[0]) is expected


@pytest.mark.parametrize("seed", range(times(10, 100)))
def test_in_short_the_cause_is_the_same_wherever_it_lies_at_the_machine(seed):
    maker = Maker(seed, BASE)
    estate, facts = Estate.model_validate(maker.estate()), FactsDocument.model_validate(maker.facts())
    offline = OfflineEstate(estate, facts, MemoryIndex(dict(INDEX)), BASE)
    for _ in range(10):
        question = offline.question(Attempt.model_validate(maker.attempt()), maker.rng.choice(tuple(Verdict)))
        told, short = why(question), cause_of(question.shortly(question.matching()))
        assert (short is None) is told.holds
        if told.cause is not None and STAGE_OF[told.cause] in (Stage.DELIVERY, Stage.ENFORCEMENT, Stage.REACH):
            assert short.code is told.cause


@pytest.mark.parametrize("way", WAYS, ids=lambda way: f"{way.number}-{way.code}")
def test_each_way_is_recognised_in_short_but_for_what_takes_looking_elsewhere(way: Way):
    question = way.question()
    short = cause_of(question.shortly(question.matching()))
    assert (short is None) is (question.found is question.expected)
    if way.is_cause and way.code not in (CauseCode.RE_POINTED, CauseCode.ONLY_OTHER_HOSTS):
        assert short.code is way.code
