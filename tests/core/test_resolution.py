"""Each sentence of the page on resolution that states a consequence, as a test with a small estate."""

from __future__ import annotations

import pytest
from judging import assigned, judge, rules

GAMES = {"category": "games"}
MANDATORY = {"mandatory": True}


def block(**selector) -> dict:
    return {**selector, "action": "block"}


def allow(**selector) -> dict:
    return {**selector, "action": "allow"}


def warn(**selector) -> dict:
    return {**selector, "action": "warn"}


def log(**selector) -> dict:
    return {**selector, "action": "log"}


# --- categories ---


def test_a_host_that_no_rule_names_is_allowed():
    assert judge(assigned())[1:] == ("allow", None)


def test_block_beats_log_in_the_same_category():
    found = judge(assigned((rules("category", log(**GAMES)), "strong"), (rules("category", block(**GAMES)), "weak")))
    assert found[1:] == ("block", "category-1")
    assert [one.ruleset for one in found.layer.logged] == ["category-0"]


def test_a_stronger_group_can_allow_what_a_weaker_one_blocks():
    estate = assigned((rules("category", block(**GAMES)), "weak"), (rules("category", allow(**GAMES)), "strong"))
    assert judge(estate)[1:] == ("allow", "category-1")
    assert judge(estate, device="other")[1:] == ("block", "category-0")
    assert judge(estate).lost == {"category-0": "target"}


def test_the_device_itself_stands_above_all_of_its_groups():
    estate = assigned((rules("category", block(**GAMES)), "strong"), (rules("category", allow(**GAMES)), "device:pc"))
    found = judge(estate)
    assert found[1:] == ("allow", "category-1")
    assert found.layer.winner.target.device == "pc"
    assert judge(estate, device="other")[1:] == ("allow", None)


def test_a_mandatory_rule_is_neither_loosened_nor_where_it_allows_tightened():
    shut, opened = rules("category", block(**GAMES)), rules("category", allow(**GAMES))
    assert judge(assigned((shut, "whole-fleet", MANDATORY), (opened, "strong")))[1:] == ("block", "category-0")
    assert judge(assigned((opened, "whole-fleet", MANDATORY), (shut, "strong")))[1:] == ("allow", "category-0")


def test_an_ordinary_rule_that_is_stricter_than_a_mandatory_warn_still_holds():
    estate = assigned(
        (rules("category", warn(**GAMES)), "strong", MANDATORY), (rules("category", block(**GAMES)), "weak")
    )
    found = judge(estate)
    assert found[1:] == ("block", "category-1")
    assert found.lost == {"category-0": "action"}


def test_no_group_outranks_anothers_mandatory_word():
    estate = assigned(
        (rules("category", warn(**GAMES)), "strong", MANDATORY),
        (rules("category", block(**GAMES)), "whole-fleet", MANDATORY),
    )
    assert judge(estate)[1:] == ("block", "category-1")


def test_category_is_narrower_than_family_and_family_than_everything():
    estate = assigned((rules("category", allow(**GAMES), warn(family="pastime"), block(everything=True)), "weak"))
    hosts = ("play.example", "tune.example", "press.example")
    assert [judge(estate, f"http://{host}/").verdict for host in hosts] == ["allow", "warn", "block"]


def test_the_selector_comes_before_people_and_people_before_the_target():
    narrow, broad = rules("category", block(**GAMES)), rules("category", allow(family="pastime"))
    mine = {"people": {"users": ["purser-1"]}}
    assert judge(assigned((narrow, "whole-fleet"), (broad, "strong", mine)), user="purser-1").winner == "category-0"
    same = rules("category", allow(**GAMES))
    estate = assigned((narrow, "strong"), (same, "whole-fleet", mine))
    assert judge(estate, user="Purser-1").lost == {"category-0": "people"}
    assert judge(estate, user="somebody").winner == "category-0"
    assert judge(estate).winner == "category-0", "an attempt without a person is in no people's assignment"


