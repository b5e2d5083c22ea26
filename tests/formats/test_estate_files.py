"""The estate written down: round trips, folders, hostile documents, calendars."""

from __future__ import annotations

import json
import time
import tracemalloc
from datetime import date

import pytest

from made_estates import Maker
from portero.core.nouns.estate import Estate
from portero.formats.calendars import BadCalendar, read_days_off
from portero.formats.estate_document import (
    read_directory,
    read_estate,
    read_facts,
    write_estate,
    write_estate_files,
)
from portero.formats.places import BadDocument


def problems(data: bytes | dict[str, bytes], read=read_estate) -> list[str]:
    with pytest.raises(BadDocument) as found:
        read(data)
    return [str(problem) for problem in found.value.problems]


@pytest.mark.parametrize("seed", range(0, 300, 10))
def test_what_is_written_reads_back_the_same_as_one_file_as_a_folder_and_as_json(seed):
    estate = Estate.model_validate(Maker(seed).estate())
    written = write_estate(estate)
    assert read_estate(written.encode()) == estate
    assert write_estate(read_estate(written.encode())) == written, "two exports are the same text"
    files = {name: text.encode() for name, text in write_estate_files(estate).items()}
    again = read_estate(files)
    assert sorted(again.rulesets, key=lambda ruleset: ruleset.key) == sorted(
        estate.rulesets, key=lambda ruleset: ruleset.key
    )
    assert again.replacing(rulesets=estate.rulesets) == estate
    as_json = json.dumps(estate.model_dump(mode="json", exclude_none=True)).encode()
    assert read_estate(as_json) == estate


def test_made_keys_are_ruleset_and_first_target_numbered_in_the_documents_order():
    document = b"""
portero: 1
groups: [{key: ships}]
rulesets: [{key: quiet, kind: category, rules: []}]
assignments:
  - {ruleset: quiet, to: ships}
  - {ruleset: quiet, to: [ships, whole-fleet], key: own}
  - {ruleset: quiet, to: [ships]}
  - {ruleset: quiet, to: {device: Kiosk-07.example}}
  - {ruleset: quiet, to: ships, key: quiet--ships--2}
"""
    keys = [assignment.key for assignment in read_estate(document).assignments]
    assert keys == ["quiet--ships", "own", "quiet--ships--3", "quiet--kiosk-07-example", "quiet--ships--2"]


def test_dates_times_and_versions_stay_the_text_that_they_are():
    document = b"""
portero: 1
schedules: [{key: x, windows: [{days: [mon], from: 06:00, to: 18:00}], days_off: [2027-01-01]}]
application_sets: [{key: y, include: [{product: Viewer, version: {below: 4.10}}]}]
"""
    estate = read_estate(document)
    assert estate.schedules[0].windows[0].from_ == "06:00"
    assert estate.application_sets[0].include[0].version.below == "4.10"


RULESET = "portero: 1\nrulesets:\n  - key: x\n    kind: {kind}\n    rules:\n      - {rule}\n"


