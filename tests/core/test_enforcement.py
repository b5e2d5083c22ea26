"""What the machine makes of its policy: layer modes by precedence, gateways, coverage, readiness."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest

from conftest import group, ruleset, under
from portero.core.insight.readiness import readiness
from portero.core.matching.categories import MemoryIndex
from portero.core.matching.members import facts_from
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.coverage import SHIPPED_COVERAGE, CoverageRow, CoverageTable
from portero.core.nouns.device import Facts, Lifecycle
from portero.core.nouns.estate import Estate
from portero.core.nouns.layer import LayerMode, Layers, LayerVersions
from portero.core.resolving.compiling import compile_bundle
from portero.core.resolving.enforcement import Machine
from portero.core.resolving.explaining import Case, explain
from portero.core.resolving.policy import Policy

NOW = datetime(2026, 11, 20, 12, tzinfo=UTC)
INDEX = MemoryIndex({"lucky-reef.example": ("gambling",)})
FULL = Layers(filter=LayerMode.ENFORCING, browser=LayerMode.ENFORCING, startup=LayerMode.ENFORCING)


def estate(**more: object) -> Estate:
    return Estate.model_validate(
        {
            "precedence": ["pilot", "ships"],
            "groups": [group("pilot").model_dump(), group("ships", all=[under("brackwater/ships")]).model_dump()],
            "rulesets": [ruleset("no-gambling", gambling="block").model_dump()],
            "assignments": [{"key": "a", "ruleset": "no-gambling", "to": ["whole-fleet"]}],
            **more,
        }
    )


def told(estate: Estate, *groups: str, url: str = "http://lucky-reef.example/", place: str | None = None, **machine):
    policy = Policy(compile_bundle(estate, (*groups, "whole-fleet")))
    applied = machine.pop("applied", policy)
    browser = machine.pop("browser", None)
    known = Machine(**{"layers": FULL, "applied": applied, "coverage": estate.coverage_table, **machine})
    attempt = Attempt(device="x", url=url, place=place, browser=browser, at=NOW)
    return explain(policy, Case(attempt, INDEX, known))


def codes(explanation) -> list[str]:
    return [caveat.code.value for caveat in explanation.effective.caveats]


def till_one() -> Estate:
    """What stops gambling and every program until one o'clock, an hour from now."""
    programs = {"key": "nothing-starts", "kind": "startup", "rules": [{"everything": True, "action": "block"}]}
    ends = {"to": ["whole-fleet"], "ends": "2026-11-20T13:00:00Z"}
    return estate(
        rulesets=[ruleset("no-gambling", gambling="block").model_dump(), programs],
        assignments=[{"key": "a", "ruleset": "no-gambling", **ends}, {"key": "b", "ruleset": "nothing-starts", **ends}],
    )


@pytest.mark.parametrize(
    ("ahead", "told_of", "verdict"),
    [(None, [], "block"), (3_000, [], "block"), (3_700, ["clock-off"], "allow"), (-4_000_000_000, [], "block")],
)
def test_a_machine_goes_by_its_own_clock(ahead, told_of, verdict):
    found = told(till_one(), clock_ahead=ahead)
    assert (found.intended.verdict, found.effective.verdict) == ("block", verdict)
    assert codes(found) == told_of
    policy = Policy(compile_bundle(till_one(), ("whole-fleet",)))
    start = Attempt(device="x", start={"product": "Deckhand Viewer"}, at=NOW)
    machine = Machine(layers=FULL, applied=policy, coverage=CoverageTable(), clock_ahead=ahead)
    found = explain(policy, Case(start, INDEX, machine))
    assert (found.intended.verdict, found.effective.verdict, codes(found)) == ("block", verdict, told_of)


def test_a_layer_meant_to_observe_records_and_decides_nothing():
    watching = estate(settings={"layers": {"filter": "observing"}})
    found = told(watching, layers=Layers(filter="observing"))
    assert (found.intended.verdict, found.effective.verdict, found.gap) == ("allow", "allow", "none")
    assert [logged.ruleset for logged in found.intended.layers[1].logged] == ["no-gambling"]
    assert "Enforcing, no-gambling on whole-fleet would decide" in found.intended.layers[1].why
    assert codes(found) == []


