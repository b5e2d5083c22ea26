"""What calls about previews, findings, history and overlaps refuse: they say what is wrong, and do nothing."""

from __future__ import annotations

import httpx
import pytest

from conftest import Wire, assignment, group, ruleset, under
from portero.core.nouns.estate import Estate

pytestmark = pytest.mark.process
LATER = "2035-01-01T00:00:00Z"


@pytest.fixture(scope="module")
def http(service, portero):
    """A little estate with one finding, asked as its keeper."""
    Wire(service, portero, "pc-1", kind="laptop").sync()
    portero.estate.put(
        Estate(
            groups=(group("office", all=[under("brackwater/office")]),),
            rulesets=(ruleset("away", gambling="allow"), ruleset("never", gambling="block")),
            assignments=(),
        ),
        revision=None,
    )
    portero.assignments.create(assignment("away", "office"))
    portero.assignments.create(assignment("never", "whole-fleet", mandatory=True))
    secret = portero.access.sign_in("keeper", service.password, label="raw").secret
    with httpx.Client(base_url=f"{service.url}/api/v1", headers={"Authorization": f"Bearer {secret}"}) as client:
        yield client


FINDING = "/findings/shadowed.away--office"
ACCEPTANCE = {"reason": "for now", "until": LATER}

REFUSED = {
    "a finding that is not there": ("GET", "/findings/shadowed.nothing", None, 404, "no finding “shadowed.nothing”"),
    "machines of one that is not there": ("GET", "/findings/x/devices", None, 404, "no finding “x”"),
    "a long id": ("GET", "/findings/" + "x" * 5000, None, 404, "no finding"),
    "a kind nobody knows": ("GET", "/findings?kind=nonsense", None, 422, "kind"),
    "a severity nobody knows": ("GET", "/findings?severity=urgent", None, 422, "severity"),
    "a damaged page": ("GET", FINDING + "/devices?cursor=next", None, 400, "cursor is damaged"),
    "a page too long": ("GET", FINDING + "/devices?limit=100000", None, 422, "limit"),
    "an acceptance without reason": ("PUT", FINDING + "/acceptance", {"until": LATER}, 422, "reason"),
    "an acceptance with an empty reason": ("PUT", FINDING + "/acceptance", {**ACCEPTANCE, "reason": ""}, 422, "reason"),
    "an acceptance for ever": ("PUT", FINDING + "/acceptance", {"reason": "fine"}, 422, "until"),
    "an acceptance until no time": ("PUT", FINDING + "/acceptance", {**ACCEPTANCE, "until": "soon"}, 422, "until"),
    "an acceptance that is over": (
        "PUT",
        FINDING + "/acceptance",
        {**ACCEPTANCE, "until": "2020-01-01T00:00:00Z"},
        422,
        "has passed",
    ),
    "an acceptance of nothing": ("PUT", "/findings/x/acceptance", ACCEPTANCE, 404, "no finding"),
    "an acceptance that nobody gave": ("DELETE", FINDING + "/acceptance", None, 404, "Nobody has accepted"),
    "a remedy of nothing": ("POST", "/findings/x/remedy", {"remedy": "extend"}, 404, "no finding"),
    "a remedy that it has not": ("POST", FINDING + "/remedy", {"remedy": "extend"}, 422, "remove-assignment"),
    "no remedy": ("POST", FINDING + "/remedy", {}, 422, "remedy"),
    "a revision to come": ("GET", "/revisions/100000", None, 404, "no revision 100000"),
    "a revision below none": ("GET", "/revisions/-1", None, 422, "0 at the least"),
    "a revision beyond numbers": ("GET", f"/revisions/{10**30}", None, 422, "at the most"),
    "an estate to come": ("GET", "/revisions/100000/estate", None, 404, "no revision 100000"),
    "a comparison with what is to come": (
        "GET",
        "/revisions/compare?from=0&to=100000",
        None,
        404,
        "no revision 100000",
    ),
    "a comparison of nothing": ("GET", "/revisions/compare", None, 422, "from"),
    "a restore of what is to come": ("POST", "/revisions/100000/restore", None, 404, "no revision 100000"),
    "a restore below none": ("POST", "/revisions/-1/restore", None, 422, "number"),
    "revisions of no noun": ("GET", "/revisions?noun=nonsense", None, 422, "noun"),
    "a damaged page of revisions": ("GET", "/revisions?cursor=next", None, 400, "cursor is damaged"),
    "what governs nobody": ("GET", "/devices/nobody/governing", None, 404, "nobody"),
    "an overlap of nothing": ("GET", "/overlaps", None, 422, "Name the groups"),
    "an overlap of no group": ("GET", "/overlaps?group=ofice", None, 404, "office"),
    "an overlap of too many": ("GET", "/overlaps?" + "&".join(["group=office"] * 21), None, 422, "group"),
    "an overlap on nobody": ("GET", "/overlaps?device=nobody", None, 404, "nobody"),
    "an overlap about no address": ("GET", "/overlaps?group=office&visit=http://", None, 422, ""),
    "a warning of no ruleset": ("POST", "/warnings", {"ruleset": {"key": "x"}}, 422, "kind"),
    "a warning of a rule without a selector": (
        "POST",
        "/warnings",
        {"ruleset": {"key": "x", "kind": "category", "rules": [{"action": "block"}]}},
        422,
        "names none",
    ),
    "a warning of an assignment to no group": (
        "POST",
        "/warnings",
        {"assignment": {"ruleset": "away", "to": ["ofice"]}},
        422,
        "office",
    ),
}


