"""Administrators: the first one, first passwords, one's own, roles that count at once, and the last keeper."""

from __future__ import annotations

import re
import time

import httpx
import pytest

from conftest import Service, run_portero
from portero.client import Portero
from portero.client.errors import Invalid, NotAllowed, NotFound, NotSignedIn, PasswordChangeNeeded, StillInUse
from portero.core.nouns.administrator import AdministratorChange, NewAdministrator
from portero.service.administrators import FIRST_PASSWORD_SECONDS
from portero.service.keepers import open_keepers
from serving import PASSWORD, Served

OTHER = "a gull on every mast"


@pytest.fixture
def served(tmp_path):
    made = Served.of(tmp_path / "service")
    yield made
    made.stop()


@pytest.fixture
def keeper(served):
    with served.client() as portero, portero.access.session("keeper", served.password):
        yield portero


def sign_in(served, name, password):
    """A client with a token."""
    return served.client(name, password)


# --- the first one ---


def test_nobody_gets_in_before_there_is_an_administrator(tmp_path):
    class Bare(Service):
        def __init__(self, data):
            super(Service, self).__init__("portero.cli.main", "serve", "--data", data, "--port", 0)
            self.url = self.wait_for(r"listens on (http://127\.0\.0\.1:\d+)").group(1)

    running = Bare(tmp_path / "data")
    try:
        told = "\n".join(running.lines)
        code = re.search(r"^ +([0-9A-Z]{4}(?:-[0-9A-Z]{4}){3})$", told, re.M).group(1)
        assert f"portero administrator add NAME --role keeper --data {tmp_path / 'data'}" in told
        with httpx.Client(base_url=running.url + "/api/v1") as http:
            assert http.get("/setup").json() == {"needed": True}
            assert http.post("/session", json={"name": "keeper", "password": "keeper"}).status_code == 401
            first = {"code": code, "name": "harbour-master", "password": PASSWORD}
            assert http.post("/setup", json=first | {"code": "AAAA-BBBB-CCCC-DDDD"}).status_code == 403
            assert http.post("/setup", json=first | {"password": "short"}).status_code == 422
            made = http.post("/setup", json=first | {"code": code.lower()})
            assert (made.status_code, made.json()["role"]) == (201, "keeper")
            assert http.get("/devices").status_code == 200, "signed in by it"
            assert http.get("/setup").json() == {"needed": False}
            assert http.post("/setup", json=first | {"name": "another"}).status_code == 403, "good for one only"
    finally:
        running.stop()
    again = Bare(tmp_path / "data")
    again.stop()
    assert "setup code" not in "\n".join(again.lines)


def test_the_code_is_worth_nothing_once_one_was_made_at_the_machine(tmp_path):
    keepers = open_keepers(tmp_path)
    code = keepers.administrators.setup_code
    made = run_portero("administrator", "add", "harbour-master", "--role", "keeper", "--data", tmp_path)
    assert "harbour-master (keeper)" in made.stdout
    assert not keepers.administrators.is_setup_code(code)
    keepers.close()


def test_setup_codes_are_not_guessed(tmp_path):
    served = Served(open_keepers(tmp_path), without_keeper=True)
    code = served.keepers.administrators.setup_code
    wrong = {"code": "AAAA-AAAA-AAAA-AAAA", "name": "guesser", "password": PASSWORD}
    told = [httpx.post(served.url + "/api/v1/setup", json=wrong).status_code for _ in range(8)]
    assert (told[0], told[-1]) == (403, 429)
    assert served.keepers.administrators.is_setup_code(f" {code.lower()} ")
    served.stop()


# --- first passwords ---


def test_a_first_password_opens_nothing_but_the_way_to_ones_own(served, keeper):
    made = keeper.administrators.add(NewAdministrator(name="Help-Desk", role="responder", note="answers the crews"))
    assert (made.name, made.role, made.sees_names) == ("help-desk", "responder", False)
    assert 13 < (made.first_password_until.timestamp() - time.time()) / 86_400 <= 14
    with pytest.raises(PasswordChangeNeeded):
        sign_in(served, "help-desk", made.first_password)
    with Portero(served.url) as portero, portero.access.session("help-desk", made.first_password) as began:
        assert began.has_first_password
        with pytest.raises(PasswordChangeNeeded):
            next(portero.devices.list())
        with pytest.raises(NotSignedIn):
            portero.access.change_password("not that one", OTHER)
        portero.access.change_password(made.first_password, OTHER)
        assert list(portero.devices.list()) == []
        assert not portero.access.who_am_i().has_first_password
    sign_in(served, "help-desk", OTHER).close()
    with pytest.raises(NotSignedIn):
        sign_in(served, "help-desk", made.first_password)


