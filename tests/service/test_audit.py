"""The audit trail: every act leaves an entry, none can be changed unseen, and who may not see names sees pseudonyms."""

from __future__ import annotations

import json
import sqlite3

import httpx
import pytest

from conftest import Wire, assignment, group, ruleset, run_portero, under
from portero.client import Portero
from portero.client.errors import NotAllowed
from portero.core.nouns.activity import ActivityBatch
from portero.core.nouns.administrator import AdministratorChange
from portero.core.nouns.attempt import Attempt
from portero.core.nouns.web_taxonomy import TAXONOMY
from portero.formats.audit import BrokenTrail, digest_of_entry, look_through, written
from portero.service.pseudonyms import PREFIX, Pseudonyms
from portero.store import activity
from serving import PASSWORD, Served

API = "/api/v1"


@pytest.fixture(scope="module")
def people(service):
    service.add("steward", "author")
    service.add("clerk", "reader", sees_names=False)


@pytest.fixture
def author(service, people):
    with service.client("steward", PASSWORD) as client:
        yield client


@pytest.fixture
def clerk(service, people):
    with service.client("clerk", PASSWORD) as client:
        yield client


def newest(portero: Portero, number: int = 1) -> list[tuple]:
    """What the newest entries tell, the oldest of them first."""
    told = [(one.by, one.act, one.outcome) for one in portero.audit.list(limit=number)]
    return told[::-1]


def test_each_act_leaves_an_entry_and_what_only_asks_leaves_none(service, portero, author):
    started = next(portero.audit.list(limit=1)).number
    author.rulesets.create(ruleset("no-gambling", gambling="block"))
    author.preview(lambda asked: asked.rulesets.remove("no-gambling"))
    list(author.devices.list())
    author.rulesets.get("no-gambling")
    httpx.get(service.url + f"{API}/rulesets/no-gambling/rules.csv", headers=bearer(author))
    with pytest.raises(NotAllowed):
        author.epoch.begin()
    entries = [one for one in portero.audit.list() if one.number > started][::-1]
    assert [(one.by, one.act, one.outcome) for one in entries] == [
        ("steward", "createRuleset", "done"),
        ("steward", "exportRulesCsv", "done"),
        ("steward", "beginEpoch", "refused"),
    ]
    made, _, refused = entries
    assert (made.about, made.detail, made.address) == ("/rulesets", "revision 1", "127.0.0.1")
    assert (made.role, made.means) == ("author", "token")
    assert made.means_id in {token.id for token in author.access.tokens()}
    assert refused.detail.startswith("This needs the role of a keeper")


def bearer(client: Portero) -> dict[str, str]:
    return {"Authorization": f"Bearer {client.access.connection.transport.token}"}


def test_the_same_refusal_again_leaves_no_second_entry(portero, author):
    for _ in range(5):
        with pytest.raises(NotAllowed):
            author.settings.change(activity_days=3)
    told = list(portero.audit.list(by="steward", act="putSettings"))
    assert [one.outcome for one in told] == ["refused"]


def test_what_was_done_about_administrators_is_told(service, portero):
    service.add("mate", "reader")
    with portero.access.session("keeper", service.password):
        seen = portero.administrators.get("mate")
        portero.administrators.change(seen, AdministratorChange(role="author", disabled=True))
        portero.administrators.remove("mate")
    told = [(one.act, one.about, one.detail) for one in portero.audit.list(by="keeper", limit=4)][::-1]
    assert told == [
        ("signIn", "/session", None),
        ("putAdministrator", "/administrators/mate", "reader and sees names; now author, sees pseudonyms and disabled"),
        ("removeAdministrator", "/administrators/mate", None),
        ("signOut", "/session", None),
    ]


def test_wrong_passwords_are_told_with_their_number_and_unknown_names_are_not(service, portero, people):
    for name in ("steward", "nobody-at-all"):
        for _ in range(4):
            httpx.post(service.url + f"{API}/session", json={"name": name, "password": "not that one"})
    told = [one for one in portero.audit.list(act="signIn") if one.outcome == "refused"][::-1]
    assert [(one.by, one.detail) for one in told] == [
        ("steward", "a wrong password"),
        ("steward", "wrong passwords, 2 in a row"),
        ("steward", "wrong passwords, 4 in a row"),
    ]


# --- the chain ---


def lines(portero: Portero) -> list[bytes]:
    return portero.audit.lines().splitlines()


