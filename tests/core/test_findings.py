"""Findings: against a checker that tries every attempt of a small universe, and one small estate a kind."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from datetime import timedelta
from itertools import product
from random import Random

import pytest
from judging import assigned, rules
from worlds import Fleet, made

from made_estates import ADDRESSES, BASE, HOSTS, USERS
from portero.core.insight.effects.world import World
from portero.core.insight.findings import apply_remedy, contested, find_all
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.estate import Estate
from portero.core.nouns.finding import Finding
from portero.core.nouns.service import Decision
from thorough import times

ESTATES = times(24, 60)
PATHS = ("/", "/a", "/a/b/c", "/A", "/?q=free+cheat+codes", "/?x=1", "/a?q=cheat+codes")
PLACES = ("on-site", "off-site")
TIMES = [BASE + timedelta(hours=9 * number + 0.4) for number in range(21)]


def universe(fleet: Fleet, estate: Estate):
    """Every attempt that is tried: on each machine, by everybody, at each place, round the clock."""
    hosts = (*HOSTS, "deep.a.drop.files.example", "x.play.example", "other.example", "games.category.test")
    urls = [f"http://{host}{path}" for host, path in product(hosts, PATHS)]
    urls += [f"http://{address}/" if ":" not in address else f"http://[{address}]/" for address in ADDRESSES[:3]]
    starts = [
        application.model_dump(exclude_none=True)
        for device in fleet.document.devices
        for application in device.applications
    ]
    starts += [{"file": "viewer", "version": "4.1"}, {"file": "other"}, {"path": "/opt/chart", "vendor": "Deckhand"}]
    for device, user, place, at in product(fleet.members, (None, *USERS), PLACES, TIMES):
        common = {"device": device.id, "at": at, "place": place, **({"user": user} if user else {})}
        yield from ({**common, "url": url} for url in urls)
        yield from ({**common, "start": start} for start in starts)


@pytest.mark.parametrize("part", range(2))
def test_what_is_said_to_never_win_never_does_and_contradictions_have_witnesses(part):
    kinds: Counter[str] = Counter()
    for seed in range(part, ESTATES, 2):
        _, estate, fleet = made(seed)
        found = find_all(estate, fleet.world(estate))
        shadowed = {
            (item.assignments[0], rule.rule) for item in found.items if item.kind == "shadowed" for rule in item.rules
        }
        offline, tries = fleet.offline(estate), list(universe(fleet, estate))
        for attempt in tries[seed % 29 :: 29]:
            for winner, _ in outcomes(offline, attempt):
                assert (winner.assignment, winner.rule) not in shadowed, (seed, winner, attempt)
        restarting = {assignment.key for assignment in estate.assignments if assignment.until_restart}
        for item in found.items:
            # nothing restarts in this universe, so what shows only after a restart has no witness there
            if item.kind == "contradiction" and not restarting:
                kinds["opposed"] += 1
                kinds["witnessed"] += any(
                    (winner.assignment, lost.assignment, lost.rung) == (*item.assignments, "target")
                    for attempt in tries
                    if attempt["device"] in item.examples
                    for winner, losers in outcomes(offline, attempt)
                    for lost in losers
                )
        kinds.update(item.kind.value for item in found.items)
    assert kinds["shadowed"] >= times(4, 10)
    assert kinds["witnessed"] == kinds["opposed"], kinds


def test_rules_that_are_known_to_meet_no_other_one_need_not_be_looked_at(monkeypatch):
    screened = 0
    is_alone = contested.Arena.is_alone

    def counted(*rule) -> bool:
        nonlocal screened
        alone = is_alone(*rule)
        screened += alone
        return alone

    for seed in range(ESTATES):
        _, few, fleet = made(seed)
        estate = with_many(few, Random(seed))
        monkeypatch.setattr(contested.Arena, "is_alone", counted)
        quick = told_of(estate, fleet)
        monkeypatch.setattr(contested.Arena, "is_alone", lambda *_: False)
        assert quick == told_of(estate, fleet), seed
    assert screened > times(100, 300)


def told_of(estate: Estate, fleet: Fleet) -> list[dict[str, object]]:
    """The findings but for the order of their rules, and for their sentences: these count the hosts at which rules
    meet, those named by others among them.
    """
    found = find_all(estate, fleet.world(estate))
    return [{**item.model_dump(exclude={"sentence"}), "rules": frozenset(item.rules)} for item in found.items]


def with_many(estate: Estate, chance: Random) -> Estate:
    """The estate with two more rulesets of indicators, among which some meet others, and most do not."""
    names = [*HOSTS, *(f"{part}site{number}.example" for part in ("", "", "a.", "b.a.") for number in range(9))]

    def rule() -> dict[str, object]:
        host, action = chance.choice(names), chance.choice(["block", "block", "allow", "warn", "log"])
        selector = {"host": host} if chance.random() < 0.6 else {"url": f"http://{host}{chance.choice(PATHS)}"}
        return {**selector, "action": action, **({"exact": True} if chance.random() < 0.2 else {})}

    document = estate.model_dump(mode="json", exclude_none=True)
    for key in ("many", "more"):
        unlike = {str(one["host"] if "host" in one else one["url"]): one for one in (rule() for _ in range(15))}
        document["rulesets"].append({"key": key, "kind": "indicator", "rules": list(unlike.values())})
        target = chance.choice(["whole-fleet", *(group.key for group in estate.groups)])
        document["assignments"].append({"key": key, "ruleset": key, "to": [target]})
    return Estate.model_validate(document)


def outcomes(offline, attempt: dict):
    """Winner and losers of each layer that has one."""
    for layer in offline.explain(Attempt.model_validate(attempt)).intended.layers:
        if layer.winner is not None:
            yield layer.winner, layer.lost


def fleet_of(*hostnames: str, **facts) -> Fleet:
    layers = {"filter": "enforcing", "browser": "enforcing", "startup": "enforcing"}
    devices = [{"hostname": hostname, "layers": layers, **facts} for hostname in hostnames]
    return Fleet.of({"portero_facts": 1, "devices": devices})


PAIR = fleet_of("pc", "other", "third")
OVERLAPPING = [
    {"key": "strong", "pins": {"in": ["pc", "other"]}},
    {"key": "weak", "pins": {"in": ["pc", "third"]}},
]
GAMES = rules("category", {"category": "games", "action": "block"})
NO_GAMES = rules("category", {"category": "games", "action": "allow"})


def findings(estate: Estate, fleet: Fleet = PAIR, people=(), **world) -> dict[str, Finding]:
    """Findings by kind; each small estate has at most one of a kind."""
    asked: World = replace(fleet.world(estate), **world)
    found = find_all(estate, asked, people)
    by_kind = {item.kind.value: item for item in found.items}
    assert len(by_kind) == len(found.items)
    return by_kind


def settled(estate: Estate, finding: Finding, remedy: str, **more) -> dict[str, Finding]:
    """What is still found once a remedy is taken."""
    after = apply_remedy(estate, finding, remedy, BASE)
    assert not list(after.faults())
    return findings(after, **more)


def test_overlapping_groups_that_contradict_each_other():
    estate = assigned((NO_GAMES, "strong"), (GAMES, "weak"), groups=OVERLAPPING)
    finding = findings(estate)["contradiction"]
    assert (finding.severity, finding.devices, finding.examples) == ("medium", 1, ("pc",))
    assert finding.sentence == (
        "On 1 machine category-1 on weak blocks Games, and category-0 on strong allows it: category-0 on strong wins,"
        " as its group is the stronger."
    )
    # turned round they still contradict each other, the other way
    after = settled(estate, finding, "raise-group")["contradiction"]
    assert after.assignments == tuple(reversed(finding.assignments))
    assert "contradiction" not in settled(estate, finding, "pause-assignment")


def test_a_part_of_a_group_that_has_its_own_rule_contradicts_nobody():
    groups = [{"key": "strong", "pins": {"in": ["pc"]}}, {"key": "weak", "pins": {"in": ["pc", "third"]}}]
    assert findings(assigned((NO_GAMES, "strong"), (GAMES, "weak"), groups=groups)) == {}
    assert "contradiction" not in findings(assigned((NO_GAMES, "strong"), (GAMES, "whole-fleet"), groups=OVERLAPPING))


def test_rules_that_can_never_win():
    allow = rules("category", {"category": "games", "action": "allow"}, {"category": "music", "action": "allow"})
    mandatory = {"mandatory": True}
    estate = assigned((GAMES, "whole-fleet", mandatory), (allow, "strong"), groups=OVERLAPPING)
    finding = findings(estate)["shadowed"]
    assert finding.sentence == (
        "category-1 on strong: Games can never win on any of its 2 machines: category-0 on whole-fleet is mandatory."
    )
    assert [rule.rule for rule in finding.rules] == [1]
    after = apply_remedy(estate, finding, "remove-rules", BASE)
    assert [str(rule.selector) for rule in after.ruleset_by_key["category-1"].rules] == ["category music"]
    whole = findings(assigned((GAMES, "whole-fleet", mandatory), (NO_GAMES, "strong"), groups=OVERLAPPING))["shadowed"]
    assert whole.severity == "medium"
    assert whole.sentence.startswith("No rule of category-1 on strong can ever win")


def test_a_rule_that_wins_for_somebody_or_at_some_time_is_not_shadowed():
    hours = {"key": "rest", "zone": "UTC", "windows": [{"days": ["mon"], "from": "18:00", "to": "22:00"}]}
    for conditions in ({"schedule": "rest"}, {"people": {"users": ["purser-1"]}}, {"place": "on-site"}):
        strong = (NO_GAMES, "strong", conditions)
        estate = assigned(
            strong, (GAMES, "weak"), groups=[OVERLAPPING[0], {"key": "weak", "pins": {"in": ["pc"]}}], schedules=[hours]
        )
        assert "shadowed" not in findings(estate), conditions


def test_a_group_that_a_weaker_one_opens():
    closed = rules("category", {"everything": True, "action": "block"})
    estate = assigned((closed, "strong"), (NO_GAMES, "weak"), groups=OVERLAPPING)
    finding = findings(estate)["opened-by-weaker"]
    assert (finding.severity, finding.devices) == ("high", 1)
    assert "opened-by-weaker" not in settled(estate, finding, "replace-weaker")


def test_a_warn_that_softens_a_block():
    warned = rules("indicator", {"host": "play.example", "action": "warn"})
    estate = assigned(
        (GAMES, "weak"),
        (warned, "strong"),
        groups=OVERLAPPING,
        corrections=[{"host": "play.example", "categories": ["games"]}],
    )
    finding = findings(estate)["softened"]
    assert (finding.devices, finding.assignments[0]) == (1, "indicator-1--strong")
    after = apply_remedy(estate, finding, "block-too", BASE)
    assert after.ruleset_by_key["indicator-1"].rules[0].action == "block"
    assert "softened" not in findings(after)


def test_a_site_list_against_an_indicator():
    listed = rules("site", {"pattern": "play.example", "action": "block"})
    allowed = rules("indicator", {"host": "play.example", "action": "allow"})
    estate = assigned((listed, "weak"), (allowed, "strong"), groups=OVERLAPPING)
    finding = findings(estate)["layers-disagree"]
    assert (finding.devices, finding.rules[0].ruleset) == (1, "indicator-1")
    assert "layers-disagree" not in settled(estate, finding, "remove-allow")


BROWSERS = [{"name": "chromium", "version": "156", "managed": True}, {"name": "firefox", "managed": True}]


def test_an_allow_only_list_that_a_weaker_group_opens():
    closed = rules("site", {"pattern": "*", "action": "block"}, {"pattern": "tickets.example", "action": "allow"})
    opening = rules("site", {"pattern": "play.example", "action": "allow"})
    estate = assigned((closed, "strong"), (opening, "weak"), groups=OVERLAPPING)
    finding = findings(estate)["opened-by-weaker"]
    assert (finding.devices, finding.assignments) == (1, ("site-0--strong", "site-1--weak"))
    assert "opened-by-weaker" not in settled(estate, finding, "replace-weaker")


def test_site_lists_that_browsers_cannot_take_as_they_are_meant():
    blocks = [{"pattern": f"b{number}.example", "action": "block"} for number in range(1001)]
    more = [{"pattern": "b1.test:8080/*/x", "action": "block"}, {"pattern": "ftp://files.example", "action": "block"}]
    estate = assigned((rules("site", *blocks, *more), "weak"), groups=OVERLAPPING)
    devices = [{"hostname": "pc", "browsers": BROWSERS}, {"hostname": "other", "browsers": BROWSERS[:1]}]
    fleet = Fleet.of({"portero_facts": 1, "devices": devices})
    found = findings(estate, fleet)
    cut = found["list-truncated"]
    assert (cut.devices, cut.severity, cut.examples) == (1, "high", ("pc",))
    assert "Firefox, on 1 machine, takes 1,000 entries of each list: b1000.example is cut off" in cut.sentence
    changed = found["pattern-changed"]
    assert (changed.devices, [rule.rule for rule in changed.rules]) == (1, [1002, 1003])
    assert [rule.rule for rule in found["pattern-ignored"].rules] == [1002, 1003]
    assert "pattern-ignored" not in settled(estate, found["pattern-ignored"], "remove-rules")


def test_what_reaches_nobody_or_is_never_open():
    empty = [*OVERLAPPING, {"key": "empty"}]
    assert findings(assigned((GAMES, "empty"), groups=empty))["no-device"].remedies[0].key == "remove-assignment"
    shut = {
        "key": "shut",
        "zone": "UTC",
        "windows": [{"days": ["mon"], "from": "18:00", "to": "22:00"}],
        "days_off": [(BASE + timedelta(days=7 * week)).date().isoformat() for week in range(60)],
    }
    brief = {"schedule": "mondays", "starts": "2026-12-01T00:00:00Z", "ends": "2026-12-05T00:00:00Z"}
    mondays = {"key": "mondays", "zone": "UTC", "windows": [{"days": ["mon"], "from": "18:00", "to": "22:00"}]}
    for conditions in ({"schedule": "shut"}, brief, {"starts": "2027-02-01T00:00:00Z", "ends": "2027-01-01T00:00:00Z"}):
        estate = assigned((GAMES, "weak", conditions), groups=OVERLAPPING, schedules=[shut, mondays])
        finding = findings(estate)["never-open"]
        assert settled(estate, finding, "remove-assignment") == {}


def test_what_ended_and_what_ends_soon():
    def ends(days: float) -> dict:
        return {"ends": (BASE + timedelta(days=days)).isoformat()}

    for days, kind in ((-1, "ended"), (3, "ending")):
        estate = assigned((GAMES, "weak", ends(days)), groups=OVERLAPPING)
        finding = findings(estate)[kind]
        assert finding.at == BASE + timedelta(days=days)
        assert settled(estate, finding, "extend") == {}
    assert findings(assigned((GAMES, "weak", ends(8)), groups=OVERLAPPING)) == {}
    until = (BASE - timedelta(days=1)).isoformat()
    over = rules("category", {"category": "games", "action": "block", "valid_until": until})
    estate = assigned((over, "weak"), groups=OVERLAPPING)
    finding = findings(estate)["ended"]
    assert apply_remedy(estate, finding, "remove-rules", BASE).rulesets[0].rules == ()


def test_an_exception_whose_owner_is_gone():
    exception = {"owner": "Purser-1", "reason": "Audit", "ends": (BASE + timedelta(days=60)).isoformat()}
    estate = assigned((GAMES, "weak", exception), groups=OVERLAPPING)
    assert findings(estate, people={"purser-1"}) == {}
    finding = findings(estate, people={"somebody"})["owner-gone"]
    assert (finding.severity, finding.detail) == ("high", "Audit")
    # with nobody known nobody can be said to be gone
    assert findings(estate) == {}


def test_broad_rules_that_touch_everybody():
    closed = rules("category", {"everything": True, "action": "block"})
    estate = assigned((closed, "whole-fleet"))
    finding = findings(estate)["broad"]
    assert finding.devices == 3
    assert settled(estate, finding, "only-record") == {}
    assert findings(assigned((closed, "weak"), groups=OVERLAPPING)) == {}


def test_rules_that_part_of_the_machines_cannot_enforce():
    browsers = [{"name": "chromium", "version": "140", "managed": False}]
    fleet = fleet_of("pc", browsers=browsers, os={"family": "linux", "version": "12"})
    path = rules("indicator", {"url": "https://files.example/drop/", "action": "block"})
    estate = assigned((path, "whole-fleet"))
    finding = findings(estate, fleet)["unenforceable"]
    assert finding.id == "unenforceable.path-hidden.indicator-0--whole-fleet"
    after = apply_remedy(estate, finding, "name-hosts", BASE)
    assert str(after.rulesets[0].rules[0].selector) == "host files.example"
    listed = rules("site", {"pattern": "play.example", "action": "block"})
    assert findings(assigned((listed, "whole-fleet")), fleet)["unenforceable"].id.startswith("unenforceable.browser")
    starts = rules("startup", {"sha256": "a" * 64, "action": "block"})
    observing = {"settings": {"layers": {"startup": "observing"}}}
    estate = assigned((starts, "weak"), groups=OVERLAPPING, **observing)
    finding = findings(estate)["unenforceable"]
    assert settled(estate, finding, "enforce-startup") == {}


@pytest.mark.parametrize(
    ("mode", "severity", "does"), [("off", "high", "is off"), ("observing", "medium", "only records")]
)
def test_a_group_whose_layer_undoes_what_is_mandatory(mode, severity, does):
    modes = {"layer_modes": [{"group": "weak", "filter": mode}]}
    estate = assigned((GAMES, "whole-fleet", {"mandatory": True}), (NO_GAMES, "weak"), groups=OVERLAPPING, **modes)
    finding = findings(estate)["undone-by-layer"]
    assert (finding.id, finding.severity, finding.groups) == ("undone-by-layer.weak.filter", severity, ("weak",))
    assert finding.sentence.startswith(f"The filter {does} on weak, so ")
    assert "which is mandatory, stops nothing on" in finding.sentence
    assert finding.devices == len(finding.examples) > 0
    assert settled(estate, finding, "enforce-filter").get("undone-by-layer") is None
    # what is not mandatory a group may well do without
    assert "undone-by-layer" not in findings(assigned((GAMES, "whole-fleet"), groups=OVERLAPPING, **modes))
    assert "undone-by-layer" not in findings(
        assigned((GAMES, "whole-fleet", {"mandatory": True, "action": "log"}), groups=OVERLAPPING, **modes)
    )


@pytest.mark.parametrize(
    ("stopping", "mandatory", "allowed", "is_beaten"),
    [
        ({"everything": True}, {"mandatory": True}, "play.example", True),
        ({"category": "games"}, {"mandatory": True}, "play.example", True),
        ({"family": "pastime"}, {"mandatory": True}, "sub.play.example", True),
        ({"category": "games"}, {"mandatory": True}, "elsewhere.example", False),
        ({"everything": True}, {}, "play.example", False),
        ({"everything": True}, {"mandatory": True, "action": "log"}, "play.example", False),
        ({"everything": True}, {"mandatory": True, "place": "off-site"}, "play.example", False),
        ({"everything": True}, {"mandatory": True, "state": "paused"}, "play.example", False),
    ],
)
def test_an_allow_of_a_host_that_a_mandatory_category_rule_stops(stopping, mandatory, allowed, is_beaten):
    closed = rules("category", {**stopping, "action": "block"})
    opened = rules("indicator", {"host": allowed, "action": "allow"})
    entries = {"corrections": [{"host": "play.example", "categories": ["games"]}]}
    estate = assigned((closed, "whole-fleet", mandatory), (opened, "strong"), groups=OVERLAPPING, **entries)
    found = findings(estate)
    assert ("allow-beaten" in found) == is_beaten
    if is_beaten:
        finding = found["allow-beaten"]
        assert finding.assignments[0].endswith("strong")
        assert f"allows {allowed}, and never wins on any of its 2 machines" in finding.sentence
        assert "allow-beaten" not in settled(estate, finding, "remove-assignment")


ALL = {"groups": [{"key": "all", "pins": {"in": ["pc"]}}], "precedence": ["all"]}
KNOWN = {"users": ["purser"], "user_groups": [{"key": "watch", "users": ["mate"]}]}


@pytest.mark.parametrize(
    ("people", "told"),
    [
        ({"users": ["purser", "Mate"], "user_groups": ["WATCH"]}, None),
        ({"users": ["purser", "pursser"]}, "pursser"),
        ({"user_groups": ["watches"]}, "watches"),
        ({"users": ["a", "b", "c", "d"], "user_groups": ["e"]}, "a, b, c and 2 more"),
    ],
)
def test_people_whom_the_directory_does_not_know(people, told):
    fleet = Fleet.of({"portero_facts": 1, "devices": [{"hostname": "pc"}], "directory": KNOWN})
    estate = assigned((GAMES, "all", {"people": people}), **ALL)
    found = findings(estate, fleet)
    assert ("unknown-name" in found) == (told is not None)
    if told:
        assert f"is for {told}, and the directory knows nobody" in found["unknown-name"].sentence
    nobody_known = Fleet.of({"portero_facts": 1, "devices": [{"hostname": "pc"}]})
    assert "unknown-name" not in findings(estate, nobody_known), "an empty directory cannot say"


def test_machines_that_are_not_there():
    fleet = Fleet.of({"portero_facts": 1, "devices": [{"hostname": "pc"}]})
    to = {"to": ["whole-fleet", {"device": "pcc"}]}
    found = findings(assigned((GAMES, "all", to), **ALL), fleet)["unknown-name"]
    assert found.sentence.endswith("is assigned to pcc, and there is no such machine.")
    pinned = {"groups": [{"key": "pilot", "pins": {"in": ["pc", "old-pc"], "out": ["gone"]}}], "precedence": ["pilot"]}
    found = findings(assigned((GAMES, "pilot"), **pinned), fleet)["unknown-name"]
    assert (found.id, found.sentence) == (
        "unknown-name.pins.pilot",
        "Group pilot pins old-pc and gone, and there is no such machine.",
    )


def test_an_estate_whose_layer_is_off():
    off = {"settings": {"layers": {"filter": "off"}}}
    finding = findings(assigned((GAMES, "strong"), groups=OVERLAPPING, **off))["undone-by-layer"]
    assert (finding.id, finding.severity, finding.remedies) == ("undone-by-layer.estate.filter", "medium", ())
    assert finding.sentence.startswith("The filter is off for the estate, so")
    mandatory = assigned((GAMES, "strong", {"mandatory": True}), groups=OVERLAPPING, **off)
    assert findings(mandatory)["undone-by-layer"].severity == "high"
    listed = assigned(
        (rules("site", {"pattern": "play.example", "action": "block"}), "strong"), groups=OVERLAPPING, **off
    )
    assert "undone-by-layer" not in findings(listed), "the browser layer enforces"


@pytest.mark.parametrize(
    ("rule", "more"),
    [
        ({"decision": "declined"}, {}),
        ({"service": "drop"}, {}),
        ({"suitability": {"to": 30}}, {}),
        ({"host": "drop.example"}, {}),
        ({"host": "www.drop.example"}, {}),
        ({"decision": "declined"}, {"state": "paused"}),
        ({"decision": "declined"}, {"action": "log"}),
        ({"decision": "accepted"}, {}),
        ({"host": "op.example"}, {}),
        (None, {}),
    ],
)
def test_a_service_that_was_declined_and_stays_open(rule, more):
    services = [{"key": "drop", "hosts": ["www.drop.example"], "decision": "declined", "suitability": 20}]
    named = rules("indicator", {**(rule or {"host": "x.example"}), "action": "block"})
    estate = assigned((named, "strong", more), groups=OVERLAPPING, services=services)
    stops = not more and rule is not None and rule not in ({"decision": "accepted"}, {"host": "op.example"})
    assert ("not-carried-out" not in findings(estate)) == stops
    estate = estate.replacing(
        services=tuple(one.model_copy(update={"decision": Decision.OPEN}) for one in estate.services)
    )
    assert "not-carried-out" not in findings(estate)


def test_a_rule_that_would_stop_an_essential_program():
    own = {"key": "system", "include": [{"path": "/lib/systemd/systemd"}]}
    starts = rules("startup", {"application_set": "system", "action": "block"})
    enforcing = {"settings": {"layers": {"startup": "enforcing"}}}
    estate = assigned((starts, "weak"), groups=OVERLAPPING, application_sets=[own], **enforcing)
    finding = findings(estate)["blocks-essential"]
    assert "/lib/systemd/systemd" in finding.sentence
    with pytest.raises(KeyError):
        apply_remedy(estate, finding, "extend", BASE)