@pytest.mark.parametrize("what", REFUSED)
def test_it_is_refused_with_what_is_wrong_and_nothing_is_done(http, what):
    method, path, body, status, words = REFUSED[what]
    before = http.get("/revisions?limit=1").json()["items"][0]["number"]
    answer = http.request(method, path, json=body)
    assert answer.status_code == status, answer.text
    assert answer.headers["content-type"].startswith("application/problem+json")
    problem = answer.json()
    assert problem["status"] == status
    assert words in answer.text, problem
    assert len(answer.text) < 4000, "it does not echo what was too long"
    assert http.get("/revisions?limit=1").json()["items"][0]["number"] == before
    assert http.get(FINDING).json()["accepted"] is None


STRAY = {
    "an acceptance": ("PUT", FINDING + "/acceptance", ACCEPTANCE),
    "taking one back": ("DELETE", FINDING + "/acceptance", None),
    "warnings": ("POST", "/warnings", {}),
}


@pytest.mark.parametrize("what", STRAY)
@pytest.mark.parametrize("asked", ["true", "false", ""])
def test_a_preview_of_what_has_none_is_refused_whatever_it_says(http, what, asked):
    method, path, body = STRAY[what]
    answer = http.request(method, path, params={"preview": asked}, json=body)
    assert answer.status_code == 400, answer.text
    assert http.get(FINDING).json()["accepted"] is None


def test_a_preview_is_marked_and_a_change_is_not(http):
    body = {"key": "new", "kind": "category", "rules": [{"category": "games", "action": "block"}]}
    seen = http.post("/rulesets", params={"preview": "true"}, json=body)
    assert (seen.status_code, seen.headers["portero-preview"]) == (200, "true")
    assert http.get("/rulesets/new").status_code == 404
    made = http.post("/rulesets", json=body)
    assert made.status_code == 201
    assert "portero-preview" not in made.headers
    gone = http.delete("/rulesets/new", params={"preview": "true"}, headers={"If-Match": made.headers["etag"]})
    assert gone.json()["summary"] == "Would remove ruleset new"
    assert http.delete("/rulesets/new", headers={"If-Match": made.headers["etag"]}).status_code == 204


def test_a_preview_is_refused_with_an_old_version_as_the_change_would_be(http):
    body = {"key": "never", "kind": "category", "rules": [{"category": "gambling", "action": "warn"}]}
    answer = http.put("/rulesets/never", params={"preview": "true"}, json=body, headers={"If-Match": '"r0"'})
    assert answer.status_code == 412
    assert answer.json()["current"]["rules"][0]["action"] == "block"
    assert http.put("/rulesets/never", params={"preview": "true"}, json=body).status_code == 428