@pytest.mark.parametrize(
    ("document", "expected"),
    [
        (RULESET.format(kind="indicator", rule="{hots: a.example, action: block}"), "did you mean “host”?"),
        (
            RULESET.format(kind="category", rule="{host: a.example, action: block}"),
            "belongs in a ruleset of kind indic",
        ),
        (RULESET.format(kind="site", rule="{pattern: a.example, action: warn}"), "rules of kind site allow or block"),
        (RULESET.format(kind="indicator", rule="{service: quick, action: block}"), "there is no service “quick”"),
        (RULESET.format(kind="startup", rule="{application_set: x, action: block}"), "there is no application set “x”"),
        (RULESET.format(kind="indicator", rule="{host: 203.0.113.7, action: block}"), "use “address”"),
        ("portero: 1\nschedules: [{key: x, windows: [{days: [mon], from: '6', to: '18:00'}]}]", "line 2, column"),
        (
            "portero: 1\nschedules: [{key: x, windows: [{days: [noday], from: '06:00', to: '18:00'}]}]",
            "is none of mon",
        ),
        ("portero: 1\nschedules: [{key: x, zone: Mars/Base, windows: []}]", "not a time zone"),
        (
            "portero: 1\nservices: [{key: a, hosts: [d.example]}, {key: b, hosts: [e.example, D.example]}]",
            "“d.example” is listed by “a” already",
        ),
        ("portero: 1\na: 1\na: 2\n", "the key “a” stands twice"),
        ("portero: 1\n---\nportero: 1\n", "a second document begins here"),
        ("portero: 1\ngroups: *nowhere\n", "stands for nothing"),
        ("portero: 1\ngroups: &me [*me]\n", "stands for nothing"),
    ],
)
def test_each_mistake_is_told_with_its_place(document, expected):
    told = problems(document.encode())
    assert any(expected in problem for problem in told), told
    assert all(problem.startswith("line ") for problem in told), told


SITE = """
portero: 1
rulesets: [{key: s, kind: site, rules: [{pattern: "*", action: allow}]}, {key: f, kind: indicator, feed: w, rules: []}]
assignments: [{ruleset: %s, to: whole-fleet, %s}]
"""


@pytest.mark.parametrize(
    ("parts", "expected"),
    [
        (("s", "people: {users: [a]}"), "cannot be for some people only"),
        (("s", "action: warn"), "browsers cannot warn"),
        (("s", "mandatory: true"), "may not allow broadly"),
        (("s", "schedule: nowhen"), "there is no schedule"),
        (("s", "notice: nowhere"), "there is no notice"),
    ],
)
def test_what_does_not_fit_an_assignment_is_refused(parts, expected):
    assert any(expected in problem for problem in problems((SITE % parts).encode()))


@pytest.mark.parametrize(
    ("pattern", "refused"),
    [
        ("http://*", True),
        ("*:8080", True),
        ("https://*/start", True),
        ("com", True),
        ("https://co.uk", True),
        ("tickets.example", False),
        (".shop.co.uk", False),
        ("192.0.2.7", False),
        ("http://[2001:db8::7]:8080", False),
    ],
)
def test_a_mandatory_site_list_opens_no_suffix_that_is_everybodys(pattern, refused):
    document = SITE.replace('"*"', f'"{pattern}"') % ("s", "mandatory: true")
    if refused:
        assert "may not allow broadly" in problems(document.encode())[0]
    else:
        assert read_estate(document.encode())


@pytest.mark.parametrize("rule", ["{service: host}", "{decision: accepted}", "{suitability: {from: 50}}"])
@pytest.mark.parametrize(("host", "refused"), [("co.uk", True), ("shop.co.uk", False)])
def test_no_service_opens_a_suffix_that_is_everybodys(rule, host, refused):
    document = RULESET.format(kind="indicator", rule=rule[:-1] + ", action: allow}")
    document += f"services: [{{key: host, hosts: [{host}], decision: accepted, suitability: 90}}]\n"
    if refused:
        assert "co.uk”, of the service “host”, is a public suffix" in problems(document.encode())[0]
        assert read_estate(document.replace("action: allow", "action: block").encode())
    else:
        assert read_estate(document.encode())


@pytest.mark.parametrize(
    ("rule", "refused"),
    [
        ("{family: pastime}", True),
        ("{everything: true}", True),
        ("{category: games}", False),
        ("{media_type: video/*}", False),
    ],
)
def test_a_mandatory_assignment_may_not_allow_broadly(rule, refused):
    document = RULESET.format(kind="category", rule=rule.replace("}", ", action: allow}"))
    document += "assignments: [{ruleset: x, to: whole-fleet, mandatory: true%s}]\n"
    if refused:
        assert "may not allow broadly" in problems((document % "").encode())[0]
        assert read_estate((document % ", action: log").encode()), "under log nothing is allowed"
    else:
        assert read_estate((document % "").encode())


