"""Changes of long rulesets are kept short, and undone exactly."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from portero.core.insight import ruleset_differences
from portero.core.insight.differences import differences
from portero.core.insight.revisions import Step, Undo, undone
from portero.core.insight.ruleset_differences import fold, unfold
from portero.core.nouns.estate import Estate
from portero.core.nouns.ruleset import Ruleset

RULES = st.lists(
    st.builds(
        lambda number, action: {"host": f"h{number}.example", "action": action},
        st.integers(0, 30),
        st.sampled_from(["block", "warn"]),
    ),
    max_size=20,
    unique_by=lambda rule: rule["host"],
)


@given(RULES, RULES)
def test_what_is_folded_is_unfolded(old, new):
    ruleset_differences.LONG = 0
    try:
        before, after = {"key": "r", "name": "Old", "rules": old}, {"key": "r", "rules": new}
        folded = fold(before, after)
    finally:
        ruleset_differences.LONG = 500
    if folded is None:
        stays = [rule for rule in new if rule in old]
        assert stays != [rule for rule in old if rule in new]
        return
    assert not any(rule in new for rule in folded.before["rules"])
    assert not any(rule in old for rule in folded.after["rules"])
    assert unfold(folded.before, new, folded.places) == before


def test_a_long_ruleset_goes_back_to_what_it_was():
    def estate(*rules: dict[str, str]) -> Estate:
        return Estate(rulesets=(Ruleset.model_validate({"key": "long", "kind": "indicator", "rules": rules}),))

    rules = [{"host": f"h{number}.example", "action": "block"} for number in range(600)]
    changed = [
        *rules[:100],
        {"host": "h100.example", "action": "warn"},
        *rules[102:],
        {"host": "new.example", "action": "log"},
    ]
    before, after = estate(*rules), estate(*changed)
    (change,) = differences(before, after)
    folded = fold(change.before, change.after)
    assert folded is not None
    assert [len(side["rules"]) for side in (folded.before, folded.after)] == [2, 2]
    kept = change.model_copy(update={"before": folded.before, "after": folded.after})
    assert undone(after, [Step([Undo(kept, None, folded.places)])]) == before
