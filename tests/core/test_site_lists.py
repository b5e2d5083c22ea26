"""From what people write to what browsers are handed: patterns, needless ones, translations, what is cut."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from judging import assigned, rules

from portero.core.browsers.handing import Handed
from portero.core.browsers.lists import Unsayable
from portero.core.browsers.needless import Listed, needless
from portero.core.insight.offline import OfflineEstate, UnknownDevice
from portero.core.matching.categories import MemoryIndex
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.coverage import CoverageRow, CoverageTable
from portero.core.nouns.estate import FactsDocument
from portero.core.nouns.patterns import Pattern, SeenUrl, rewriting_of
from portero.core.nouns.urls import parse_visit
from thorough import times

HOSTS = st.sampled_from(["*", "example", "h.example", ".h.example", "www.h.example", ".www.h.example", "203.0.113.7"])
PATHS = st.sampled_from(["", "/", "/a", "/a/b", "/ab", "/A", "/a*b", "/a//b", "/%41"])
QUERIES = st.sampled_from(["", "?k", "?k=v", "?k*", "?k=v*", "?k=v&x", "?x"])
PATTERNS = st.builds(
    "{}{}{}{}{}".format,
    st.sampled_from(["", "", "", "http://", "https://"]),
    HOSTS,
    st.sampled_from(["", "", "", ":80", ":8080"]),
    PATHS,
    QUERIES,
).map(Pattern.of)
LISTS = st.lists(st.tuples(PATTERNS, st.booleans(), st.booleans()), max_size=12, unique_by=lambda one: one[0]).map(
    lambda rows: [Listed(*row) for row in rows]
)
VISITS = [
    parse_visit(f"{scheme}://{host}{port}{path}{query}")
    for scheme in ("http", "https")
    for host in ("example", "h.example", "x.www.h.example", "203.0.113.7")
    for port in ("", ":8080")
    for path in ("/", "/a", "/a/b", "/A/b", "/axb")
    for query in ("", "?k", "?k=v", "?k=v&k=w", "?x&k=v")
]


def by_meaning(listed: list[Listed], visit) -> bool:
    """Whether a visit passes, slowly: of all patterns that match, the most specific counts, an allow among equals."""
    seen = SeenUrl.of(visit)
    found = [one for one in listed if one.pattern.holds(seen, one.allow)]
    return min(found, key=lambda one: (one.pattern.weight, not one.allow), default=Listed(None, True)).allow


def passes(listed: list[Listed], handed: Handed, visit) -> bool:
    first = next(handed.matching(visit), None)
    return first is None or listed[first].allow


@given(LISTS)
@settings(max_examples=times(40, 1000))
def test_leaving_out_needless_patterns_changes_no_outcome(listed):
    left_out = needless(listed)
    kept = [one for place, one in enumerate(listed) if place not in left_out]
    handed = Handed(listed, "chromium")
    assert len(handed.blocks) + len(handed.allows) == len(kept)
    for visit in VISITS:
        meant = by_meaning(listed, visit)
        assert by_meaning(kept, visit) is meant, (visit.url, left_out)
        assert passes(listed, handed, visit) is meant, visit.url


@given(LISTS)
@settings(max_examples=times(40, 1000))
def test_where_firefox_does_otherwise_the_translation_says_so(listed):
    handed = Handed(listed, "firefox")
    changed = {place for place, one in handed.changed.items()}
    for visit in VISITS:
        if passes(listed, handed, visit) is not by_meaning(listed, visit):
            seen = SeenUrl.of(visit)
            concerned = set(handed.matching(visit)) | {
                place for place, one in enumerate(listed) if one.pattern.holds(seen, one.allow)
            }
            assert changed & concerned, visit.url


@given(LISTS.map(lambda rows: [row._replace(stricter=True) for row in rows if not row.allow or not row.pattern.query]))
@settings(max_examples=times(40, 1000))
def test_read_more_strictly_nothing_passes_firefox_that_is_meant_to_be_stopped(listed):
    handed = Handed(listed, "firefox")
    slight = {Unsayable.SPELLING, Unsayable.CASE}
    for visit in VISITS:
        loose = [listed[place] for place in handed.matching(visit) if listed[place].allow]
        alike = any(
            set(handed.changed[place].reasons) & slight for place in handed.matching(visit) if place in handed.changed
        )
        if passes(listed, handed, visit) and not by_meaning(listed, visit):
            # an exception there is for other spellings of a path too
            assert loose
            assert alike


def told(*patterns: str) -> list[Listed]:
    return [Listed(Pattern.of(one.lstrip("+!")), one.startswith("+"), "!" in one[:2]) for one in patterns]


@pytest.mark.parametrize(
    ("patterns", "blocks", "exceptions"),
    [
        (["a.example"], ["*://*.a.example/*"], []),
        ([".a.example/x", "203.0.113.7"], ["*://a.example/x*", "*://203.0.113.7/*"], []),
        (["*", "+a.example"], ["*://*/*"], ["*://*.a.example/*"]),
        (["http://a.example"], ["http://*.a.example/*"], []),
        (["a.example:8080", "!b.example:8080"], ["*://*.b.example/*"], []),
        (["*", "+a.example:8080"], ["*://*/*"], []),
        (["a.example?k=v", "!b.example/x?k=v"], ["*://*.b.example/x*"], []),
        (["*", "+a.example", "a.example/x"], ["*://*/*"], ["*://*.a.example/*"]),
        (["*", "+a.example", "!a.example/x"], ["*://*/*"], []),
        (["!a.example/x*y"], ["*://*.a.example/x*"], []),
        (["!a.example/é/A//b"], ["*://*.a.example/%c3%a9/a/b*"], []),
        (["a.example", "A.example/x", "+c.example"], ["*://*.a.example/*"], []),
        (["ftp://a.example"], [], []),
    ],
)
def test_what_firefox_is_handed(patterns, blocks, exceptions):
    handed = Handed(told(*patterns), "firefox")
    assert (list(handed.blocks), list(handed.allows)) == (blocks, exceptions)


@pytest.mark.parametrize(
    ("patterns", "reasons"),
    [
        (["a.example:8080"], {0: (Unsayable.PORT,)}),
        (["a.example?k=v"], {0: (Unsayable.QUERY,)}),
        (["*", "+a.example", "a.example/1"], {2: (Unsayable.UNDER_ALLOW,)}),
        (["*", "+a.example", "!a.example/1"], {1: (Unsayable.NARROWER_BLOCK,)}),
        (["a.example/1"], {}),
        (["a.example/x"], {0: (Unsayable.CASE,)}),
        (["ftp://a.example"], {0: (Unsayable.SCHEME,)}),
    ],
)
def test_why_firefox_cannot_say_it(patterns, reasons):
    changed = Handed(told(*patterns), "firefox").changed
    assert {place: one.reasons for place, one in changed.items()} == reasons


def test_what_a_browser_does_not_take_is_cut_from_the_end_of_each_list():
    handed = Handed(told("a.example", "b.example", "*.c.example", "+x.a.example", "+y.b.example"), "chromium", 2)
    assert (handed.blocks, handed.allows, handed.cut) == (
        ("a.example", "b.example"),
        ("x.a.example", "y.b.example"),
        (2,),
    )


@pytest.mark.parametrize(
    ("written", "handed", "same"),
    [
        ("*.a.example", "a.example", False),
        ("a.example/x/*", "a.example/x/", False),
        ("*://a.example/*", "a.example/", False),
        ("A.example", "a.example", True),
        ("a.example#top", "a.example", True),
        ("u:p@a.example", "a.example", False),
        ("u@a.example", "a.example", True),
        ("a.example:*", "a.example", False),
        ("a.example:", "a.example", True),
        ("bücher.example", "xn--bcher-kva.example", False),
        ("a.example/ä b|c^", "a.example/%C3%A4%20b%7Cc%5E", False),
        ("a.example/x/../y", "a.example/y", False),
        ("a.example?k=&&j", "a.example?j&k", True),
        ("0xcb.0.113.7", "203.0.113.7", False),
        ("http:*", "http://*", True),
        ("file:///*", "file://*", False),
        ("a.example.", "a.example", False),
    ],
)
def test_what_is_written_otherwise_is_told(written, handed, same):
    found = rewriting_of(written)
    assert (found.handed, found.same) == (handed, same)
    assert bool(found.why) is not same
    assert rewriting_of(handed) is None


def test_how_much_a_browser_takes_is_a_row_of_the_coverage_table():
    shipped = CoverageTable()
    assert shipped.list_support("chromium", "linux", "156.0.1").limit == 1500
    assert shipped.list_support("Firefox", "windows", None)[:2] == ("firefox", 1000)
    assert shipped.list_support("gullwing", None)[:2] == ("chromium", 1500)
    common = {"control": "site-list", "http": "page", "https": "page", "date": "2026-11-28", "source": "tried"}
    rows = (
        CoverageRow(**common, browser="gullwing", family="firefox"),
        CoverageRow(
            **common, browser="chromium", list_limits=[{"entries": 100}, {"browser_from": "160", "entries": 9000}]
        ),
    )
    edited = CoverageTable(rows)
    assert edited.list_support("gullwing", "linux")[:2] == ("firefox", 1000)
    limits = [edited.list_support("chromium", "linux", version).limit for version in ("90", "159", "160.1", None)]
    assert limits == [100, 100, 9000, 9000]
    assert shipped.list_support("gullwing", None).policy_file is None
    without = CoverageTable((CoverageRow(**common, browser="firefox", platform="linux"),))
    assert without.list_support("firefox", "linux") == shipped.list_support("firefox", "linux"), "as shipped"
    with pytest.raises(ValueError, match="control site-list"):
        CoverageRow(**{**common, "control": "filter"}, family="firefox")


# --- what is said of it ---

LISTED = rules(
    "site",
    {"pattern": "*", "action": "block"},
    {"pattern": "h.example", "action": "allow"},
    {"pattern": "h.example/staff", "action": "block"},
    {"pattern": "news.example:8080", "action": "allow"},
)
BROWSERS = [{"name": name, "version": "156", "managed": True} for name in ("chromium", "firefox")]


def judged(estate, url, browser, **more):
    facts = {"hostname": "pc", "layers": {"browser": "enforcing", "filter": "enforcing"}, "browsers": BROWSERS}
    facts = FactsDocument.model_validate({"devices": [facts]})
    offline = OfflineEstate(estate, facts, MemoryIndex({}), datetime(2026, 12, 2, tzinfo=UTC))
    found = offline.explain(Attempt(device="pc", url=url, browser=browser, **more))
    return found, [caveat.code.value for caveat in found.effective.caveats if caveat.code != "notice-hidden"]


@pytest.mark.parametrize(
    ("url", "browser", "verdict", "caveats"),
    [
        ("http://h.example/staff", "chromium", "block", []),
        ("http://h.example/staff", "firefox", "allow", ["pattern-changed"]),
        ("http://news.example:8080/", "chromium", "allow", []),
        ("http://news.example:8080/", "firefox", "block", ["pattern-changed"]),
        ("http://news.example/", "firefox", "block", []),
        ("http://h.example/", "firefox", "allow", []),
        ("http://h.example/staff", "gullwing", "block", ["browser-unmanaged", "browser-missing"]),
    ],
)
def test_each_browser_is_judged_by_its_own_rules(url, browser, verdict, caveats):
    found, told_caveats = judged(assigned((LISTED, "whole-fleet")), url, browser)
    assert found.intended.layers[0].verdict == verdict
    assert found.effective.layers[0].verdict == ("allow" if browser == "gullwing" else verdict)
    assert told_caveats == caveats


def test_a_mandatory_block_closes_what_firefox_would_open():
    estate = assigned(
        (rules("site", {"pattern": "*", "action": "block"}, {"pattern": "h.example", "action": "allow"}), "weak"),
        (rules("site", {"pattern": "h.example/staff", "action": "block"}), "weak", {"mandatory": True}),
    )
    found, caveats = judged(estate, "http://h.example/", "firefox")
    assert (found.effective.verdict, caveats) == ("block", ["pattern-changed"])
    (lost,) = [one for one in found.effective.layers[0].lost if one.action == "allow"]
    assert "a narrower mandatory block could not count before it" in lost.why
    assert judged(estate, "http://h.example/", "chromium")[0].effective.verdict == "allow"


def test_what_is_cut_is_told_with_the_gap_that_it_makes():
    blocks = [{"pattern": f"b{number}.example", "action": "block"} for number in range(1502)]
    estate = assigned((rules("site", *blocks), "whole-fleet"))
    found, caveats = judged(estate, "http://b1501.example/", "chromium")
    assert (found.intended.verdict, found.effective.verdict, found.gap) == ("block", "allow", "looser")
    assert caveats == ["list-truncated"]
    assert "takes 1,500 entries" in found.effective.layers[0].lost[0].why
    assert judged(estate, "http://b1499.example/", "chromium")[0].gap == "none"
    assert judged(estate, "http://b1499.example/", "firefox")[0].gap == "looser", "it takes 1,000"


def test_a_group_without_machines_is_told_of_as_one_that_has_some():
    estate = assigned((LISTED, "weak"), (rules("site", {"pattern": "news.example", "action": "allow"}), "weak"))
    offline = OfflineEstate(
        estate, FactsDocument.model_validate({}), MemoryIndex({}), datetime(2026, 12, 2, tzinfo=UTC)
    )
    codes = [one.code for one in offline.told_of_sites()]
    assert sorted(set(codes)) == ["pattern-changed", "pattern-needless"]
    listed = offline.site_list("weak", "firefox", None)
    assert listed.allow == ("*://*.h.example/*", "*://*.news.example/*")
    assert {one.pattern for one in listed.changed} == {"h.example/staff"}
    with pytest.raises(UnknownDevice, match="no device or group"):
        offline.site_list("nobody", "firefox", None)