def test_user_groups_that_take_each_other_in_are_refused_with_their_place():
    facts = b"""portero_facts: 1
directory:
  user_groups:
    - {key: a, user_groups: [b]}
    - {key: b, user_groups: [c]}
    - {key: C, user_groups: [A]}
devices: []
"""
    assert problems(facts, read_facts)[0].startswith(
        "line 4, column 16: user groups that take each other in: a → b → c"
    )
    assert "there is no user group “z”" in problems(b"user_groups: [{key: a, user_groups: [z]}]", read_directory)[0]
    assert "line 1" in problems(b"user_groups: [{key: a, uzers: [z]}]", read_directory)[0]


def test_a_long_chain_of_user_groups_is_no_burden():
    chain = [{"key": f"g{n}", "user_groups": [f"g{n + 1}"]} for n in range(20_000)] + [
        {"key": "g20000", "users": ["x"]}
    ]
    assert len(read_directory(json.dumps({"user_groups": chain}).encode()).groups_of("X")) == 20_001


def test_problems_in_a_folder_name_the_file():
    files = {
        "a.yaml": b"portero: 1\ngroups: [{key: ships}]\n",
        "b.yaml": b"portero: 1\n\ngroups: [{key: kiosks}, {key: ships}]\n",
    }
    assert problems(files) == [
        "b.yaml: line 3, column 25: “ships” stands twice, first as number 1; keep one of them (at /groups/1)"
    ]
    assert problems(
        {"a.yaml": b"portero: 1\nsettings: {}", "c.yaml": b"portero: 1\nsettings: {newly_registered_days: 3}"}
    )[0].startswith("c.yaml: line 2, column 1: “settings” stands in a.yaml already")
    assert problems({"a.yaml": b"portero: 1\ngroups: ["})[0].startswith("a.yaml: line ")


HOSTILE = {
    "nesting": b"portero: 1\ngroups: " + b"[" * 5_000_000,
    "nested mappings": b"portero: 1\ngroups: " + b"{a: " * 2_000_000,
    "nested dashes": b"portero: 1\ngroups:\n" + b"- " * 3_000_000,
    "too big": b"portero: 1\n# " + b"x" * 50_000_000,
    "aliases": b"portero: 1\na: &a [x, x, x, x, x, x, x, x, x, x]\n"
    + b"".join(b"%c: &%c [%s]\n" % (98 + n, 98 + n, b", ".join([b"*%c" % (97 + n)] * 10)) for n in range(9)),
    "a number of a million digits": b"portero: " + b"9" * 1_000_000,
    "odd bytes": b"portero: 1\n\xff\xfe\x00",
    "control characters": b"portero: 1\ngroups: [\x07]",
    "tags": b"portero: 1\ngroups: !!python/object/apply:os.system ['true']",
}


@pytest.mark.parametrize("name", HOSTILE)
def test_hostile_documents_are_refused_in_bounded_time_and_memory(name):
    began = time.process_time()
    tracemalloc.start()
    told = problems(HOSTILE[name])
    _, most = tracemalloc.get_traced_memory()
    tracemalloc.stop()
    assert told
    assert time.process_time() - began < 20
    assert most < 600_000_000
    assert name in ("too big", "control characters") or told[0].startswith("line "), told


# --- calendars ---

CALENDAR = b"""BEGIN:VCALENDAR\r
VERSION:2.0\r
PRODID:-//made up//EN\r
BEGIN:VEVENT\r
UID:1@brackwater.example\r
DTSTART;VALUE=DATE:20251224\r
DTEND;VALUE=DATE:20251227\r
RRULE:FREQ=YEARLY;COUNT=3\r
SUMMARY:Quay closed\r
END:VEVENT\r
BEGIN:VEVENT\r
UID:2@brackwater.example\r
DTSTART:20270501T080000Z\r
DTEND:20270501T100000Z\r
SUMMARY:Dry dock\r
END:VEVENT\r
END:VCALENDAR\r
"""


