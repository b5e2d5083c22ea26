"""The client library: what it repeats, what it raises, how it pages; against a server that misbehaves on purpose."""

from __future__ import annotations

import json
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from threading import Thread

import pytest

from conftest import group, ruleset
from portero.client import (
    AlreadyExists,
    AmbiguousDevice,
    BadRequest,
    ChangedMeanwhile,
    Invalid,
    NotAllowed,
    NotFound,
    NotSignedIn,
    Portero,
    Problem,
    StillInUse,
    Unreachable,
)
from portero.core.nouns.enrolment import NewEnrolmentCode


class Script(BaseHTTPRequestHandler):
    """Answers with what a test has prepared, in turn; an entry of None hangs up."""

    protocol_version = "HTTP/1.1"
    answers: list[tuple[int, object] | None] = []
    seen: list[tuple[str, str, dict[str, str], bytes]] = []
    more: dict[str, str] = {}

    def _answer(self) -> None:
        length = int(self.headers.get("Content-Length") or 0)
        body = self.rfile.read(length)
        Script.seen.append((self.command, self.path, {k.lower(): v for k, v in self.headers.items()}, body))
        answer = Script.answers.pop(0)
        if answer is None:
            self.close_connection = True
            return
        status, value = answer
        data = value if isinstance(value, bytes) else json.dumps(value).encode()
        self.send_response(status)
        self.send_header("Content-Length", str(len(data)))
        for name, text in Script.more.items():
            self.send_header(name, text)
        self.end_headers()
        self.wfile.write(data)

    do_GET = do_POST = do_PUT = do_DELETE = _answer  # noqa: N815

    def log_message(self, *_: object) -> None:
        pass


@pytest.fixture
def scripted() -> Iterator[Portero]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), Script)
    Thread(target=server.serve_forever, daemon=True).start()
    Script.answers, Script.seen = [], []
    with Portero(f"http://127.0.0.1:{server.server_port}", token="pt_test", timeout=5) as portero:
        yield portero
    server.shutdown()


GROUP = {"key": "g", "name": "g", "built_in": False, "precedence": 1, "devices": 0, "sentence": "", "version": 3}


def test_reading_is_repeated_where_the_connection_breaks(scripted):
    Script.answers = [None, None, (200, GROUP)]
    assert scripted.groups.get("g").version == 3
    assert [method for method, *_ in Script.seen] == ["GET"] * 3


def test_a_creation_is_repeated_under_the_same_key_only(scripted):
    Script.answers = [None, (201, GROUP)]
    scripted.groups.create(group("g"))
    keys = {headers["idempotency-key"] for _, _, headers, _ in Script.seen}
    assert (len(Script.seen), len(keys)) == (2, 1)
    Script.answers, Script.seen = [(201, GROUP)], []
    scripted.groups.create(group("g"))
    assert Script.seen[0][2]["idempotency-key"] not in keys


def test_what_is_not_safe_to_repeat_is_not(scripted):
    for call in (
        lambda: scripted.groups.put(group("g"), version=1),
        lambda: scripted.groups.remove("g"),
        lambda: scripted.enrolment.create_code(NewEnrolmentCode()),
        lambda: scripted.devices.retire("d"),
    ):
        Script.answers, Script.seen = [None, (200, GROUP)], []
        with pytest.raises(Unreachable):
            call()
        assert len(Script.seen) == 1


@pytest.mark.parametrize(
    ("kind", "status", "expected"),
    [
        ("bad-request", 400, BadRequest),
        ("not-signed-in", 401, NotSignedIn),
        ("not-allowed", 403, NotAllowed),
        ("not-found", 404, NotFound),
        ("already-exists", 409, AlreadyExists),
        ("ambiguous-device", 409, AmbiguousDevice),
        ("in-use", 409, StillInUse),
        ("changed-meanwhile", 412, ChangedMeanwhile),
        ("invalid", 422, Invalid),
        ("something-new", 418, Problem),
    ],
)
def test_each_type_of_problem_is_an_exception_of_its_own(scripted, kind, status, expected):
    body = {"type": f"urn:portero:problem:{kind}", "title": "T", "status": status, "detail": "Do this.", "version": 7}
    Script.answers = [(status, {**body, "errors": [{"pointer": "/a", "detail": "no"}]})]
    with pytest.raises(Problem) as told:
        scripted.groups.get("g")
    assert type(told.value) is expected
    assert (str(told.value), told.value.status, told.value.extra["version"]) == ("Do this.", status, 7)
    assert told.value.errors == [{"pointer": "/a", "detail": "no"}]