def test_the_strongest_group_that_names_a_layer_counts_else_the_estate_else_it_enforces():
    modes = [{"group": "ships", "filter": "off"}, {"group": "pilot", "filter": "enforcing", "startup": "off"}]
    both = estate(layer_modes=modes)
    assert told(both, "pilot", "ships").intended.verdict == "block"
    assert told(both, "ships").intended.verdict == "allow"
    assert told(both).intended.verdict == "block"
    assert both.mode_of("startup", ("pilot", "ships")) == "off"
    assert both.mode_given_by("startup", ("ships",)) == "estate"


@pytest.mark.parametrize(("reported", "code"), [("off", "filter-off"), ("observing", "filter-observing")])
def test_a_machine_that_does_less_than_meant_is_a_gap(reported, code):
    found = told(estate(), layers=Layers(filter=reported))
    assert (found.intended.verdict, found.effective.verdict, found.gap) == ("block", "allow", "looser")
    assert codes(found) == [code]
    assert bool(found.effective.layers[1].logged) == (reported == "observing")


@pytest.mark.parametrize("layer", ["filter", "browser", "startup"])
def test_a_layer_that_is_too_old_holds_nothing(layer):
    rules = {
        "filter": [{"category": "gambling", "action": "block"}],
        "browser": [{"pattern": "lucky-reef.example", "action": "block"}],
        "startup": [{"everything": True, "action": "block"}],
    }
    kind = {"filter": "category", "browser": "site", "startup": "startup"}[layer]
    old = estate(rulesets=[{"key": "no-gambling", "kind": kind, "rules": rules[layer]}])
    browsers = [{"name": "chromium", "version": "120", "managed": True}]
    facts = Facts(hostname="x", layers=FULL, layer_versions={layer: "0.0.9"}, browsers=browsers)
    policy = Policy(compile_bundle(old, ("whole-fleet",)))
    machine = Machine.of(facts, applied=policy, coverage=CoverageTable([_from("0.1")]))
    given = {"start": {"product": "x"}} if layer == "startup" else {"url": "http://lucky-reef.example/"}
    given |= {} if layer == "startup" else {"browser": "chromium"}
    found = explain(policy, Case(Attempt(device="x", at=NOW, **given), INDEX, machine))
    assert (found.intended.verdict, found.effective.verdict, found.gap) == ("block", "allow", "looser")
    (caveat,) = found.effective.caveats
    assert (caveat.code, caveat.layer) == ("layer-too-old", layer)
    assert "0.0.9, and 0.1 is needed" in caveat.detail
    newer = Machine.of(facts.model_copy(update={"layer_versions": LayerVersions(**{layer: "0.1"})}), applied=policy)
    assert explain(policy, Case(Attempt(device="x", at=NOW, **given), INDEX, newer)).gap == "none"


def test_a_system_that_is_too_old_holds_nothing():
    row = CoverageRow.model_validate(
        {
            "control": "filter",
            "platform": "linux",
            "http": "page",
            "https": "host",
            "platform_from": "12",
            "date": "2026-11-28",
            "source": "tried",
        }
    )
    table = CoverageTable((row,))
    for version, code in (("11.4", ["platform-too-old"]), ("12.0", []), (None, [])):
        facts = Facts(hostname="x", layers=FULL, os={"family": "linux", "version": version})
        found = told(estate(), platform="linux", platform_version=version, coverage=table)
        assert (found.gap == "looser", codes(found)) == (bool(code), code)
        with_row = estate(coverage=[row.model_dump()])
        blockers = [blocker.code.value for blocker in readiness(with_row, facts_from(facts), ()).blockers]
        assert [one for one in blockers if one.endswith("too-old")] == code
    assert (
        "linux 11.4, and the filter needs 12"
        in told(estate(), platform="linux", platform_version="11.4", coverage=table).effective.caveats[0].detail
    )
    with pytest.raises(ValueError, match="a version of one platform"):
        CoverageRow.model_validate({**row.model_dump(), "platform": "any"})