def test_days_off_are_the_days_of_the_events_each_time_they_repeat():
    days = read_days_off(CALENDAR, date(2026, 11, 25))
    assert [day.isoformat() for day in days] == [
        *("2026-12-24", "2026-12-25", "2026-12-26", "2027-05-01", "2027-12-24", "2027-12-25", "2027-12-26"),
    ]


@pytest.mark.parametrize(
    "data", [b"", b"no calendar", b"BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\n", b"\xff\xfe", b"x" * 2_000_000]
)
def test_what_is_no_calendar_is_refused(data):
    with pytest.raises(BadCalendar):
        read_days_off(data, date(2026, 11, 25))


def _calendar(*events: list[str], before: tuple[str, ...] = ()) -> bytes:
    lines = [line for event in events for line in ("BEGIN:VEVENT", *event, "END:VEVENT")]
    return "\r\n".join(["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:x", *before, *lines, "END:VCALENDAR", ""]).encode()


def test_an_occurrence_that_was_moved_or_dropped_counts_where_it_went():
    weekly = ["UID:1", "DTSTART;VALUE=DATE:20270104", "RRULE:FREQ=WEEKLY;COUNT=3", "EXDATE;VALUE=DATE:20270118"]
    moved = ["UID:1", "RECURRENCE-ID;VALUE=DATE:20270111", "DTSTART;VALUE=DATE:20270113"]
    other = ["UID:2", "DTSTART;VALUE=DATE:20270111"]
    days = read_days_off(_calendar(weekly, moved, other), date(2026, 11, 25))
    assert [day.day for day in days] == [4, 11, 13]


def test_an_event_with_times_counts_for_the_days_on_its_own_clock():
    zone = ["BEGIN:VTIMEZONE", "TZID:Quay", "BEGIN:STANDARD", "DTSTART:19700101T000000"]
    zone += ["TZOFFSETFROM:+1000", "TZOFFSETTO:+1000", "END:STANDARD", "END:VTIMEZONE"]
    late = ["UID:1", "DTSTART;TZID=Quay:20270301T220000", "DTEND;TZID=Quay:20270302T020000"]
    to_midnight = ["UID:2", "DTSTART;TZID=Quay:20270310T080000", "DTEND;TZID=Quay:20270311T000000"]
    days = read_days_off(_calendar(late, to_midnight, before=tuple(zone)), date(2026, 11, 25))
    assert [(day.month, day.day) for day in days] == [(3, 1), (3, 2), (3, 10)]


@pytest.mark.parametrize(
    "rule", ["FREQ=SECONDLY", "freq=minutely", "FREQ=HOURLY;COUNT=2", "FREQ=DAILY;BYHOUR=1,2", "FREQ=YEARLY;BYSECOND=1"]
)
def test_what_repeats_within_a_day_is_refused_before_anything_is_gone_through(rule):
    began = time.process_time()
    with pytest.raises(BadCalendar, match="daily at the most"):
        read_days_off(_calendar(["UID:1", "DTSTART:20270101T000000Z", f"RRULE:{rule}"]), date(2026, 11, 25))
    assert time.process_time() - began < 5


def test_a_calendar_that_repeats_without_end_is_given_up_in_time():
    daily = ([f"UID:{number}", "DTSTART;VALUE=DATE:00010101", "RRULE:FREQ=DAILY"] for number in range(2_000))
    with pytest.raises(BadCalendar, match="too often"):
        read_days_off(_calendar(*daily), date(2026, 11, 25))


def test_an_event_of_many_years_is_refused():
    endless = ["UID:1", "DTSTART;VALUE=DATE:20200101", "DTEND;VALUE=DATE:20991231"]
    with pytest.raises(BadCalendar, match="lasts longer"):
        read_days_off(_calendar(endless), date(2026, 11, 25))
