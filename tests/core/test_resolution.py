"""Each consequence that the page on resolution states, as a test with a small estate."""

from __future__ import annotations

import pytest

from conftest import assignment, group, ruleset
from portero.core.nouns.estate import Estate
from portero.core.resolving.bundles import compile_bundle
from portero.core.resolving.deciding import Policy, decide
from portero.core.resolving.explaining import explain_filter

ALL = ("strong", "weak", "whole-fleet")


def estate(rulesets, assignments, **more) -> Estate:
    made = []
    for one in assignments:
        made.append(one.keyed([other.key for other in made]))
    return Estate(
        precedence=("strong", "weak"),
        groups=(group("strong"), group("weak")),
        rulesets=tuple(rulesets),
        assignments=tuple(made),
        **more,
    )


def outcome(estate: Estate, *categories: str, groups=ALL):
    layer = explain_filter(Policy(compile_bundle(estate, groups)), categories)
    return layer.verdict.value, layer.winner.assignment if layer.winner else None


def test_a_host_that_no_rule_names_is_allowed():
    assert outcome(estate([], []), "news") == ("allow", None)


def test_block_beats_log_in_the_same_category():
    made = estate(
        [ruleset("log", games="log"), ruleset("block", games="block")],
        [assignment("log", "strong"), assignment("block", "whole-fleet")],
    )
    layer = explain_filter(Policy(compile_bundle(made, ALL)), ("games",))
    assert layer.verdict == "block"
    assert [one.ruleset for one in layer.logged] == ["log"]


def test_a_stronger_group_can_allow_what_a_weaker_one_blocks():
    made = estate(
        [ruleset("open", games="allow"), ruleset("shut", games="block")],
        [assignment("shut", "weak"), assignment("open", "strong")],
    )
    assert outcome(made, "games") == ("allow", "open--strong")
    assert outcome(made, "games", groups=("weak", "whole-fleet")) == ("block", "shut--weak")


def test_a_mandatory_block_is_not_lifted_by_a_stronger_ordinary_allow():
    made = estate(
        [ruleset("open", games="allow"), ruleset("shut", games="block")],
        [assignment("shut", "whole-fleet", mandatory=True), assignment("open", "strong")],
    )
    assert outcome(made, "games") == ("block", "shut--whole-fleet")


def test_an_ordinary_block_still_holds_over_a_mandatory_warn():
    made = estate(
        [ruleset("must", games="warn"), ruleset("own", games="block")],
        [assignment("must", "whole-fleet", mandatory=True), assignment("own", "weak")],
    )
    assert outcome(made, "games") == ("block", "own--weak")


def test_a_mandatory_allow_is_not_tightened():
    made = estate(
        [ruleset("must", games="allow"), ruleset("own", games="block")],
        [assignment("must", "whole-fleet", mandatory=True), assignment("own", "strong")],
    )
    assert outcome(made, "games") == ("allow", "must--whole-fleet")


def test_no_group_outranks_anothers_mandatory_word():
    made = estate(
        [ruleset("soft", games="warn"), ruleset("hard", games="block")],
        [assignment("soft", "strong", mandatory=True), assignment("hard", "whole-fleet", mandatory=True)],
    )
    assert outcome(made, "games") == ("block", "hard--whole-fleet")


def test_category_is_narrower_than_family_and_family_than_everything():
    made = estate(
        [ruleset("mixed", games="allow", family_pastime="warn", everything="block")], [assignment("mixed", "weak")]
    )
    assert outcome(made, "games")[0] == "allow"
    assert outcome(made, "music")[0] == "warn"
    assert outcome(made, "news")[0] == "block"


def test_the_selector_comes_before_the_target():
    made = estate(
        [ruleset("broad", family_pastime="allow"), ruleset("narrow", games="block")],
        [assignment("broad", "strong"), assignment("narrow", "whole-fleet")],
    )
    assert outcome(made, "games") == ("block", "narrow--whole-fleet")


