"""Grounds: why something is stopped, told by the ruleset, else by the category that is named."""

from __future__ import annotations

import pytest
from judging import assigned, judge, rules

from portero.core.nouns.ground import GROUNDS, ground_words
from portero.core.nouns.ruleset import Ruleset
from portero.core.nouns.verdict import LayerVerdict, RuleReference
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.core.resolving.bundles import BundleNotice
from portero.endpoint.agent import AgentRuling
from portero.endpoint.notice import notice_page

BLOCK = {"action": "block"}


@pytest.mark.parametrize(
    ("ruleset", "url", "ground"),
    [
        (rules("category", {"category": "games", **BLOCK}), "http://play.example/", "productivity"),
        (rules("category", {"category": "games", **BLOCK}, ground="our lines"), "http://play.example/", "our lines"),
        (rules("category", {"family": "pastime", **BLOCK}), "http://play.example/", None),
        (rules("indicator", {"host": "a.example", **BLOCK}), "http://a.example/", None),
        (rules("indicator", {"host": "a.example", **BLOCK}, ground="MALWARE"), "http://a.example/", "malware"),
    ],
)
def test_what_wins_says_on_which_ground(ruleset, url, ground):
    judged = judge(assigned((ruleset, "weak")), url)
    assert judged.layer.winner.ground == ground


def test_every_category_has_one_of_the_usual_grounds():
    assert {category.ground for category in TAXONOMY.categories.values()} == set(GROUNDS)
    assert ground_words("bandwidth") == "Bandwidth: it takes up much of the line"
    assert ground_words("our lines") == "our lines"
    with pytest.raises(ValueError, match="ground"):
        Ruleset.model_validate({"key": "a", "kind": "category", "ground": ""})


@pytest.mark.parametrize(
    ("notice", "own", "told"),
    [
        (BundleNotice(shows_ground=True), "our own", "our own"),
        (BundleNotice(shows_ground=True), None, "Productivity: it keeps people from their work"),
        (BundleNotice(), "our own", None),
        (None, "our own", None),
    ],
)
def test_a_notice_tells_the_ground_where_that_is_wanted(notice, own, told):
    winner = RuleReference(
        ruleset="quiet",
        rule=1,
        assignment="quiet--ships",
        target="ships",
        action="block",
        mandatory=False,
        selector="family pastime",
        ground=own,
    )
    layer = LayerVerdict(layer="filter", verdict="block", winner=winner, why="It blocks.")
    ruling = AgentRuling("http://play.example/", "play.example", layer.verdict, ("games",), layer, "AB-CD", notice)
    page = notice_page(ruling, "pc")
    assert ("<dt>Why</dt>" in page) is (told is not None)
    assert told is None or told in page