def _from(version: str) -> CoverageRow:
    """The site list's row for chromium, for which no lowest version of the layer is shipped."""
    row = next(row for row in SHIPPED_COVERAGE if row.key == "site-list/chromium/any")
    return row.model_copy(update={"layer_from": version})


def test_a_browser_that_is_too_old_takes_no_site_list():
    rules = [{"pattern": "lucky-reef.example", "action": "block"}]
    listed = estate(rulesets=[{"key": "no-gambling", "kind": "site", "rules": rules}])
    for version, verdict, expected in (("85", "allow", ["browser-too-old"]), ("86", "block", [])):
        browsers = Facts(hostname="x", browsers=[{"name": "chromium", "version": version, "managed": True}]).browsers
        found = told(listed, browsers=browsers, browser="chromium")
        assert (found.intended.verdict, found.effective.verdict) == ("block", verdict)
        assert codes(found) == expected


def test_a_browser_that_the_machine_has_not_is_told():
    browsers = Facts(hostname="x", browsers=[{"name": "chromium"}, {"name": "gullwing"}]).browsers
    found = told(estate(), browsers=browsers, browser="firefox")
    (caveat,) = found.effective.caveats
    assert caveat.code == "browser-missing"
    assert "reports no firefox, but chromium and gullwing" in caveat.detail
    assert found.effective.verdict == "block"
    assert codes(told(estate(), browsers=browsers, browser="Chromium")) == []
    assert codes(told(estate(), browser="firefox")) == [], "one that reports none has some all the same"


def test_an_older_category_index_is_a_caveat_where_the_host_s_categories_come_from_it():
    corrected = estate(corrections=[{"host": "own.example", "categories": ["gambling"]}])
    older = {"index_current": False}
    assert codes(told(corrected, **older)) == ["stale-index"]
    assert codes(told(corrected, url="http://nobody-knows.example/", **older)) == ["stale-index"]
    assert codes(told(corrected, url="http://own.example/", **older)) == [], "corrections travel with the bundle"
    assert codes(told(corrected, url="http://gambling.category.test/", **older)) == []
    assert codes(told(estate(assignments=[]), **older)) == [], "no rule looks at categories"
    assert codes(told(corrected)) == []


def test_a_machine_that_has_not_heard_of_a_mode_yet_still_does_the_old_one():
    before, after = estate(), estate(settings={"layers": {"filter": "observing"}})
    old = Policy(compile_bundle(before, ("whole-fleet",)))
    found = told(after, applied=old, current=False)
    assert (found.intended.verdict, found.effective.verdict, found.gap) == ("allow", "block", "stricter")
    assert codes(found) == ["stale-bundle"]


@pytest.mark.parametrize(
    ("place", "addresses", "verdict"),
    [
        ("on-site", ("198.51.100.7",), "allow"),
        ("on-site", ("192.0.2.7", "::ffff:198.51.100.7"), "allow"),
        ("off-site", ("198.51.100.7",), "block"),
        (None, ("198.51.100.7",), "block"),
        ("on-site", ("192.0.2.7",), "block"),
    ],
)
def test_on_site_in_a_gateway_network_filtering_is_left_to_the_gateway(place, addresses, verdict):
    behind = estate(settings={"gateway_networks": ["198.51.100.0/24"]})
    found = told(behind, place=place, addresses=addresses)
    assert (found.intended.verdict, found.effective.verdict) == (verdict, verdict)
    assert codes(found) == (["trusted-gateway"] if verdict == "allow" else [])