def test_this_person_stands_above_a_user_group_of_theirs_nested_ones_too():
    directory = {
        "user_groups": [{"key": "Crew", "user_groups": ["pursers"]}, {"key": "Pursers", "users": ["purser-1"]}]
    }
    estate = assigned(
        (rules("category", block(**GAMES)), "strong", {"people": {"user_groups": ["crew"]}}),
        (rules("category", allow(**GAMES)), "weak", {"people": {"users": ["PURSER-1"]}}),
    )
    assert judge(estate, user="purser-1", directory=directory).winner == "category-1"
    only_group = assigned((rules("category", block(**GAMES)), "weak", {"people": {"user_groups": ["crew"]}}))
    assert judge(only_group, user="purser-1", directory=directory).verdict == "block"
    assert judge(only_group, user="watch-9", directory=directory).verdict == "allow"


def test_a_host_in_two_categories_one_allowed_and_one_blocked_is_blocked():
    estate = assigned((rules("category", allow(**GAMES), block(category="gambling")), "weak"))
    assert judge(estate, "http://arcade.example/").verdict == "block"


def test_lifting_one_category_never_lifts_another():
    blocks = rules("category", block(**GAMES), block(category="gambling"))
    estate = assigned((blocks, "weak"), (rules("category", allow(**GAMES)), "strong"))
    assert judge(estate).verdict == "allow"
    assert judge(estate, "http://arcade.example/").verdict == "block"


def test_under_everything_block_a_site_passes_only_if_each_of_its_categories_is_allowed():
    estate = assigned((rules("category", allow(category="news"), block(everything=True)), "weak"))
    assert judge(estate, "http://press.example/").verdict == "allow"
    assert judge(estate, "http://press-and-play.example/").verdict == "block"
    assert judge(estate, "http://nobody-knows.example/").verdict == "block", "it carries uncategorised"


def test_of_an_assignments_targets_the_strongest_that_holds_the_device_counts():
    estate = assigned((rules("category", allow(**GAMES)), "weak"), (rules("category", block(**GAMES)), "whole-fleet"))
    both = estate.assignments[1].model_copy(update={"to": ("whole-fleet", "strong")})
    assert judge(estate).winner == "category-0"
    assert judge(estate.replacing(assignments=(estate.assignments[0], both))).winner == "category-1"


@pytest.mark.parametrize(("override", "games", "music"), [(None, "warn", "allow"), ("block", "block", "allow")])
def test_warn_and_block_as_override_replace_warn_and_block(override, games, music):
    mixed = rules("category", warn(**GAMES), allow(category="music"))
    estate = assigned((mixed, "weak", {"action": override} if override else {}))
    assert (judge(estate).verdict, judge(estate, "http://tune.example/").verdict) == (games, music)


def test_log_as_override_turns_every_rule_into_log_which_decides_nothing():
    estate = assigned((rules("category", block(**GAMES), allow(category="music")), "weak", {"action": "log"}))
    found = judge(estate, "http://tune.example/")
    assert found[1:] == ("allow", None)
    assert len(found.layer.logged) == 1


# --- indicators ---


def test_an_indicator_that_allows_a_host_lifts_an_ordinary_category_block_and_not_a_mandatory_one():
    shut, lift = rules("category", block(**GAMES)), rules("indicator", allow(host="play.example"))
    found = judge(assigned((shut, "strong"), (lift, "whole-fleet")))
    assert (found[1:], found.lost) == (("allow", "indicator-1"), {"category-0": "lifted"})
    assert judge(assigned((shut, "weak", MANDATORY), (lift, "strong"))).verdict == "block"


def test_an_indicator_that_warns_on_a_host_lifts_too():
    estate = assigned(
        (rules("category", block(**GAMES)), "weak"), (rules("indicator", warn(host="play.example")), "weak")
    )
    assert judge(estate)[1:] == ("warn", "indicator-1")


