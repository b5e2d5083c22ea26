"""What is compiled once: an assignment as long as it and its ruleset stay, over many estates."""

from __future__ import annotations

import gc
import weakref

from portero.core.nouns.estate import Estate
from portero.core.resolving import compiling
from portero.core.resolving.compiling import compile_bundle

CLASS = ("whole-fleet",)
DOCUMENT = {
    "portero": 1,
    "rulesets": [
        {"key": key, "kind": "category", "rules": [{"category": "games", "action": "block"}]} for key in ("a", "b")
    ],
    "assignments": [{"key": f"{key}-all", "ruleset": key, "to": ["whole-fleet"]} for key in ("a", "b")],
}


def test_what_stays_is_not_compiled_again_and_what_changed_is():
    estate = Estate.model_validate(DOCUMENT)
    first = compile_bundle(estate, CLASS)
    other = estate.rulesets[1].model_copy(update={"name": "Other"})
    after = compile_bundle(estate.replacing(rulesets=(estate.rulesets[0], other)), CLASS)
    assert after.assignments[0] is first.assignments[0]
    assert (first.assignments[1].ruleset_name, after.assignments[1].ruleset_name) == ("b", "Other")
    # and looking at another state changes nothing of the first
    assert compile_bundle(estate, CLASS).assignments == first.assignments


def test_an_assignment_that_changed_is_compiled_again_on_the_same_ruleset():
    estate = Estate.model_validate(DOCUMENT)
    compile_bundle(estate, CLASS)
    stronger = estate.assignments[0].model_copy(update={"mandatory": True})
    after = compile_bundle(estate.replacing(assignments=(stronger, estate.assignments[1])), CLASS)
    assert [assignment.mandatory for assignment in after.assignments] == [True, False]


def test_what_was_compiled_goes_with_its_ruleset():
    estate = Estate.model_validate(DOCUMENT)
    compile_bundle(estate, CLASS)
    identity, gone = id(estate.rulesets[0]), weakref.ref(estate.rulesets[0])
    assert identity in compiling._of_ruleset
    del estate
    gc.collect()
    assert gone() is None
    assert identity not in compiling._of_ruleset
