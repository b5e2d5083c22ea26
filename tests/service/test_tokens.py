"""Sessions and tokens: what each may make and end, how long it lasts, and who sees it."""

from __future__ import annotations

import httpx
import pytest

from conftest import run_portero
from portero.core.nouns.access import Role
from serving import PASSWORD

PEOPLE: dict[str, Role] = {"a-reader": "reader", "an-author": "author", "a-keeper": "keeper"}
ROLES = ("reader", "responder", "author", "keeper")


@pytest.fixture(scope="module", autouse=True)
def people(service):
    for name, role in PEOPLE.items():
        service.add(name, role)


class Means:
    """A session or a token, and what can be done by it."""

    def __init__(self, service, name: str = "", secret: str = "") -> None:
        self.http = httpx.Client(base_url=service.url + "/api/v1", timeout=20)
        self.secret = secret
        if secret:
            self.http.headers["Authorization"] = f"Bearer {secret}"
        else:
            told = self.http.post("/session", json={"name": name, "password": PASSWORD}).json()
            self.http.headers["X-CSRF-Token"] = told["csrf_token"]

    def makes(self, role: Role | None = None, days: int = 30, label: str = "made") -> httpx.Response:
        body = {"label": label, "days": days} | ({"role": role} if role else {})
        return self.http.post("/tokens", json=body)

    def ends(self, id: str) -> int:
        return self.http.delete(f"/tokens/{id}").status_code

    @property
    def is_good(self) -> bool:
        return self.http.get("/session").status_code == 200


@pytest.fixture
def session(service):
    return lambda name: Means(service, name)


def token_of(service, made: httpx.Response) -> Means:
    assert made.status_code == 201, made.text
    found = Means(service, secret=made.json()["secret"])
    found.made = made.json()
    return found


@pytest.mark.parametrize("name", PEOPLE)
@pytest.mark.parametrize("asked", ROLES)
def test_a_session_makes_what_its_administrator_may(session, name, asked):
    allowed = ROLES.index(asked) <= ROLES.index(PEOPLE[name])
    assert session(name).makes(asked).status_code == (201 if allowed else 403)


@pytest.mark.parametrize("own", ROLES)
@pytest.mark.parametrize("asked", ROLES)
def test_a_token_makes_only_lesser_ones(service, session, own, asked):
    token = token_of(service, session("a-keeper").makes(own))
    made = token.makes(asked)
    assert made.status_code == (201 if ROLES.index(asked) < ROLES.index(own) else 403)
    if made.status_code == 403:
        assert "sign in for that" in made.json()["detail"]
    else:
        assert token_of(service, made).http.get("/session").json()["role"] == asked


def test_a_token_of_one_day_makes_none_that_lasts_longer(service, session):
    token = token_of(service, session("a-keeper").makes("keeper", days=1))
    child = token_of(service, token.makes("author", days=365))
    grandchild = token_of(service, child.makes("reader", days=365))
    ends = {made.made["expires_at"] for made in (token, child, grandchild)}
    assert len(ends) == 1


@pytest.mark.parametrize("days", [0, -1, 366, 3650, 10**9])
def test_every_token_has_an_end_a_year_at_most(session, days):
    assert session("a-keeper").makes("reader", days=days).status_code == 422


def test_a_token_ends_itself_and_what_it_made_and_nothing_else(service, session):
    keeper = session("a-keeper")
    other = token_of(service, keeper.makes("keeper"))
    token = token_of(service, keeper.makes("keeper"))
    child = token_of(service, token.makes("author"))
    grandchild = token_of(service, child.makes("reader"))
    assert child.ends(token.made["id"]) == 403
    assert grandchild.ends(child.made["id"]) == 403
    assert token.ends(other.made["id"]) == 403, "not even a keeper's token"
    assert token.http.get("/sessions").status_code == 200
    running = keeper.http.get("/sessions").json()[0]["id"]
    assert token.http.delete(f"/sessions/{running}").status_code == 403
    assert child.ends(child.made["id"]) == 204
    assert [means.is_good for means in (other, token, child, grandchild)] == [True, True, False, False]
    assert token.ends(token.made["id"]) == 204
    assert (token.is_good, other.is_good) == (False, True)


def test_signing_out_ends_a_token_at_the_service(service, session):
    token = token_of(service, session("an-author").makes("author"))
    child = token_of(service, token.makes("reader"))
    assert token.http.delete("/session").status_code == 204
    assert (token.is_good, child.is_good) == (False, False)
    browser = session("an-author")
    assert browser.http.delete("/session").status_code == 204
    assert not browser.is_good


def test_ones_own_are_seen_and_ended_by_everybody_and_all_by_a_keeper(service, session):
    reader, author, keeper = (session(name) for name in PEOPLE)
    theirs = token_of(service, author.makes("reader", label="nightly report"))
    theirs.http.get("/devices")
    assert theirs.made["id"] not in {token["id"] for token in reader.http.get("/tokens").json()}
    for path in ("/tokens", "/sessions"):
        assert reader.http.get(path, params={"everybody": True}).status_code == 403
    assert reader.ends(theirs.made["id"]) == 404
    (listed,) = [
        token for token in keeper.http.get("/tokens?everybody=true").json() if token["label"] == "nightly report"
    ]
    assert (listed["administrator"], listed["role"], listed["last_from"]) == ("an-author", "reader", "127.0.0.1")
    assert listed["last_used"] is not None
    assert "secret" not in listed
    own = author.http.get("/sessions").json()
    assert {found["administrator"] for found in own} == {"an-author"}
    assert reader.http.delete(f"/sessions/{own[0]['id']}").status_code == 404
    assert keeper.http.delete(f"/sessions/{own[0]['id']}").status_code == 204
    assert not author.is_good
    assert keeper.ends(theirs.made["id"]) == 204
    assert not theirs.is_good


def test_the_commands(service, tmp_path):
    service.add("on-duty", "keeper")
    environment = {"XDG_CONFIG_HOME": str(tmp_path)}

    def run(*arguments: str, **more: object):
        return run_portero(*arguments, env=environment, **more)

    sign_in = ("sign-in", "--url", service.url, "--name", "on-duty", "--password-stdin")
    run(*sign_in, input=PASSWORD + "\n")
    told = run("token", "create", "nightly report", "--role", "reader", "--days", "9").stdout
    secret = told.splitlines()[0]
    assert "May what a reader may, until" in told
    assert Means(service, secret=secret).is_good
    listed = run("token", "list").stdout
    assert "nightly report" in listed
    assert "on-duty" in run("token", "list", "--everybody").stdout
    assert "signed in by no browser" in run("session", "list").stdout
    Means(service, "on-duty")
    assert "ROLE" in run("session", "list").stdout
    id = next(line.split()[0] for line in listed.splitlines() if "nightly report" in line)
    assert f"Ended {id}." in run("token", "end", id).stdout
    assert not Means(service, secret=secret).is_good
    assert "a token makes only lesser ones" in run("token", "create", "x", "--role", "keeper", expect=1).stderr.lower()
    browser = Means(service, "on-duty")
    browser_id = browser.http.get("/sessions").json()[0]["id"]
    assert f"Ended {browser_id}." in run("session", "end", browser_id, "--password-stdin", input=PASSWORD + "\n").stdout
    assert not browser.is_good
    other = token_of(service, Means(service, "an-author").makes("author")).made["id"]
    assert f"Ended {other}." in run("token", "end", other, "--password-stdin", input=PASSWORD + "\n").stdout
    told = run("sign-out").stdout
    assert told.startswith("Ended the token. Forgot profile default.")
    assert "Nobody was signed in there." in run("sign-out").stdout