def test_a_mandatory_allow_of_a_narrow_indicator_is_the_verdict_even_over_a_mandatory_category():
    estate = assigned(
        (rules("category", block(**GAMES)), "strong", MANDATORY),
        (rules("indicator", allow(host="play.example")), "weak", MANDATORY),
    )
    assert judge(estate)[1:] == ("allow", "indicator-1")


def test_where_an_ordinary_winner_lifts_a_contest_with_a_mandatory_winner_falls_back_to_that():
    estate = assigned(
        (rules("category", warn(**GAMES)), "weak", MANDATORY),
        (rules("category", block(**GAMES)), "weak"),
        (rules("indicator", allow(host="play.example")), "weak"),
    )
    assert judge(estate)[1:] == ("warn", "category-0")


def test_an_ordinary_indicator_lifts_also_where_a_mandatory_one_stands_above_it():
    estate = assigned(
        (rules("indicator", warn(host="play.example")), "whole-fleet", MANDATORY),
        (rules("indicator", allow(host="play.example")), "strong"),
        (rules("category", block(**GAMES)), "strong"),
    )
    assert judge(estate)[1:] == ("warn", "indicator-0")


@pytest.mark.parametrize(
    "broad", [{"decision": "declined"}, {"suitability": {"to": 20}}, {"address": "203.0.113.0/24"}]
)
def test_a_broad_indicator_sets_nothing_aside(broad):
    services = [{"key": "arcade", "hosts": ["play.example"], "suitability": 10, "decision": "declined"}]
    estate = assigned(
        (rules("category", block(**GAMES)), "weak"), (rules("indicator", warn(**broad)), "strong"), services=services
    )
    assert judge(estate, address="203.0.113.9")[1:] == ("block", "category-0")


def test_a_feed_sets_nothing_aside_and_never_softens():
    feed = rules("indicator", warn(host="play.example"), feed="watch")
    assert judge(assigned((rules("category", block(**GAMES)), "weak"), (feed, "strong"))).verdict == "block"
    below = rules("indicator", block(host="example"))
    assert judge(assigned((below, "weak"), (feed, "strong")))[1:] == ("block", "indicator-0")


def test_written_by_hand_stands_above_a_feed_and_neither_above_a_stronger_target():
    feed, own = (
        rules("indicator", block(host="play.example"), feed="watch"),
        rules("indicator", warn(host="play.example")),
    )
    found = judge(assigned((feed, "weak"), (own, "weak")))
    assert (found[1:], found.lost) == (("warn", "indicator-1"), {"indicator-0": "origin"})
    assert judge(assigned((feed, "strong"), (own, "weak"))).winner == "indicator-0"


NARROWEST_FIRST = [
    {"url": "http://a.play.example/x/y?q=1"},
    {"url": "http://a.play.example/x/y", "exact": True},
    {"url": "http://a.play.example:80/x/y/"},
    {"url": "http://a.play.example/x"},
    {"url": "http://a.play.example"},
    {"host": "a.play.example", "exact": True},
    {"host": "a.play.example"},
    {"host": "play.example"},
    {"service": "arcade"},
    {"address": "203.0.113.9"},
    {"address": "203.0.113.0/28"},
    {"address": "203.0.113.0/24"},
    {"decision": "declined"},
    {"suitability": {"to": 20}},
]


@pytest.mark.parametrize("place", range(len(NARROWEST_FIRST) - 1))
def test_indicators_are_narrower_in_this_order(place):
    services = [{"key": "arcade", "hosts": ["play.example"], "suitability": 10, "decision": "declined"}]
    url = "http://a.play.example/x/y" + ("?q=1" if place == 0 else "")
    pair = NARROWEST_FIRST[place : place + 2]
    if place == 0:
        pair = [pair[0], NARROWEST_FIRST[3]]
    if place == 1:
        pair = [pair[0], {"url": "http://a.play.example:80/x/y"}]
    estate = assigned(
        (rules("indicator", warn(**pair[1])), "strong"),
        (rules("indicator", block(**pair[0])), "weak"),
        services=services,
    )
    found = judge(estate, url, address="203.0.113.9")
    assert found.lost == {"indicator-0": "selector"}
    assert found.winner == "indicator-1"