def test_the_coverage_table_says_how_far_the_filter_reaches():
    https = "https://lucky-reef.example/"
    assert codes(told(estate(), url=https, browser="chromium")) == ["notice-hidden"]
    row = {"control": "filter", "browser": "Gullwing", "date": "2026-11-01", "source": "tried"}
    seen = estate(coverage=[{**row, "http": "page", "https": "page"}])
    assert codes(told(seen, url=https, browser="gullwing")) == []
    blind = estate(coverage=[{**row, "http": "page", "https": "none"}])
    found = told(blind, url=https, browser="gullwing")
    assert (found.effective.verdict, found.gap, codes(found)) == ("allow", "looser", ["filter-off"])
    assert told(blind, browser="gullwing").gap == "none"


def test_the_row_that_fits_best_counts_browser_before_platform():
    base = {"control": "filter", "http": "page", "date": "2026-11-01", "source": "tried"}
    rows = [
        {**base, "browser": "gullwing", "https": "none"},
        {**base, "platform": "linux", "https": "page"},
        {**base, "browser": "gullwing", "platform": "linux", "https": "host"},
    ]
    table = estate(coverage=rows).coverage_table
    assert table.reach("filter", "Gullwing", "Linux", "https") == "host"
    assert table.reach("filter", "gullwing", "windows", "https") == "none"
    assert table.reach("filter", "chromium", "linux", "https") == "host", "a browser's own row before any browser's"
    assert table.reach("filter", "unheard-of", "linux", "https") == "page"
    assert CoverageTable().reach("site-list", "unheard-of", None, "http") == "none"


def test_what_does_not_fit_together_is_refused():
    looking = group("looking", all=[{"field": "layers.filter", "op": "is", "value": "off"}])
    bad = estate(groups=[looking.model_dump()], precedence=[], layer_modes=[{"group": "looking", "filter": "off"}])
    assert "looks at what layers do" in next(bad.faults()).message
    unknown = estate(layer_modes=[{"group": "shps", "filter": "off"}])
    assert "did you mean “ships”?" in next(unknown.faults()).message
    twice = estate(layer_modes=[{"group": "ships", "filter": "off"}] * 2)
    assert "stands twice" in next(twice.faults()).message


def facts(**more: object) -> Facts:
    return Facts.model_validate({"hostname": "x", "layers": FULL.model_dump(), "zone": "Europe/Berlin", **more})


def blockers(estate: Estate, *groups: str, **more: object) -> list[tuple[str, str | None]]:
    found = readiness(estate, facts_from(facts(**more)), (*groups, "whole-fleet"))
    return [(blocker.code.value, blocker.layer) for blocker in found.blockers]


def test_readiness_lists_what_stands_in_the_way_in_the_order_of_mending():
    managed = {"name": "chromium", "version": "140.0", "managed": True}
    assert blockers(estate(), browsers=[managed]) == []
    worst = blockers(
        estate(),
        zone=None,
        layers={"filter": "observing", "browser": "off"},
        layer_versions={"filter": "0.0.9"},
        browsers=[{"name": "gullwing"}, {**managed, "version": "80.1"}],
    )
    assert worst == [
        ("layer-off", "browser"),
        ("layer-observing", "filter"),
        ("layer-not-reported", "startup"),
        ("layer-too-old", "filter"),
        ("browser-unmanaged", "browser"),
        ("browser-too-old", "browser"),
        ("zone-missing", None),
    ]


def test_a_layer_that_is_not_meant_to_enforce_is_in_nobodys_way():
    lenient = estate(settings={"layers": {"filter": "observing"}}, layer_modes=[{"group": "ships", "browser": "off"}])
    off = {"filter": "off", "browser": "off", "startup": "enforcing"}
    assert blockers(lenient, "ships", layers=off) == []
    found = readiness(lenient, facts_from(facts(layers=off)), ("ships", "whole-fleet"))
    assert [(layer.layer, layer.meant, layer.meant_by, layer.enforces) for layer in found.layers] == [
        ("filter", "observing", "estate", False),
        ("browser", "off", "ships", False),
        ("startup", "enforcing", "estate", True),
    ]


def test_a_machine_that_never_joined_enforces_nothing_whatever_was_recorded_of_it():
    found = told(estate(), lifecycle=Lifecycle.INVITED, applied=None)
    assert (found.effective.verdict, codes(found)) == ("allow", ["not-enrolled"])
