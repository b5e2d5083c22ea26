"""What a feed of indicators has brought, where several objects may say something of the same host."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from portero.core.nouns.rule import Rule
from portero.service.feeds.indicators import FeedIndicators

NOW = datetime(2026, 11, 25, 12, tzinfo=UTC)
IDS = st.sampled_from(["one", "two", "three", None])
RULES = st.builds(
    lambda host, action, days: Rule.model_validate(
        {"host": host, "action": action, "valid_until": None if days is None else NOW + timedelta(days=days)}
    ),
    st.sampled_from(["a.example", "b.example"]),
    st.sampled_from(["block", "warn", "log"]),
    st.none() | st.integers(-3, 9),
)
SAID = st.lists(st.tuples(RULES, IDS), max_size=10)


def brought(said: list[tuple[Rule, str | None]]) -> FeedIndicators:
    made = FeedIndicators()
    for rule, id in said:
        made.put(rule, id, "2026-11-25")
    return made


@given(SAID)
def test_it_is_read_back_as_it_was_written(said):
    made = brought(said)
    again = FeedIndicators.of(made.packed())
    assert (again.said(), again.rules(), len(again)) == (made.said(), made.rules(), len(made))
    assert again.packed() == made.packed()


@given(SAID, st.sets(st.sampled_from(["one", "two", "three"])))
def test_what_is_called_back_leaves_what_others_say(said, gone):
    made = brought(said)
    made.drop(gone)
    # of each host the newest that each of the others says
    stays = {(rule.selector, id): rule for rule, id in said if id not in gone}
    assert made.said().keys() == {selector for selector, _ in stays}
    for rule in made.rules():
        assert rule in [stay for (selector, _), stay in stays.items() if selector == rule.selector]


@given(st.lists(st.tuples(RULES, st.sampled_from(["one", "two", "three"])), max_size=6, unique_by=lambda one: one[1]))
def test_what_counts_does_not_hang_on_the_order(said):
    assert brought(said).said() == brought(said[::-1]).said()


@given(SAID)
def test_what_has_ended_is_dropped_and_what_lasts_longest_counts(said):
    made = brought(said)
    held = made.copy()
    number = made.drop_ended(NOW)
    lasting = {(rule.selector, id): rule for rule, id in said}
    lasting = {key: rule for key, rule in lasting.items() if rule.valid_until is None or rule.valid_until > NOW}
    assert number == len({(rule.selector, id) for rule, id in said}) - len(lasting)
    for rule in made.rules():
        ends = [one.valid_until for (selector, _), one in lasting.items() if selector == rule.selector]
        assert rule.valid_until == (None if None in ends else max(ends))
    assert held.said() == brought(said).said(), "a copy is not changed"


def test_since_when_something_is_known_stays():
    made = FeedIndicators()
    rule = Rule.model_validate({"host": "a.example", "action": "block"})
    assert made.put(rule, "one", "2026-11-01")
    assert not made.put(rule, "two", "2026-11-20")
    assert made.first(rule) == "2026-11-01"
    made.drop({"one"})
    assert made.first(rule) == "2026-11-01"