def test_with_a_port_is_narrower_than_without_where_the_rest_is_equal():
    urls = [{"url": "https://play.example:8443/a"}, {"url": "https://play.example/a"}]
    estate = assigned((rules("indicator", block(**urls[0]), warn(**urls[1])), "weak"))
    assert judge(estate, "https://play.example:8443/a/b").layer.winner.rule == 1
    assert judge(estate, "http://play.example/a/b").layer.winner.rule == 2


@pytest.mark.parametrize(
    ("rule", "met", "missed"),
    [
        ({"host": "play.example"}, ["play.example", "a.play.example", "PLAY.example.:8080"], ["replay.example"]),
        ({"host": "play.example", "exact": True}, ["play.example"], ["a.play.example"]),
        ({"url": "http://play.example/a/"}, ["play.example/a", "https://play.example/a/b?x"], ["play.example/ab"]),
        ({"url": "http://play.example/A"}, ["play.example/A"], ["play.example/a"]),
        ({"url": "http://play.example/a/../b/./c"}, ["play.example/b/c"], ["play.example/a"]),
        ({"url": "http://play.example/%7Eme"}, ["play.example/~me", "play.example/%7eme/x"], ["play.example/me"]),
        ({"url": "http://u:p@play.example/a#b"}, ["play.example/a", "x:y@play.example/a"], ["play.example/"]),
        ({"url": "http://play.example/a?x=1"}, ["play.example/a?x=1"], ["play.example/a", "play.example/a/b?x=1"]),
        (
            {"url": "http://play.example/a", "exact": True},
            ["play.example/a/"],
            ["play.example/a?x", "play.example/a/b"],
        ),
        ({"url": "https://play.example"}, ["http://play.example:99/x"], ["a.play.example"]),
        ({"address": "203.0.113.0/24"}, ["203.0.113.7", "[::ffff:203.0.113.7]", "0xCB.0.113.7"], ["203.0.114.1"]),
        ({"address": "2001:db8::/32"}, ["[2001:db8::7]:8080/x"], ["[2001:db9::7]"]),
    ],
)
def test_what_an_indicator_matches(rule, met, missed):
    estate = assigned((rules("indicator", block(**rule)), "weak"))
    for url in met:
        assert judge(estate, url if "://" in url else f"http://{url}").verdict == "block", url
    for url in missed:
        assert judge(estate, url if "://" in url else f"http://{url}").verdict == "allow", url


def test_the_service_is_the_one_whose_host_is_the_nearest_at_or_above():
    services = [
        {"key": "outer", "hosts": ["drop.example"], "decision": "declined"},
        {"key": "inner", "hosts": ["safe.drop.example"], "decision": "accepted"},
    ]
    estate = assigned((rules("indicator", block(decision="declined")), "weak"), services=services)
    assert judge(estate, "http://www.drop.example/").verdict == "block"
    assert judge(estate, "http://a.safe.drop.example/").verdict == "allow"
    assert judge(estate, "http://none.example/").verdict == "allow", "no service, no match"


# --- search terms, media types ---

PAGES = {"search_pages": [{"host": "find.example", "parameter": "q"}]}


@pytest.mark.parametrize(
    ("url", "verdict"),
    [
        ("https://find.example/?q=free+CHEAT%20%20codes", "block"),
        ("https://find.example/?q=cheat+the+codes", "allow"),
        ("https://find.example/?q=cheat+codesmith", "allow"),
        ("https://find.example/?p=cheat+codes", "allow"),
        ("https://www.find.example/?q=cheat+codes", "allow"),
    ],
)
def test_a_search_term_matches_its_words_whole_adjacent_and_in_order_on_the_listed_pages(url, verdict):
    estate = assigned((rules("category", block(search_term="cheat codes")), "weak"), settings=PAGES)
    assert judge(estate, url).verdict == verdict