def test_an_answer_that_is_no_problem_document_is_told_all_the_same(scripted):
    Script.answers = [(502, b"<html>bad gateway</html>")]
    with pytest.raises(Problem, match="The service answered 502"):
        scripted.groups.get("g")


def test_lists_page_by_themselves_and_stop_when_they_have_enough(scripted):
    def a_page(start: int, following: str | None) -> tuple[int, object]:
        items = [{**GROUP, "key": f"g{n}"} for n in range(start, start + 3)]
        return 200, {"items": items, "next": following, "total": 9}

    Script.answers = [a_page(0, "a"), a_page(3, "b"), a_page(6, None)]
    assert [group.key for group in scripted.groups.list()] == [f"g{n}" for n in range(9)]
    assert ["cursor=" in path for _, path, _, _ in Script.seen] == [False, True, True]
    Script.answers, Script.seen = [a_page(0, "a")], []
    first = scripted.groups.list()
    assert next(first).key == "g0"
    assert len(Script.seen) == 1, "the next page is asked for when it is needed"


def test_a_token_goes_with_every_request_and_keys_cannot_reach_another_path(scripted):
    Script.answers = [(200, GROUP), (200, GROUP)]
    scripted.groups.get("../../tokens?x=1")
    assert Script.seen[0][1] == "/api/v1/groups/..%2F..%2Ftokens%3Fx%3D1"
    assert Script.seen[0][2]["authorization"] == "Bearer pt_test"
    for empty in ("", ".", ".."):
        with pytest.raises(NotFound):
            scripted.groups.get(empty)


def test_a_version_that_was_seen_goes_along_and_none_means_whatever_there_is(scripted):
    summary = {"key": "r", "name": "r", "kind": "category", "rule_count": 0, "rules": [], "sentence": "", "version": 4}
    Script.answers = [(200, summary), (200, summary)]
    scripted.rulesets.put(ruleset("r", news="warn"), version=4)
    scripted.rulesets.put(ruleset("r", news="warn"), version=None)
    assert [headers["if-match"] for _, _, headers, _ in Script.seen] == ['"r4"', "*"]


def test_nobody_there_is_told_with_the_address():
    with Portero("http://127.0.0.1:9") as portero, pytest.raises(Unreachable, match=r"http://127\.0\.0\.1:9"):
        portero.categories.taxonomy()


@pytest.mark.parametrize("url", ["127.0.0.1:8642", "http://", "ftp://127.0.0.1"])
def test_what_is_no_address_is_told_as_such(url):
    with Portero(url, token="pt_x") as portero, pytest.raises(Unreachable, match="no address of a service"):
        list(portero.groups.list())


@pytest.mark.parametrize("token", ["pt_a\nX: y", "pt_日", "pt_ü", "two words"])
def test_what_can_be_no_token_is_never_sent(scripted, token):
    scripted._connection.transport.token = token
    with pytest.raises(NotSignedIn, match="sign in again"):
        list(scripted.groups.list())
    assert Script.seen == []


def test_a_service_that_asks_for_time_is_not_waited_for_in_silence(scripted):
    Script.answers = [(503, {"status": 503, "title": "Busy", "detail": "Busy."})]
    Script.more = {"Retry-After": "300"}
    try:
        with pytest.raises(Problem, match="Busy"):
            list(scripted.groups.list())
    finally:
        Script.more = {}
    assert len(Script.seen) == 1
