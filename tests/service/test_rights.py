"""Who may do what: every call of the API, tried as nobody, and in every role by session, token and lesser token."""

from __future__ import annotations

import json
from pathlib import Path

import httpx
import pytest

from portero.core.nouns.access import ROLES
from serving import PASSWORD

API = json.loads((Path(__file__).parents[2] / "docs/reference/openapi.json").read_text())
OPEN = {"signIn", "getSetup", "setUp"}
KEEPERS = {
    *("putSettings", "createEnrolmentCode", "revokeEnrolmentCode", "invite", "inviteFromCsv"),
    *("retireDevice", "revokeDevice", "confirmRejoin", "keepApart", "putDirectory"),
    *("takeDirectory", "dropDirectory", "beginEpoch"),
    *("createFeed", "putFeed", "removeFeed", "putFeedCredential", "removeFeedCredential"),
    *("createAdministrator", "putAdministrator", "resetAdministrator", "removeAdministrator"),
    # nobody in this table sees names
    *("listAudit", "exportAudit"),
}
RESPONDERS = {"createPush", "createRun", "createEvidence", "getProbeCase", "getObservationPicture"}
# what asks, reckons, or is one's own
ANYBODY = {
    *("check", "checkBatch", "previewGroup", "describeRuleset", "describeSchedule"),
    *("describeApplicationSet", "readDaysOff", "createToken", "putPassword", "endSession", "revokeToken"),
    *("trySiteList", "switchSiteList", "catchApplicationSet", "askWhy"),
    *("compareGroups", "compareMachines", "comparePerson", "compareEarlier"),
}
BY_SESSION = {
    *("createAdministrator", "putAdministrator", "resetAdministrator", "removeAdministrator"),
    *("putPassword", "endSession", "revokeToken"),
}
"""What no token does, whatever its role; revokeToken but for itself and its own, see test_tokens."""
CALLS = [
    (operation["operationId"], method, path)
    for path, methods in API["paths"].items()
    for method, operation in methods.items()
    if operation["operationId"] not in (*OPEN, "stream", "signOut")
]
MEANS = ("session", "token", "lesser token")


def needed(operation: str, method: str) -> str:
    """The least role that a call asks for, by the table above."""
    if operation in KEEPERS:
        return "keeper"
    if operation in RESPONDERS:
        return "responder"
    return "reader" if method == "get" or operation in ANYBODY else "author"


def is_refused(operation: str, method: str, role: str, means: str) -> bool:
    """Whether the table says so: a lesser token is of the next lower role."""
    place = ROLES.index(role) - (means == "lesser token")
    return place < ROLES.index(needed(operation, method)) or (means != "session" and operation in BY_SESSION)


@pytest.fixture(scope="module")
def headers(service):
    """What is sent by each role and means; a reader's token makes no lesser one."""
    found = {}
    for role in ROLES:
        service.add(f"a-{role}", role, sees_names=False)
        with httpx.Client(base_url=service.url + "/api/v1") as http:
            told = http.post("/session", json={"name": f"a-{role}", "password": PASSWORD})
            csrf = {"X-CSRF-Token": told.json()["csrf_token"]}
            found[role, "session"] = csrf | {"Cookie": told.headers["set-cookie"].partition(";")[0]}
            made = http.post("/tokens", json={"label": "rights"}, headers=csrf).json()
            found[role, "token"] = {"Authorization": f"Bearer {made['secret']}"}
        lesser = httpx.post(service.url + "/api/v1/tokens", json={"label": "lesser"}, headers=found[role, "token"])
        assert lesser.status_code == (201 if role != "reader" else 403)
        if role != "reader":
            found[role, "lesser token"] = {"Authorization": f"Bearer {lesser.json()['secret']}"}
    return found


@pytest.fixture(scope="module")
def http(service):
    with httpx.Client(base_url=service.url) as client:
        yield client


def asked(http: httpx.Client, method: str, path: str, headers: dict[str, str]) -> httpx.Response:
    """What a call without a fitting body comes to: 401 and 403 come before anything is looked at."""
    address = path.replace("{number}", "1").replace("{", "no-").replace("}", "")
    http.cookies.clear()
    return http.request(method, address, headers={"Content-Type": "application/json", **headers}, content=b"{}")


@pytest.mark.parametrize(("operation", "method", "path"), CALLS, ids=[call[0] for call in CALLS])
def test_each_call_asks_for_its_role(http, headers, operation, method, path):
    assert asked(http, method, path, {}).status_code == 401
    assert asked(http, method, path, {"Authorization": "Bearer wrong"}).status_code == 401
    found = {who: asked(http, method, path, sent) for who, sent in headers.items()}
    refused = {who for who, answer in found.items() if answer.status_code == 403}
    assert refused == {who for who in headers if is_refused(operation, method, *who)}
    for answer in (found[who] for who in refused):
        assert answer.json()["needed"], "what is not permitted says what is needed"


def test_a_refusal_says_which_role_is_needed_and_who_can_give_it(http, headers):
    told = asked(http, "post", "/api/v1/rulesets", headers["responder", "session"]).json()
    assert (
        told["detail"]
        == "This needs the role of an author; a-responder is responder, and a-keeper or keeper can give it."
    )
    assert (told["needed"], told["given_by"]) == ("the role of an author", ["a-keeper", "keeper"])
    told = asked(http, "post", "/api/v1/rulesets", headers["author", "lesser token"]).json()
    assert "this token is responder; sign in for that" in told["detail"]
    told = asked(http, "get", "/api/v1/audit", headers["reader", "session"]).json()
    assert told["detail"].startswith("This needs the right to see names; a-reader has it not, and a-keeper")


def test_a_change_in_a_session_needs_its_csrf_token(http, headers):
    sent = {"Cookie": headers["keeper", "session"]["Cookie"]}
    assert "X-CSRF-Token" in asked(http, "post", "/api/v1/rulesets", sent).json()["detail"]


FEED = {
    "key": "list",
    "kind": "categories",
    "format": "csv",
    "address": "http://127.0.0.1:22/",
    "private_network": True,
}


def test_an_author_puts_documents_that_leave_the_settings_and_feeds_alone(service, headers):
    author, keeper = (headers[role, "token"] | {"If-Match": "*"} for role in ("author", "keeper"))
    address = service.url + "/api/v1/estate"
    assert httpx.put(address, json={}, headers=author).status_code == 200
    settings = {"newly_registered_days": 9}
    for changed, part in (({"settings": settings}, "settings"), ({"settings": settings, "feeds": [FEED]}, "feeds")):
        told = httpx.put(address, json=changed, headers=author).json()["detail"]
        assert told.startswith(f"This needs the role of a keeper, as the document changes the {part}; a-author")
        assert httpx.put(address, json=changed, headers=keeper).status_code == 200


def test_the_table_names_calls_that_are_there():
    names = {operation for operation, _, _ in CALLS}
    assert (KEEPERS | ANYBODY | BY_SESSION) - names == set()