def test_each_search_term_is_a_contest_of_its_own_and_everything_does_not_compete_there():
    estate = assigned(
        (rules("category", block(search_term="cheat"), allow(everything=True)), "weak"),
        (rules("category", allow(search_term="cheat codes")), "strong"),
        settings=PAGES,
    )
    assert judge(estate, "http://find.example/?q=cheat+codes").verdict == "block"


def test_a_media_type_is_narrower_than_its_range_and_never_read_from_a_url():
    estate = assigned((rules("category", allow(media_type="video/mp4"), block(media_type="video/*")), "weak"))
    assert judge(estate, "http://tune.example/a.webm").verdict == "allow"
    assert judge(estate, "http://tune.example/", media_type="video/webm").verdict == "block"
    assert judge(estate, "http://tune.example/", media_type="Video/MP4; codecs=avc1").verdict == "allow"


# --- when, where, for whom ---


@pytest.mark.parametrize(
    ("at", "verdict"),
    [
        ("2026-12-01T23:59:59Z", "allow"),
        ("2026-12-02T00:00:00Z", "block"),
        ("2026-12-03T23:59:59Z", "block"),
        ("2026-12-04T00:00:00Z", "allow"),
    ],
)
def test_starts_is_in_and_ends_is_out(at, verdict):
    times = {"starts": "2026-12-02T00:00:00Z", "ends": "2026-12-04T00:00:00Z"}
    assert judge(assigned((rules("category", block(**GAMES)), "weak", times)), at=at).verdict == verdict


def test_at_valid_until_a_rule_is_over_and_the_next_one_counts():
    ending = {**warn(**GAMES), "valid_until": "2026-12-02T10:00:00Z"}
    estate = assigned((rules("category", ending), "strong"), (rules("category", block(**GAMES)), "weak"))
    assert judge(estate, at="2026-12-02T09:59:59Z").verdict == "warn"
    assert judge(estate, at="2026-12-02T10:00:00Z").verdict == "block"


@pytest.mark.parametrize(
    ("place", "device", "verdict"),
    [("off-site", {}, "block"), (None, {}, "block"), (None, {"place": "on-site"}, "allow"), ("on-site", {}, "allow")],
)
def test_the_place_is_the_attempts_else_the_devices_else_off_site(place, device, verdict):
    estate = assigned((rules("category", block(**GAMES)), "weak", {"place": "off-site"}))
    found = judge(estate, facts=device, **({"place": place} if place else {}))
    assert found.verdict == verdict
    assert ("fact-missing" in found.caveats) == (place is None and not device)


@pytest.mark.parametrize(
    ("last_start", "starts", "verdict"),
    [
        ("2026-12-02T09:00:00Z", "2026-12-02T08:00:00Z", "allow"),
        ("2026-12-02T07:00:00Z", "2026-12-02T08:00:00Z", "block"),
        ("2026-12-02T11:00:00Z", "2026-12-02T08:00:00Z", "block"),
        (None, "2026-12-02T08:00:00Z", "block"),
        ("2026-12-02T09:00:00Z", None, "block"),
    ],
)
def test_until_restart_a_start_since_it_began_ends_it_and_what_is_not_known_does_not(last_start, starts, verdict):
    conditions = {"until_restart": True, **({"starts": starts} if starts else {})}
    estate = assigned((rules("category", block(**GAMES)), "weak", conditions))
    assert judge(estate, facts={"last_start": last_start} if last_start else {}).verdict == verdict


@pytest.mark.parametrize("state", ["draft", "paused"])
def test_what_is_not_active_decides_nothing_and_is_told_on_request(state):
    estate = assigned((rules("category", block(**GAMES)), "weak", {"state": state}))
    found = judge(estate, left_aside=True)
    assert found.verdict == "allow"
    assert [(one.ruleset, one.reason.value) for one in found.layer.left_aside] == [("category-0", state)]