def test_a_host_in_two_categories_one_allowed_one_blocked_is_blocked():
    made = estate([ruleset("both", games="allow", gambling="block")], [assignment("both", "weak")])
    assert outcome(made, "games", "gambling")[0] == "block"


def test_under_everything_block_a_site_passes_only_if_each_of_its_categories_is_allowed():
    made = estate([ruleset("only", news="allow", reference="allow", everything="block")], [assignment("only", "weak")])
    assert outcome(made, "news", "reference")[0] == "allow"
    assert outcome(made, "news", "shopping")[0] == "block"
    assert outcome(made, "uncategorised")[0] == "block"


def test_of_an_assignments_targets_the_strongest_that_holds_the_device_counts():
    made = estate(
        [ruleset("open", games="allow"), ruleset("shut", games="block")],
        [assignment("open", "weak"), assignment("shut", "whole-fleet", "strong")],
    )
    assert outcome(made, "games") == ("block", "shut--whole-fleet")
    assert outcome(made, "games", groups=("weak", "whole-fleet")) == ("allow", "open--weak")


@pytest.mark.parametrize(
    ("override", "expected"),
    [
        (None, ("warn", "allow")),
        ("block", ("block", "allow")),
        ("warn", ("warn", "allow")),
        ("log", ("allow", "allow")),
    ],
)
def test_an_override_replaces_warn_and_block_and_log_turns_all_into_log(override, expected):
    made = estate([ruleset("mix", games="warn", music="allow")], [assignment("mix", "weak", action=override)])
    policy = Policy(compile_bundle(made, ALL))
    verdicts = tuple(explain_filter(policy, (category,)).verdict.value for category in ("games", "music"))
    assert verdicts == expected
    assert len(explain_filter(policy, ("music",)).logged) == (override == "log")


@pytest.mark.parametrize("state", ["draft", "paused"])
def test_what_is_not_active_decides_nothing(state):
    made = estate([ruleset("shut", games="block")], [assignment("shut", "weak", state=state)])
    assert outcome(made, "games") == ("allow", None)


def test_among_equals_the_earlier_assignment_is_named():
    made = estate(
        [ruleset("one", games="block"), ruleset("two", games="block")],
        [assignment("two", "weak"), assignment("one", "weak")],
    )
    assert outcome(made, "games") == ("block", "two--weak")


def test_a_mandatory_assignment_may_not_allow_broadly():
    made = estate([ruleset("open", family_pastime="allow")], [assignment("open", "weak", mandatory=True)])
    assert "may not allow broadly" in next(made.faults()).message


def test_every_loser_is_told_with_its_rung_and_whom_it_lost_to():
    made = estate(
        [
            ruleset("must", games="warn"),
            ruleset("open", games="allow"),
            ruleset("wide", family_pastime="block"),
            ruleset("late", games="allow"),
        ],
        [
            assignment("must", "whole-fleet", mandatory=True),
            assignment("open", "strong"),
            assignment("wide", "strong"),
            assignment("late", "weak"),
        ],
    )
    layer = explain_filter(Policy(compile_bundle(made, ALL)), ("games",))
    assert layer.winner.ruleset == "must"
    told = {one.ruleset: (one.rung.value, one.to.ruleset) for one in layer.lost}
    assert told == {"open": ("mandatory", "must"), "wide": ("selector", "open"), "late": ("target", "open")}
    assert all(one.why for one in layer.lost)


def test_a_rule_that_wins_in_one_category_and_loses_in_another_is_no_loser():
    made = estate([ruleset("mix", family_pastime="block", games="allow")], [assignment("mix", "weak")])
    layer = explain_filter(Policy(compile_bundle(made, ALL)), ("music", "games"))
    assert (layer.verdict.value, layer.winner.rule) == ("block", 1)
    assert [(one.rule, one.rung.value) for one in layer.lost] == [(2, "strictest")]


def test_deciding_and_explaining_agree_on_nothing_in_play():
    policy = Policy(compile_bundle(estate([], []), ("whole-fleet",)))
    assert decide(policy, ("news",)) is None