def test_the_trail_is_whole_and_ends_with_the_call_before_its_export(portero):
    kept = lines(portero)
    looked = look_through(kept)
    assert (looked.entries, looked.first, looked.newest) == (len(kept), 1, len(kept))
    assert json.loads(kept[-1])["digest"] == looked.digest
    assert newest(portero) == [("keeper", "exportAudit", "done")]
    after = portero.audit.lines(after=looked.newest - 1).splitlines()
    assert after[0] == kept[-1]
    assert look_through(after).first == looked.newest


def changed(line: bytes, **parts) -> bytes:
    """The line with other parts, and the digest that belongs to them."""
    entry = json.loads(line) | parts
    del entry["digest"]
    text = written(entry)
    return json.dumps(entry | {"digest": digest_of_entry(text)}).encode()


@pytest.mark.parametrize(
    ("tampered", "told"),
    [
        (lambda kept: [*kept[:3], kept[3].replace(b'"done"', b'"refused"', 1), *kept[4:]], "was changed"),
        (lambda kept: [*kept[:3], changed(kept[3], by="someone"), *kept[4:]], "does not follow"),
        (lambda kept: kept[:3] + kept[4:], "after entry 3 comes 5"),
        (lambda kept: [*kept[:2], kept[3], kept[2], *kept[4:]], "after entry 2 comes 4"),
        (lambda kept: [*kept[:4], kept[3], *kept[4:]], "after entry 4 comes 4"),
        (lambda kept: [changed(kept[0], previous="sha256:00"), *kept[1:]], "entry 1 names one before it"),
        (lambda kept: [b"{}", *kept], "line 1 is no entry"),
        (lambda kept: [b"[" * 10_000, *kept], "line 1 is no entry"),
        (lambda kept: [kept[0].replace(b"{", b'{"by":"twice","by":"keeper",', 1), *kept[1:]], "line 1 is no entry"),
    ],
)
def test_what_was_changed_or_left_out_shows(portero, tampered, told):
    for _ in range(6):
        portero.audit.lines()
    kept = lines(portero)
    assert look_through(kept)
    with pytest.raises(BrokenTrail, match=told):
        look_through(tampered(kept))


def test_a_line_written_otherwise_is_the_same_entry(portero):
    respelled = [json.dumps(dict(reversed(json.loads(line).items())), indent=None) for line in lines(portero)]
    assert look_through(respelled).entries == len(respelled)


def test_the_store_takes_no_change_of_the_trail(service):
    for statement in ("UPDATE audit SET by = 'nobody'", "DELETE FROM audit WHERE number = 1"):
        with (
            pytest.raises(sqlite3.IntegrityError, match="only added to"),
            service.keepers.store.writing() as connection,
        ):
            connection.execute(statement)


def test_entries_of_hostile_calls_are_bounded(service, portero, author):
    path = f"{API}/rulesets/{'x' * 390}"
    answer = httpx.delete(service.url + path, params={"reason": "r" * 1999}, headers=bearer(author))
    assert answer.status_code == 404
    author.rulesets.create(ruleset("spare", gambling="warn"))
    reason = "line\nbreak “" + "r" * 1900
    author.rulesets.remove("spare", reason=reason)
    (entry,) = portero.audit.list(act="removeRuleset", limit=1)
    assert entry.reason == reason[:500]
    assert look_through(lines(portero))


# --- the commands ---


def test_the_commands(service, portero, tmp_path):
    environment = {"XDG_CONFIG_HOME": str(tmp_path), "PORTERO_URL": service.url}

    def run(*arguments, **more):
        return run_portero(*arguments, env=environment, **more)

    run("sign-in", "--url", service.url, "--name", "keeper", "--password-stdin", input=service.password + "\n")
    assert "createToken" in run("audit", "list", "--limit", "5").stdout
    assert {one["by"] for one in json.loads(run("audit", "list", "--by", "keeper", "--json").stdout)} == {"keeper"}
    told = run("audit", "verify").stdout
    anchor = told.split("The newest is ")[1].split()[0]
    file = tmp_path / "trail.jsonl"
    file.write_text(run("audit", "list", "--json-lines").stdout)
    assert "Whole: " in run("audit", "verify", file, "--expect", anchor).stdout
    assert "Whole: " in run("audit", "verify", "--expect", anchor).stdout
    kept = file.read_bytes().splitlines(keepends=True)
    file.write_bytes(b"".join(kept[:-3]))
    assert "Whole: " in run("audit", "verify", file).stdout, "the end alone tells nothing of what came after it"
    cut = run("audit", "verify", file, "--expect", anchor, expect=3)
    assert "is not there as it was kept elsewhere" in cut.stdout
    file.write_bytes(b"".join(kept[:3] + kept[4:]))
    broken = json.loads(run("audit", "verify", file, "--json", expect=3).stdout)
    assert broken == {"whole": False, "problem": "after entry 3 comes 5, which does not follow it"}