# --- replacing ---


def test_a_replacing_assignment_keeps_weaker_ordinary_ones_of_its_kind_out():
    only = rules("category", allow(category="news"), block(everything=True))
    estate = assigned((only, "strong", {"replaces_weaker": True}), (rules("category", allow(**GAMES)), "whole-fleet"))
    found = judge(estate)
    assert (found[1:], found.lost) == (("block", "category-0"), {"category-1": "replaced"})
    assert judge(estate, device="other").winner == "category-1"


@pytest.mark.parametrize(
    ("weaker", "conditions"),
    [
        (rules("category", allow(**GAMES)), MANDATORY),
        (rules("indicator", allow(host="play.example")), {}),
    ],
)
def test_mandatory_ones_and_other_kinds_stay(weaker, conditions):
    only = rules("category", block(everything=True))
    estate = assigned((only, "strong", {"replaces_weaker": True}), (weaker, "whole-fleet", conditions))
    assert judge(estate).verdict == "allow"


@pytest.mark.parametrize(
    "conditions", [{"action": "log"}, {"state": "paused"}, {"people": {"users": ["somebody"]}}, {"place": "on-site"}]
)
def test_what_only_logs_or_is_not_in_play_replaces_nothing(conditions):
    only = rules("category", block(everything=True))
    estate = assigned(
        (only, "strong", {"replaces_weaker": True, **conditions}), (rules("category", warn(**GAMES)), "weak")
    )
    assert judge(estate)[1:] == ("warn", "category-1")


# --- starts ---

VIEWER = {"file": "viewer", "product": "Deckhand Viewer", "version": "4.1", "vendor": "Deckhand", "sha256": "a" * 64}


def sets(**included: list[dict] | dict) -> dict:
    return {
        "application_sets": [
            {"key": key, **(one if isinstance(one, dict) else {"include": one})} for key, one in included.items()
        ]
    }


PROGRAMS_NARROWEST_FIRST = [
    {"path": "/opt/viewer"},
    {"product": "deckhand viewer", "version": {"below": "4.2"}},
    {"file": "VIEWER"},
    {"vendor": "Deckhand"},
    {"category": "remote-access"},
]


@pytest.mark.parametrize("place", range(len(PROGRAMS_NARROWEST_FIRST)))
def test_programs_are_narrower_in_this_order(place):
    parts = sets(**{f"set-{number}": [one] for number, one in enumerate(PROGRAMS_NARROWEST_FIRST)})
    broader = rules("startup", block(application_set=f"set-{place}"))
    narrower = rules("startup", warn(application_set=f"set-{place - 1}") if place else warn(sha256="a" * 64))
    everything = rules("startup", block(everything=True))
    catalogue = {"applications": [{"product": "Deckhand Viewer", "category": "remote-access"}]}
    estate = assigned((everything, "strong"), (broader, "strong"), (narrower, "weak"), **parts)
    found = judge(estate, start={**VIEWER, "path": "/opt/viewer"}, facts=catalogue)
    assert (found.winner, set(found.lost.values())) == ("startup-2", {"selector"})


def test_exclusions_win_over_inclusions_within_a_set():
    held = {
        "include": [{"vendor": "Deckhand"}],
        "exclude": [{"product": "Deckhand Viewer", "version": {"from": "4.1"}}],
    }
    estate = assigned((rules("startup", block(application_set="tools")), "weak"), **sets(tools=held))
    assert judge(estate, start=VIEWER).verdict == "allow"
    assert judge(estate, start={**VIEWER, "version": "4.0.9"}).verdict == "block"