def test_a_first_password_ends(served, keeper, monkeypatch):
    made = keeper.administrators.add(NewAdministrator(name="late"))
    later = time.time() + FIRST_PASSWORD_SECONDS + 10
    monkeypatch.setattr(served.keepers.sign_ins, "_now", lambda: later)
    with pytest.raises(NotSignedIn, match="not changed in time"):
        sign_in(served, "late", made.first_password)


@pytest.mark.parametrize(
    ("password", "why"),
    [
        ("short", "has 5 letters; take 15 or more"),
        ("steward-steward-1", "little more than your name"),
        ("passwordpassword", "many have"),
        ("qwertyuiopasdfgh", "many have"),
        ("aaaaaaaaaaaaaaaaaaaaaa", "many have"),
        ("x" * 1000, "many have"),
        (PASSWORD, "is the one that you have"),
    ],
)
def test_poor_passwords_are_refused_with_the_reason(served, password, why):
    served.add("steward", "reader")
    with Portero(served.url) as portero, portero.access.session("steward", PASSWORD):
        with pytest.raises(Invalid, match=re.escape(why)) as refused:
            portero.access.change_password(PASSWORD, password)
        assert refused.value.errors[0]["pointer"] == "/new_password"


@pytest.mark.parametrize(
    "password", ["wintergreen lamp post", "ørsted på færgen", "0123 tern 4567 kelp", "kitt" + "iwake" * 9]
)
def test_nothing_is_asked_of_which_letters_a_password_is_made(served, password):
    served.add("steward", "reader")
    with Portero(served.url) as portero, portero.access.session("steward", PASSWORD):
        portero.access.change_password(PASSWORD, password)
    sign_in(served, "steward", password).close()


def test_a_new_password_ends_other_sessions_and_leaves_tokens(served):
    served.add("steward", "reader")
    with sign_in(served, "steward", PASSWORD) as program, Portero(served.url) as one, Portero(served.url) as other:
        with one.access.session("steward", PASSWORD):
            other.access.session("steward", PASSWORD).__enter__()
            one.access.change_password(PASSWORD, OTHER)
            assert one.access.who_am_i().name == "steward"
            with pytest.raises(NotSignedIn):
                other.access.who_am_i()
        assert program.access.who_am_i().name == "steward"


# --- what a keeper says of them ---


def test_another_role_counts_at_once_for_sessions_and_tokens_that_are_there(served, keeper):
    served.add("steward", "keeper")
    with sign_in(served, "steward", PASSWORD) as program:
        seen = keeper.administrators.get("steward")
        keeper.administrators.change(seen, AdministratorChange(role="reader"))
        assert program.access.who_am_i().role == "reader"
        assert [token.role for token in program.access.tokens()] == ["reader"]
        with pytest.raises(NotAllowed, match="needs the role of a keeper"):
            program.epoch.begin()


def test_who_is_disabled_is_out_at_once(served, keeper):
    served.add("steward", "author")
    with sign_in(served, "steward", PASSWORD) as program:
        seen = keeper.administrators.get("steward")
        seen = keeper.administrators.change(seen, AdministratorChange(role="author", disabled=True))
        with pytest.raises(NotSignedIn):
            program.access.who_am_i()
        with pytest.raises(NotSignedIn, match="is disabled; a keeper"):
            sign_in(served, "steward", PASSWORD)
        keeper.administrators.change(seen, AdministratorChange(role="author"))
        with pytest.raises(NotSignedIn):
            program.access.who_am_i()
    sign_in(served, "steward", PASSWORD).close()


def test_the_last_keeper_stays(served, keeper):
    seen = keeper.administrators.get("keeper")
    for said in (AdministratorChange(role="author"), AdministratorChange(role="keeper", disabled=True)):
        with pytest.raises(StillInUse, match="last keeper"):
            keeper.administrators.change(seen, said)
    with pytest.raises(StillInUse, match="last keeper"):
        keeper.administrators.remove("keeper")
    served.add("deputy", "keeper")
    keeper.administrators.change(keeper.administrators.get("deputy"), AdministratorChange(role="keeper", disabled=True))
    with pytest.raises(StillInUse):
        keeper.administrators.remove("keeper")
    assert keeper.administrators.get("keeper").role == "keeper"


def test_a_change_of_what_somebody_else_changed_is_refused(served, keeper):
    served.add("steward", "reader")
    seen = keeper.administrators.get("steward")
    keeper.administrators.change(seen, AdministratorChange(role="author"))
    address, body = served.url + "/api/v1/administrators/steward", {"role": "reader"}
    headers = dict(keeper.access.connection.transport.session)
    assert httpx.put(address, json=body, headers=headers).status_code == 428
    answer = httpx.put(address, json=body, headers=headers | {"If-Match": f'"a{seen.version}"'})
    assert answer.status_code == 412
    assert keeper.administrators.get("steward").role == "author"


