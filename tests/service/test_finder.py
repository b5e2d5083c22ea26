"""Finding rules by what stands in them: the same as reading all of them, also after they have changed."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from portero.core.nouns.ruleset import Ruleset
from portero.service.ruleset_texts import RulesetTexts

WORDS = st.sampled_from(["reef", "Reef", "toll", "straße", "CLAIM", "a note", ""])
RULES = st.lists(
    st.builds(
        lambda number, name, note: {
            "host": f"{('reef', 'toll', 'mail')[number % 3]}-{number}.example",
            "action": "block",
            **({"name": name} if name else {}),
            **({"note": note} if note else {}),
        },
        st.integers(0, 40),
        WORDS,
        WORDS,
    ),
    max_size=12,
    unique_by=lambda rule: rule["host"],
)


def naive(ruleset: Ruleset, q: str) -> list[int]:
    wanted = q.casefold().strip()
    return [
        place
        for place, rule in enumerate(ruleset.rules)
        if wanted in f"{rule.selector} {rule.name or ''} {rule.note or ''}".casefold()
    ]


@given(
    st.lists(RULES, min_size=1, max_size=4), st.sampled_from(["reef", "REEF-1", "toll-", "strasse", " claim ", "x", ""])
)
def test_what_is_found_is_what_reading_all_of_them_finds(versions, q):
    texts = RulesetTexts()
    for rules in versions:
        ruleset = Ruleset.model_validate({"key": "r", "kind": "indicator", "rules": rules})
        assert list(texts.numbers(ruleset, q)) == naive(ruleset, q)
        assert list(texts.numbers(ruleset, q)) == naive(ruleset, q), "the same when asked again"
