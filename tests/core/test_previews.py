"""What a preview says is what the change then does: on generated estates and changes, and on small ones by hand."""

from __future__ import annotations

from collections import Counter
from datetime import UTC, datetime, timedelta

import pytest
from judging import assigned, rules
from worlds import Fleet, changed, made, word

from made_estates import BASE
from portero.core.insight.effects.subjects import KnownSubjects
from portero.core.insight.effects.touching import Touched
from portero.core.insight.previews import look_ahead, moved_groups
from portero.core.insight.taking_hold import taking_hold
from portero.core.nouns.assignment import Assignment
from portero.core.nouns.preview import Effect
from portero.core.nouns.rule import Rule
from portero.core.nouns.ruleset import Ruleset

ESTATES = 120
NOW = datetime(2026, 12, 2, 10, tzinfo=UTC)


def moves(fleet, before, after):
    return {id: then for id, then in fleet.groups(after).items() if then != fleet.groups(before)[id]}


def looked_ahead(fleet, before, after):
    return look_ahead(before, after, moves(fleet, before, after), fleet.world(before))


def tried(subject, device: str, at: datetime, user: str | None, place: str) -> dict:
    """An attempt that shows a subject."""
    about = {"start": subject.program.model_dump(exclude_none=True)} if subject.program else {"url": subject.url}
    more = {"search_term": subject.search_term, "media_type": subject.media_type}
    given = {name: value for name, value in {**more, "user": user}.items() if value}
    return {"device": device, "at": at.isoformat(), "place": place, **about, **given}


INDICATORS = ("host", "url", "address", "service", "decision", "suitability")


@pytest.mark.parametrize("part", range(4))
def test_a_preview_says_what_the_change_does(part):
    seen: dict[str, int] = {}
    for seed in range(part, ESTATES, 4):
        maker, before, fleet = made(seed)
        after = changed(maker, before, seed + 10_000)
        outlook = looked_ahead(fleet, before, after)
        old, new = fleet.offline(before), fleet.offline(after)
        world = fleet.world(before)
        known = KnownSubjects.of((before, after), world.programs, world.catalogue)
        moved = moved_groups(moves(fleet, before, after), world)
        subjects = set(Touched(before, after, outlook.changes, moved, known).subjects())
        names = Counter(f"{subject.kind} {subject.name}" for subject in subjects)
        # several programs may go by one name
        subjects = {one for one in subjects if names[f"{one.kind} {one.name}"] == 1}
        by_name = {f"{subject.kind} {subject.name}": subject for subject in subjects}
        # sound: each row's own witness shows it
        for row in outlook.verdicts:
            subject = by_name.get(row.subject)
            if subject is None or row.restarted or (row.user or "").startswith("somebody in"):
                continue
            attempt = tried(subject, row.device, row.at, row.user, row.place)
            assert (word(old, attempt), word(new, attempt)) == (row.before.value, row.after.value), (seed, row)
            seen[row.effect] = seen.get(row.effect, 0) + 1
        # complete: what really changes is told, on at least as many machines
        told: dict[tuple[str, str, str], int] = {}
        for row in outlook.verdicts:
            # what feeds bring is summed up, whatever it names
            kinds = INDICATORS if "indicators of" in row.words else (row.subject.partition(" ")[0],)
            for name in {row.subject, *(f"{kind} {example}" for kind in kinds for example in row.alike_examples)}:
                key = (name, row.before.value, row.after.value)
                told[key] = told.get(key, 0) + row.devices
        changes: dict[tuple[str, str, str], set[str]] = {}
        for subject in sorted(subjects, key=lambda one: (one.kind, one.name))[:40]:
            for _ in range(6):
                at = BASE + timedelta(minutes=15 * maker.rng.randrange(7 * 96))
                device = maker.rng.choice(fleet.members).id
                user, place = maker.rng.choice((None, "purser-1", "watch-1")), maker.rng.choice(("on-site", "off-site"))
                attempt = tried(subject, device, at, user, place)
                words = (word(old, attempt), word(new, attempt))
                if words[0] != words[1]:
                    changes.setdefault((f"{subject.kind} {subject.name}", *words), set()).add(device)
        for key, devices in changes.items():
            assert told.get(key, 0) >= len(devices), (seed, key, devices)
    assert set(seen) >= {"stopped", "warned", "released", "recorded"}, seen
    assert len(seen) >= 5, seen


def fleet_of(*hostnames: str) -> Fleet:
    layers = {"filter": "enforcing", "browser": "enforcing", "startup": "enforcing"}
    return Fleet.of(
        {"portero_facts": 1, "devices": [{"hostname": hostname, "layers": layers} for hostname in hostnames]}
    )


GAMES = rules("category", {"category": "games", "action": "block"})


def test_what_an_edit_releases_and_softens_is_told():
    fleet = fleet_of("pc", "other")
    before = assigned(
        (rules("category", {"category": "games", "action": "block"}, {"category": "music", "action": "block"}), "weak")
    )
    after = assigned((rules("category", {"category": "music", "action": "warn"}), "weak"))
    outlook = looked_ahead(fleet, before, after)
    rows = {row.subject: row for row in outlook.verdicts}
    assert rows["category games"].effect is Effect.RELEASED
    assert (rows["category games"].devices, rows["category games"].by) == (2, None)
    assert rows["category music"].effect is Effect.SOFTENED
    assert outlook.effects == {Effect.SOFTENED: 1, Effect.RELEASED: 1}
    assert len(outlook.touched) == 2