def test_who_is_removed_leaves_nothing_that_opens(served, keeper):
    served.add("steward", "author")
    with sign_in(served, "steward", PASSWORD) as program:
        keeper.administrators.remove("steward")
        with pytest.raises(NotSignedIn):
            program.access.who_am_i()
        keeper.administrators.add(NewAdministrator(name="steward"))
        with pytest.raises(NotSignedIn):
            program.access.who_am_i()
    with pytest.raises(NotFound):
        keeper.administrators.remove("nobody")


@pytest.mark.parametrize("name", ["", "..", "a b", "a/b", "a" * 65, "ørsted", "<b>"])
def test_names_that_could_be_mistaken_are_refused(keeper, name):
    connection = keeper.access.connection
    with pytest.raises(Invalid):
        connection.ask("POST", "/administrators", json={"name": name})


def test_a_token_has_no_way_round_its_end(served):
    with served.client() as program:
        for act in (
            lambda: program.administrators.add(NewAdministrator(name="ghost", role="keeper")),
            lambda: program.administrators.reset("keeper"),
            lambda: program.access.change_password(served.password, OTHER),
        ):
            with pytest.raises(NotAllowed, match="sign in for that"):
                act()


def test_when_somebody_was_last_seen(served, keeper):
    served.add("steward", "reader")
    assert keeper.administrators.get("steward").last_seen is None
    with sign_in(served, "steward", PASSWORD) as program:
        program.access.who_am_i()
        (found,) = [one for one in program.administrators.list() if one.name == "steward"]
        assert (time.time() - found.last_seen.timestamp() < 60, found.last_from) == (True, "127.0.0.1")


# --- the commands ---


@pytest.fixture
def command(served, tmp_path):
    environment = {"XDG_CONFIG_HOME": str(tmp_path)}

    def run(*arguments, **more):
        return run_portero(*arguments, env=environment, **more)

    run("sign-in", "--url", served.url, "--name", "keeper", "--password-stdin", input=served.password + "\n")
    return run


def test_the_commands(served, command):
    own = served.password + "\n"
    add = ("administrator", "add", "help-desk", "--role", "responder", "--sees-names", "yes", "--password-stdin")
    first = re.search(r"^ {4}(\S+)$", command(*add, input=own).stdout, re.M).group(1)
    assert re.search(r"help-desk +responder +yes +no +first password until", command("administrator", "list").stdout)
    elsewhere = ("--url", served.url, "--profile", "desk", "--password-stdin", "--name", "help-desk")
    refused = command("sign-in", *elsewhere, input=first + "\n", expect=1)
    assert "New password" in refused.stderr
    assert "15 or more" in command("sign-in", *elsewhere, input=f"{first}\nshort\n", expect=1).stderr
    assert "(responder)" in command("sign-in", *elsewhere, input=f"{first}\n{OTHER}\n").stdout
    changed = command("password", *elsewhere, input=f"{OTHER}\n{PASSWORD}\n").stdout
    assert changed.startswith("Changed the password of help-desk.")
    command("administrator", "set", "help-desk", "--role", "author", "--password-stdin", input=own)
    assert "disabled" in command("administrator", "disable", "Help-Desk", "--password-stdin", input=own).stdout
    assert "disabled" not in command("administrator", "enable", "help-desk", "--password-stdin", input=own).stdout
    assert "--role" in command("administrator", "set", "help-desk", "--password-stdin", input=own, expect=1).stderr
    wrong = command("administrator", "remove", "help-desk", "--yes", "--password-stdin", input="no\n", expect=1)
    assert "wrong" in wrong.stderr
    command("administrator", "remove", "help-desk", "--yes", "--password-stdin", input=own)
    assert "help-desk" not in command("administrator", "list").stdout


def test_the_way_back_in_at_the_machine(served, command):
    for _ in range(6):
        with pytest.raises(Exception, match=r"wrong|wait"):
            sign_in(served, "keeper", "forgotten")
    told = command("administrator", "reset", "keeper", "--data", served.data).stdout
    first = re.search(r"^ {4}(\S+)$", told, re.M).group(1)
    with pytest.raises(PasswordChangeNeeded):
        sign_in(served, "keeper", first)
    missing = command("administrator", "reset", "nobody", "--data", served.data, expect=1)
    assert "no administrator “nobody”" in missing.stderr
    empty = command("administrator", "reset", "keeper", "--data", served.data.parent / "elsewhere", expect=1)
    assert "holds no data of a service" in empty.stderr
    entries = served.keepers.store
    with entries.reading() as connection:
        (act, detail) = connection.execute(
            "SELECT act, entry ->> 'detail' FROM audit WHERE entry ->> 'means' = 'machine'"
        ).fetchone()
    assert (act, detail) == ("resetAdministrator", "keeper: keeper, with a first password")