def test_a_set_is_as_narrow_as_the_narrowest_field_of_its_narrowest_matching_condition():
    mixed = [{"vendor": "Deckhand"}, {"signer": "Nobody", "sha256": "a" * 64}]
    estate = assigned(
        (rules("startup", block(application_set="mixed")), "strong"),
        (rules("startup", allow(application_set="named")), "weak"),
        **sets(mixed=mixed, named=[{"product": "Deckhand Viewer"}]),
    )
    assert judge(estate, start=VIEWER).verdict == "allow", "its condition by hash does not match: by vendor only"
    assert judge(estate, start={**VIEWER, "signer": "nobody"}).verdict == "block"


@pytest.mark.parametrize(
    ("bounds", "held"),
    [
        ({"is": "4.2"}, ["4.2", "4.2.0"]),
        ({"below": "4.2"}, ["4.1", "4.2-rc1"]),
        ({"from": "4.2"}, ["4.2", "4.2.0", "4.10"]),
        ({"to": "4.2"}, ["4.1", "4.2", "4.2.0", "4.2-rc1"]),
    ],
)
def test_versions_compare_by_numeric_parts(bounds, held):
    parts = sets(old=[{"product": "Deckhand Viewer", "version": bounds}])
    estate = assigned((rules("startup", block(application_set="old")), "weak"), **parts)
    tried = ["4.1", "4.2", "4.2.0", "4.2-rc1", "4.10"]
    assert [one for one in tried if judge(estate, start={**VIEWER, "version": one}).verdict == "block"] == held


def test_a_field_that_the_attempt_does_not_carry_matches_nothing_with_a_caveat():
    parts = sets(signed=[{"signer": "Brackwater IT"}])
    estate = assigned((rules("startup", block(application_set="signed")), "weak"), **parts)
    found = judge(estate, start=VIEWER)
    assert (found.verdict, found.caveats) == ("allow", ["fact-missing"])
    assert "signer" in found.explanation.effective.caveats[0].detail


def test_a_frozen_set_holds_its_members_and_no_later_ones():
    members = {"following": False, "include": [{"vendor": "Deckhand"}], "frozen_members": ["a" * 64]}
    estate = assigned((rules("startup", block(application_set="frozen")), "weak"), **sets(frozen=members))
    assert judge(estate, start=VIEWER).verdict == "block"
    assert judge(estate, start={**VIEWER, "sha256": "b" * 64}).verdict == "allow"


def test_a_set_frozen_without_members_holds_what_is_found_now():
    unsaid = {"following": False, "include": [{"vendor": "Deckhand"}]}
    estate = assigned((rules("startup", block(application_set="frozen")), "weak"), **sets(frozen=unsaid))
    known = {"applications": [VIEWER]}
    assert judge(estate, start=VIEWER, facts=known).verdict == "block"
    assert judge(estate, start={**VIEWER, "sha256": "b" * 64}, facts=known).verdict == "allow"


def test_essential_programs_always_start():
    estate = assigned((rules("startup", block(everything=True)), "strong", MANDATORY))
    assert judge(estate, start=VIEWER).verdict == "block"
    assert judge(estate, start={"file": "init", "path": "/sbin/init"}).verdict == "allow"
    assert judge(estate, start={"path": "c:/windows/system32/LSASS.exe"}).verdict == "allow"
    assert judge(estate, start={"file": "init", "path": "/tmp/init"}).verdict == "block"
    shell, script = {"path": "/usr/bin/bash"}, {"path": "/var/lib/dpkg/info/mail.postinst"}
    assert [judge(estate, start=one, user="root").verdict for one in (shell, script)] == ["allow", "allow"]
    assert [judge(estate, start=one, user="fitter-2").verdict for one in (shell, script)] == ["block", "block"]
    assert judge(estate, start=shell).verdict == "block", "nobody that is known"
    assert judge(estate, start={"path": "/var/lib/dpkg/../../../tmp/a"}, user="root").verdict == "block"


# --- layers together ---