def test_an_edit_that_a_stronger_group_undoes_touches_only_the_others():
    fleet = fleet_of("pc", "other")
    allows = (rules("category", {"category": "games", "action": "allow"}), "strong")
    before, after = assigned(allows), assigned(allows, (GAMES, "weak"))
    (row,) = looked_ahead(fleet, before, after).verdicts
    assert (row.devices, row.device, row.by) == (1, "other", "category-1 on weak")


def test_a_schedule_and_people_are_told_as_such():
    fleet = fleet_of("pc", "other")
    hours = {"key": "rest", "zone": "Europe/Berlin", "windows": [{"days": ["mon"], "from": "18:00", "to": "22:00"}]}
    for conditions, told in (
        ({"schedule": "rest"}, "during rest"),
        ({"people": {"users": ["purser-1"]}}, "for purser-1"),
        ({"place": "off-site"}, "off-site"),
        ({"starts": "2026-12-24T00:00:00Z"}, "from 2026-12-24 00:00 UTC"),
        ({"until_restart": True}, "until the machine restarts"),
    ):
        before = assigned((GAMES, "weak", {"state": "draft"}), schedules=[hours])
        after = assigned((GAMES, "weak", conditions), schedules=[hours])
        (row,) = looked_ahead(fleet, before, after).verdicts
        assert row.when == told


def test_hosts_of_a_list_that_fare_alike_are_told_together():
    fleet = fleet_of("pc")
    hosts = [{"host": f"h{number}.example", "action": "block"} for number in range(3000)]
    before = assigned((rules("category", {"category": "music", "action": "block"}), "weak"))
    after = assigned(
        (rules("category", {"category": "music", "action": "block"}), "weak"), (rules("indicator", *hosts), "weak")
    )
    outlook = looked_ahead(fleet, before, after)
    (row,) = outlook.verdicts
    assert (row.alike, row.effect, outlook.effects) == (2999, Effect.STOPPED, {Effect.STOPPED: 3000})


def test_a_change_that_hits_everybody_says_who_loses_what():
    fleet = fleet_of("pc", "other")
    outlook = looked_ahead(fleet, assigned(), assigned((GAMES, "whole-fleet")))
    assert outlook.losses == ("Everybody, on all 2 machines, loses Games.",)
    assert looked_ahead(fleet, assigned(), assigned((GAMES, "strong"))).losses == ()


def test_a_name_a_draft_and_a_probe_change_no_verdict():
    fleet = fleet_of("pc")
    before = assigned((GAMES, "weak"))
    named = before.replacing(
        rulesets=tuple(ruleset.model_copy(update={"name": "Other"}) for ruleset in before.rulesets)
    )
    outlook = looked_ahead(fleet, before, named)
    assert len(outlook.changes) == 1
    assert (outlook.verdicts, outlook.effects) == ((), {})
    draft = assigned((GAMES, "weak"), (GAMES, "strong", {"state": "draft"}))
    assert looked_ahead(fleet, before, draft).touched == []


def test_machines_take_hold_by_their_own_rhythm():
    rhythms = [(1000.0 - age, 60.0) for age in range(0, 60, 6)]
    told = taking_hold([*rhythms, None], 1000.0)
    assert (told.devices, told.unheard) == (11, 1)
    assert told.half < told.most < told.all == 60.0
    assert (
        told.sentence
        == "11 machines fetch it; 9 of 10 hold it within a minute or so; 1 is not heard of and takes it on coming back."
    )


def test_whole_controls_come_first_and_what_a_feed_brings_is_summed_up():
    fed = {"key": "harbour", "kind": "indicator", "feed": "watch", "rules": []}
    brought = [{"host": f"trap-{number}.example", "action": "block"} for number in range(40)]
    own = rules("indicator", {"host": "parcel.example", "action": "block"}, key="own")
    games = rules("category", {"category": "games", "action": "block"}, key="games")
    feed = {
        "key": "watch",
        "kind": "indicators",
        "format": "stix",
        "action": "block",
        "address": "https://feeds.example/x",
    }
    before = assigned(feeds=[feed])
    everything = assigned((games, "whole-fleet"), (own, "whole-fleet"), feeds=[feed])
    fed_ruleset = Ruleset.model_validate(fed).model_copy(
        update={"rules": tuple(Rule.model_validate(rule) for rule in brought)}
    )
    put = Assignment.model_validate({"key": "h", "ruleset": "harbour", "to": ["whole-fleet"]})
    after = everything.replacing(
        rulesets=(*everything.rulesets, fed_ruleset), assignments=(*everything.assignments, put)
    )
    words = [row.words for row in looked_ahead(fleet_of("pc", "other"), before, after).verdicts]
    assert words[0] == "Games"
    assert set(words[1:]) == {"40 indicators of harbour", "parcel.example"}
    back = [row.words for row in looked_ahead(fleet_of("pc", "other"), after, before).verdicts]
    assert "40 indicators of harbour" in back
