"""Who may do what: every call of the API, tried as nobody, as a reader, as an author and as a keeper."""

from __future__ import annotations

import json
from pathlib import Path

import httpx
import pytest

from portero.service.secrets import hash_password
from portero.store import access
from portero.store.database import Store

pytestmark = pytest.mark.process

API = json.loads((Path(__file__).parents[2] / "docs/reference/openapi.json").read_text())
OPEN = {"signIn", "getSession"}
KEEPERS = {
    *("putSettings", "createEnrolmentCode", "revokeEnrolmentCode", "invite", "inviteFromCsv"),
    *("retireDevice", "revokeDevice", "confirmRejoin", "keepApart", "putDirectory"),
    *("takeDirectory", "dropDirectory", "beginEpoch"),
    *("createFeed", "putFeed", "removeFeed", "putFeedCredential", "removeFeedCredential"),
}
# what asks, reckons, or is one's own
ANYBODY = {
    *("check", "checkBatch", "previewGroup", "describeRuleset", "describeSchedule"),
    *("describeApplicationSet", "readDaysOff", "createToken", "signOut"),
}
BY_SESSION = ("endSession", "revokeToken")
"""What a token does to itself and its own only, whatever its role: see test_tokens."""
CALLS = [
    (operation["operationId"], method, path)
    for path, methods in API["paths"].items()
    for method, operation in methods.items()
    if operation["operationId"] not in (*OPEN, *BY_SESSION, "stream", "signOut")
]


def needed(operation: str, method: str) -> str:
    """The least role that a call asks for, by the table above."""
    if operation in KEEPERS:
        return "keeper"
    return "reader" if method == "get" or operation in ANYBODY else "author"


ROLES = ("reader", "author", "keeper")


@pytest.fixture(scope="module")
def tokens(service, portero):
    """A token for each role."""
    store = Store(service.data / "portero.sqlite3")
    with store.writing() as connection:
        for role in ROLES[:2]:
            access.add_administrator(connection, f"a-{role}", role, hash_password("a long enough password"))
    store.close()
    found = {
        role: portero.access.sign_in(f"a-{role}", "a long enough password", label="rights").secret for role in ROLES[:2]
    }
    return found | {"keeper": portero.access.sign_in("keeper", service.password, label="rights").secret}


@pytest.fixture(scope="module")
def http(service):
    with httpx.Client(base_url=service.url) as client:
        yield client


def status(http: httpx.Client, method: str, path: str, token: str | None) -> int:
    """What a call without a fitting body comes to: 401 and 403 come before anything is looked at."""
    headers = {"Content-Type": "application/json", **({"Authorization": f"Bearer {token}"} if token else {})}
    address = path.replace("{number}", "1").replace("{", "no-").replace("}", "")
    return http.request(method, address, headers=headers, content=b"{}").status_code


@pytest.mark.parametrize(("operation", "method", "path"), CALLS, ids=[call[0] for call in CALLS])
def test_each_call_asks_for_its_role(http, tokens, operation, method, path):
    least = ROLES.index(needed(operation, method))
    assert status(http, method, path, None) == 401
    assert status(http, method, path, "wrong") == 401
    refused = [role for role in ROLES if status(http, method, path, tokens[role]) == 403]
    assert refused == list(ROLES[:least])


FEED = {
    "key": "list",
    "kind": "categories",
    "format": "csv",
    "address": "http://127.0.0.1:22/",
    "private_network": True,
}


def test_an_author_puts_documents_that_leave_the_settings_and_feeds_alone(service, tokens):
    headers = {"Authorization": f"Bearer {tokens['author']}", "If-Match": "*"}
    address = service.url + "/api/v1/estate"
    assert httpx.put(address, json={}, headers=headers).status_code == 200
    for changed in ({"settings": {"newly_registered_days": 9}}, {"feeds": [FEED]}):
        headers["Authorization"] = f"Bearer {tokens['author']}"
        assert "needs the role of a keeper" in httpx.put(address, json=changed, headers=headers).json()["detail"]
        headers["Authorization"] = f"Bearer {tokens['keeper']}"
        assert httpx.put(address, json=changed, headers=headers).status_code == 200


def test_the_table_names_calls_that_are_there():
    names = {operation for operation, _, _ in CALLS} | OPEN | {"signOut"}
    assert (KEEPERS | ANYBODY) - names == set()
