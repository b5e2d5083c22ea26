"""Lines answered bytes to bytes, beside the same lines judged one by one at length."""

from __future__ import annotations

import json
from datetime import timedelta
from random import Random

import pytest
from test_kernel import with_site_lists
from worlds import made

from made_estates import BASE, INDEX
from portero.core.insight import check_lines
from portero.core.insight.check_batches import MAX_LINE, judge_line
from portero.core.insight.check_lines import LineJudge
from portero.core.insight.offline import OfflineEstate
from portero.core.nouns.estate import Estate
from portero.core.nouns.verdict import BriefVerdict
from thorough import times

ODD = (
    b"",
    b"{",
    b"[]",
    b"null",
    b'"x"',
    b'{"device":"nobody-1","url":"http://a.example/"}',
    b'{"device":"kiosk-1"}',
    b'{"device":"kiosk-1","url":"http://a.example/","start":{"file":"x"}}',
    b'{"device":"kiosk-1","url":"nothing at all"}',
    b'{"device":"kiosk-1","url":""}',
    b'{"device":"kiosk-1","url":"http://a.example/","at":"yesterday"}',
    b'{"device":"kiosk-1","url":"http://a.example/","at":"2026-11-24T10:00:00"}',
    b'{"device":"kiosk-1","url":"http://a.example/","at":"9999-01-01T00:00:00Z"}',
    b'{"device":"kiosk-1","url":"http://a.example/","place":"nowhere"}',
    b'{"device":"kiosk-1","url":"http://a.example/","user":""}',
    b'{"device":"kiosk-1","url":"http://a.example/","id":""}',
    b'{"device":"kiosk-1","url":"http://a.example/","id":true}',
    b'{"device":"kiosk-1","url":"http://a.example/","id":123456789012345678901234567890}',
    b'{"device":"kiosk-1","url":"http://a.example/","id":"\xff"}',
    b'{"device":"KIOSK-1.","url":"http://a.example/\\u0001\\u007f\xc3\xa9"}',
    b'{"device":"kiosk-1","url":"http://a.example/","more":1}',
    b'{"device":"kiosk-1","url":"http://b\xc3\xbccher.example/\xe2\x82\xac?q=\\ud83d\\ude00"}',
    b" " * (MAX_LINE + 5),
)


def line(chance: Random, devices: list[str], hosts: list[str]) -> bytes:
    host = chance.choice((*hosts, "nobody-knows.example", "203.0.113.7", "[2001:db8::1]"))
    tail = chance.choice(("/", "/a", "/a/b?x=1", "/?q=cheat", ":8443/", "/a#b"))
    tried: dict[str, object] = {
        "device": chance.choice(devices),
        "url": f"{chance.choice(('http', 'https'))}://{host}{tail}",
        "id": chance.choice((None, 1, 'a"b', -5, "é")),
        "user": chance.choice((None, "purser-1", "Purser-2", "watch-1")),
        "browser": chance.choice((None, None, "firefox", "chromium")),
        "at": chance.choice(
            (None, (BASE + timedelta(minutes=chance.randrange(9000), seconds=chance.randrange(60))).isoformat())
        ),
        "place": chance.choice((None, "on-site", "off-site")),
        "search_term": chance.choice((*[None] * 8, "cheat codes")),
        "media_type": chance.choice((*[None] * 8, "video/mp4")),
        "address": chance.choice((*[None] * 8, "203.0.113.9")),
    }
    given = {key: value for key, value in tried.items() if value is not None or chance.random() < 0.2}
    return json.dumps(given, ensure_ascii=chance.random() < 0.5).encode()


def remembered(judge: LineJudge) -> int:
    return sum(len(answered) for seat in judge._seats.values() for answered in seat.by_host.values())


def in_brief(documents: OfflineEstate):
    return lambda attempt: BriefVerdict.of(documents.explain(attempt))


@pytest.mark.parametrize("part", range(3))
def test_each_line_is_answered_as_by_itself(part):
    kept = 0
    for seed in range(part, times(36, 400), 3):
        maker, estate, fleet = made(seed)
        documents = fleet.offline(with_site_lists(estate, seed) if seed % 2 == 0 else estate)
        chance, judge, briefly = maker.rng, LineJudge(documents), LineJudge(documents, brief=True)
        devices = [device.hostname for device in fleet.document.devices]
        some = [line(chance, devices, list(INDEX)) for _ in range(120)]
        # people come back, at other times
        for one in (*some, *chance.sample(ODD, 6), *chance.choices(some, k=200)):
            meant = judge_line(one, documents.explain).model_dump_json().encode()
            assert b"".join(judge.answer(one)) == meant, (seed, one)
            told = judge_line(one, in_brief(documents)).model_dump_json()
            assert b"".join(briefly.answer(one)) == told.encode(), (seed, one)
        kept += remembered(judge)
    assert kept > 150


def test_what_is_forgotten_is_answered_again(monkeypatch):
    """Whatever little may be remembered."""
    for name in ("MOST_URLS", "MOST_MOMENTS", "MOST_SEATS", "MOST_ANSWERS"):
        monkeypatch.setattr(check_lines, name, 2)
    maker, estate, fleet = made(4)
    documents, chance = fleet.offline(estate), maker.rng
    judge, devices = LineJudge(documents), [device.hostname for device in fleet.document.devices]
    some = [line(chance, devices, list(INDEX)) for _ in range(60)]
    for one in (*some, *chance.choices(some, k=200)):
        assert b"".join(judge.answer(one)) == judge_line(one, documents.explain).model_dump_json().encode()


@pytest.mark.parametrize("one", ODD)
def test_what_cannot_be_judged_is_told_as_ever(one):
    _, estate, fleet = made(1)
    documents = fleet.offline(Estate.model_validate(estate.model_dump(mode="json", exclude_none=True)))
    judge = LineJudge(documents)
    meant = judge_line(one, documents.explain)
    for _ in range(2):
        assert b"".join(judge.answer(one)) == meant.model_dump_json().encode()
    assert judge.failed == hasattr(meant, "problem")