# --- names ---


@pytest.fixture(scope="module")
def reported(service, portero):
    """Attempts of two people, one of them written in two ways."""
    portero.groups.create(group("office", any=[under("brackwater/office")]))
    device = Wire(service, portero, "desk-1")
    attempts = [
        {
            "seq": number,
            "at": "2026-11-01T10:00:00Z",
            "url": "http://lucky-reef.example/",
            "host": "lucky-reef.example",
            "verdict": "block",
        }
        | ({"user": user} if user else {})
        for number, user in enumerate(("Watch-2", "watch-2", "purser-tidewren", None), start=1)
    ]
    batch = ActivityBatch.model_validate({"batch": 1, "attempts": attempts})
    with service.keepers.store.writing() as connection:
        activity.keep_batch(connection, device.id, batch, service.keepers.now())
    return device


def test_who_may_not_see_names_sees_the_same_pseudonym_each_time(portero, clerk, reported):
    seen = {one.seq: one.user for one in clerk.activity.list()}
    assert seen[4] is None
    assert seen[1] == seen[2] != seen[3]
    assert all(seen[number].startswith(PREFIX) for number in (1, 2, 3))
    assert {one.user for one in portero.activity.list()} == {"Watch-2", "watch-2", "purser-tidewren", None}
    by_word = list(clerk.activity.list(user=seen[1]))
    assert {one.seq for one in by_word} == {1, 2}
    for name in ("watch-2", "purser-tidewren"):
        assert list(clerk.activity.list(user=name)) == [], "trying names would tell who is who"
    assert {one.seq for one in portero.activity.list(user="purser-tidewren")} == {3}


def test_pseudonyms_stay_over_restarts_and_differ_between_services(service, portero, clerk, reported, tmp_path):
    word = next(one.user for one in clerk.activity.list() if one.seq == 3)
    assert Pseudonyms(service.keepers.store).of("Purser-Tidewren") == word
    other = Served.of(tmp_path / "other")
    assert other.keepers.pseudonyms.of("purser-tidewren") != word
    other.stop()


def test_an_attempt_of_a_pseudonym_is_judged_as_the_person(portero, clerk, reported):
    portero.rulesets.create(ruleset("reefs", gambling="block"))
    word = next(one.user for one in clerk.activity.list() if one.seq == 3)
    url = f"http://{TAXONOMY.categories['gambling'].test_host}/"
    portero.assignments.create(assignment("reefs", "office", people={"users": ["purser-tidewren"]}))
    told = clerk.checks.check(Attempt(device="desk-1", url=url, user=word))
    assert (told.attempt.user, told.intended.verdict) == (word, "block")
    other = next(one.user for one in clerk.activity.list() if one.seq == 1)
    assert clerk.checks.check(Attempt(device="desk-1", url=url, user=other)).intended.verdict == "allow"


def test_looking_somebody_up_is_an_act(portero, author, reported):
    list(author.activity.list(user="watch-2", limit=10))
    (entry,) = portero.audit.list(act="listActivity", limit=1)
    assert (entry.by, entry.detail) == ("steward", "looked up watch-2")


def test_the_trail_is_for_keepers_and_who_sees_names(clerk, author):
    assert list(author.audit.list(limit=1))
    with pytest.raises(NotAllowed, match="needs the right to see names"):
        list(clerk.audit.list(limit=1))
    with pytest.raises(NotAllowed):
        clerk.audit.lines()


def test_a_change_is_told_the_revision_that_it_made_and_never_anothers(service, portero, author, monkeypatch):
    def put(action: str) -> httpx.Response:
        body = {"key": "raced", "kind": "category", "rules": [{"category": "music", "action": action}]}
        seen = portero.rulesets.get("raced").version
        headers = {**bearer(author), "If-Match": f'"r{seen}"'}
        return httpx.put(f"{service.url}{API}/rulesets/raced", json=body, headers=headers)

    portero.rulesets.create(ruleset("raced", music="block"))
    made = put("warn")
    assert made.status_code == 200
    assert made.headers["Portero-Revision"] == str(next(portero.revisions.list(limit=1)).number)
    change = service.keepers.estate.change

    def raced(edit, **more):
        """Another one's change comes first, after this one was asked for."""
        monkeypatch.undo()
        portero.rulesets.create(ruleset("meanwhile", news="block"))
        return change(edit, **more)

    monkeypatch.setattr(service.keepers.estate, "change", raced)
    same = put("warn")
    assert same.status_code == 200
    assert next(portero.revisions.list(limit=1)).summary.startswith("Created ruleset meanwhile")
    assert "Portero-Revision" not in same.headers
