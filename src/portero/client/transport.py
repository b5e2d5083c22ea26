"""Requests over HTTP: one pool of connections, timeouts, what may be sent again sent again. No model is known here.

urllib3 rather than a larger library, as every command begins with loading it.
"""

from __future__ import annotations

import json
import os
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import AbstractContextManager
from typing import Any, NamedTuple
from urllib.parse import urlencode, urlsplit

import urllib3

from portero.client.errors import NotSignedIn, Unreachable

_REPEATS = 2
_PAUSE_SECONDS = 0.2
_SAFE = ("GET", "HEAD")
Working = Callable[[], AbstractContextManager[Callable[[str, int, int], None]]]
"""Entered while an answer takes its time; gives what is told how far it is: what is looked at, how much is done, of
how much.
"""
_CONNECTIONS = 20
"""Kept open at a time; threads that ask at once have one each."""


class Answer(NamedTuple):
    """What the service answered."""

    status: int
    headers: Mapping[str, str]
    """Names in any case."""
    content: bytes

    @property
    def is_success(self) -> bool:
        """Whether what was asked for was done."""
        return 200 <= self.status < 300

    @property
    def text(self) -> str:
        """The body as UTF-8."""
        return self.content.decode()

    def json(self) -> Any:
        """The body as JSON. ValueError where it is none."""
        return json.loads(self.content)


class Transport:
    """A service at an address. Threads may share one. `token` may be set at any time, and so may the headers of a
    `session`; None sends none.
    """

    def __init__(self, url: str, token: str | None, timeout: float, working: Working | None = None) -> None:
        self.url, self.token, self.working = url.rstrip("/"), token, working
        self.session: Mapping[str, str] | None = None
        self.timeout = timeout
        proxy = _proxy_of(self.url)
        self._pool = (
            urllib3.ProxyManager(proxy, maxsize=_CONNECTIONS) if proxy else urllib3.PoolManager(maxsize=_CONNECTIONS)
        )

    def send(
        self,
        method: str,
        path: str,
        *,
        params: Mapping[str, Any] | None = None,
        json: Any = None,
        content: bytes | Iterable[bytes] | None = None,
        headers: Mapping[str, str] | None = None,
        timeout: float | None = None,
    ) -> Answer:
        """The service's answer, whatever it is. `timeout` in seconds, for each wait. Unreachable; NotSignedIn for a
        token that cannot be one.

        Sent again is only what is safe to: what only reads, and what carries an Idempotency-Key.
        """
        if not self.url.startswith(("http://", "https://")):
            raise Unreachable(f"“{self.url}” is no address of a service: write it as in http://127.0.0.1:8642")
        sent = {"Accept-Encoding": "gzip", **(self.session or {}), **(headers or {})}
        if self.working is not None:
            sent["Accept"] = "text/event-stream, */*"
        if self.token and self.session is None:
            sent["Authorization"] = f"Bearer {_checked(self.token)}"
        again = method in _SAFE or "Idempotency-Key" in sent
        body = {"json": json} if json is not None else {"body": content}
        url = self.url + path + ("?" + urlencode(list(_pairs(params))) if params else "")
        try:
            answer = self._pool.request(
                method,
                url,
                headers=sent,
                redirect=False,
                preload_content=False,
                timeout=timeout or self.timeout,
                retries=urllib3.Retry(
                    total=_REPEATS if again else 0,
                    allowed_methods=None,
                    backoff_factor=_PAUSE_SECONDS,
                    other=0,
                    # whoever asked is told at once, and decides
                    respect_retry_after_header=False,
                ),
                **body,
            )
        except (urllib3.exceptions.HTTPError, UnicodeError) as problem:
            raise self._unreachable(problem) from problem
        try:
            return self._read(answer)
        except (urllib3.exceptions.HTTPError, OSError) as problem:
            raise self._unreachable(problem) from problem
        finally:
            answer.release_conn()

    def _read(self, answer: urllib3.BaseHTTPResponse) -> Answer:
        """The whole of an answer; where it is told first how far it is, that is passed on."""
        if self.working is None or not answer.headers.get("Content-Type", "").startswith("text/event-stream"):
            return Answer(answer.status, answer.headers, answer.read(decode_content=True))
        whole: Answer | None = None
        with self.working() as note:
            # to its end: another request may come over the same connection
            for event, data in _events(answer):
                told = json.loads(data)
                if event == "answered":
                    headers = urllib3.HTTPHeaderDict(told["headers"])
                    whole = Answer(told["status"], headers, json.dumps(told["body"]).encode())
                elif event == "working":
                    note(told["what"], told["done"], told["of"])
        if whole is None:
            raise urllib3.exceptions.ProtocolError("the answer broke off")
        return whole

    def _unreachable(self, problem: BaseException) -> Unreachable:
        return Unreachable(f"{self.url} does not answer ({_why(problem)}); is the service running?")

    def close(self) -> None:
        """Close the connections."""
        self._pool.clear()


def _events(answer: urllib3.BaseHTTPResponse) -> Iterator[tuple[str, str]]:
    """Server-sent events, each by its name and data."""
    event, rest = "", b""
    for chunk in answer.stream(decode_content=True):
        *lines, rest = (rest + chunk).split(b"\n")
        for line in lines:
            name, _, value = line.decode().strip().partition(": ")
            if name == "event":
                event = value
            elif name == "data":
                yield event, value


def _checked(token: str) -> str:
    """The token, where it can stand in a header."""
    if not (token.isascii() and token.isprintable() and " " not in token):
        detail = "The token holds characters that no token has; sign in again."
        raise NotSignedIn({"status": 401, "title": "Not signed in", "detail": detail})
    return token


def _pairs(params: Mapping[str, Any]) -> Iterator[tuple[str, str]]:
    """Parameters as a query has them: several of a name where a list is given."""
    for name, value in params.items():
        for part in value if isinstance(value, list | tuple) else (value,):
            yield name, str(part).lower() if isinstance(part, bool) else str(part)


def _proxy_of(url: str) -> str | None:
    """The proxy that the environment names for an address."""
    if not any(name.lower().endswith("_proxy") for name in os.environ):
        return None
    from urllib.request import getproxies, proxy_bypass  # seldom needed, and takes its time to load

    parts = urlsplit(url)
    return None if proxy_bypass(parts.netloc) else getproxies().get(parts.scheme)


def _why(problem: BaseException | None) -> str:
    """The plainest word for what went wrong: the system's own, where it has one."""
    told = str(problem)
    while problem is not None:
        if isinstance(problem, OSError) and problem.strerror:
            return problem.strerror
        reason = getattr(problem, "reason", None)
        problem = reason if isinstance(reason, BaseException) else problem.__cause__ or problem.__context__
    return told