def test_a_visit_must_pass_each_layer_an_indicator_cannot_lift_a_site_list():
    estate = assigned(
        (rules("site", block(pattern="*"), allow(pattern="tickets.example")), "weak"),
        (rules("indicator", allow(host="play.example")), "strong"),
    )
    found = judge(estate).explanation
    assert [(layer.layer.value, layer.verdict.value) for layer in found.intended.layers] == [
        ("browser", "block"),
        ("filter", "allow"),
    ]
    assert found.intended.verdict == "block"
    assert judge(estate, "https://www.tickets.example/a").explanation.intended.verdict == "allow"


def test_a_browser_that_may_not_start_takes_away_every_visit_by_it():
    parts = sets(gull=[{"file": "gullwing"}])
    estate = assigned((rules("startup", block(application_set="gull")), "weak"), **parts)
    browsers = {"browsers": [{"name": "gullwing", "application": {"file": "gullwing"}}, {"name": "chromium"}]}
    found = judge(estate, browser="Gullwing", facts=browsers)
    assert (found.layer.layer.value, found.verdict) == ("startup", "block")
    assert len(judge(estate, browser="chromium", facts=browsers).explanation.intended.layers) == 2


def test_the_same_pattern_blocked_and_allowed_is_settled_on_the_ladder():
    estate = assigned(
        (rules("site", block(pattern="play.example")), "weak"),
        (rules("site", allow(pattern="PLAY.example")), "strong"),
    )
    layer = judge(estate).explanation.intended.layers[0]
    assert (layer.winner.ruleset, layer.lost[0].rung.value) == ("site-1", "target")
    assert layer.note is None


def test_an_ordinary_allow_inside_a_mandatory_block_is_left_out():
    estate = assigned(
        (rules("site", block(pattern="play.example")), "weak", MANDATORY),
        (rules("site", allow(pattern="www.play.example/a")), "strong"),
    )
    layer = judge(estate, "http://www.play.example/a").explanation.intended.layers[0]
    assert (layer.verdict, layer.winner.ruleset, layer.lost[0].rung.value) == ("block", "site-0", "mandatory")


def test_a_browser_that_takes_no_managed_policy_is_a_gap():
    estate = assigned((rules("site", block(pattern="play.example")), "weak"))
    managed = {"browsers": [{"name": "chromium", "managed": True}, {"name": "gullwing"}]}
    assert judge(estate, browser="chromium", facts=managed).explanation.gap == "none"
    found = judge(estate, browser="gullwing", facts=managed)
    assert (found.explanation.gap, found.caveats) == ("looser", ["browser-unmanaged"])


@pytest.mark.parametrize(
    ("rule", "caveat"),
    [(block(url="https://play.example/a"), "path-hidden"), (block(media_type="video/*"), "content-hidden")],
)
def test_what_https_hides_is_a_gap_with_its_caveat(rule, caveat):
    kind = "indicator" if "url" in rule else "category"
    estate = assigned((rules(kind, rule), "weak"))
    found = judge(estate, "https://play.example/a", browser="chromium", media_type="video/mp4")
    assert (found.explanation.gap, found.caveats) == ("looser", [caveat])
    assert judge(estate, "http://play.example/a", browser="chromium", media_type="video/mp4").explanation.gap == "none"


def test_a_set_that_leaves_a_program_out_says_so():
    include, ours = [{"category": "remote-access"}], [{"signer": "Harbour IT"}]
    sets = [{"key": "remote", "include": include, "exclude": ours}, {"key": "other", "include": [{"product": "x"}]}]
    listed = rules("startup", block(application_set="remote"), block(application_set="other"))
    estate = assigned((listed, "weak"), application_sets=sets)
    program = {"product": "Steersman", "category": "remote-access", "signer": "Harbour IT"}
    judged = judge(estate, start=program)
    assert judged.verdict == "allow"
    told = "Left out, though what it takes in would hold it: the set remote, by startup-0 on weak."
    assert judged.layer.note == told
    assert judge(estate, start={**program, "signer": "Others"}).layer.note is None
    assert (
        judge(assigned((listed, "weak", {"state": "paused"}), application_sets=sets), start=program).layer.note is None
    )
