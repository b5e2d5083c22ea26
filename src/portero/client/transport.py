"""Requests over HTTP: one pool of connections, timeouts, what may be sent again sent again. No model is known here.

urllib3 rather than a larger library, as every command begins with loading it.
"""

from __future__ import annotations

import json
import os
from collections.abc import Iterable, Iterator, Mapping
from typing import Any, NamedTuple
from urllib.parse import urlencode, urlsplit

import urllib3

from portero.client.errors import Unreachable

_REPEATS = 2
_PAUSE_SECONDS = 0.2
_SAFE = ("GET", "HEAD")


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
    """A service at an address. Threads may share one. `token` may be set at any time; None sends none."""

    def __init__(self, url: str, token: str | None, timeout: float) -> None:
        self.url, self.token = url.rstrip("/"), token
        self.timeout = timeout
        proxy = _proxy_of(self.url)
        self._pool = urllib3.ProxyManager(proxy) if proxy else urllib3.PoolManager()

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
        """The service's answer, whatever it is. `timeout` in seconds, for each wait. Unreachable.

        Sent again is only what is safe to: what only reads, and what carries an Idempotency-Key.
        """
        sent = {"Accept-Encoding": "gzip", **(headers or {})}
        if self.token:
            sent["Authorization"] = f"Bearer {self.token}"
        again = method in _SAFE or "Idempotency-Key" in sent
        body = {"json": json} if json is not None else {"body": content}
        url = self.url + path + ("?" + urlencode(list(_pairs(params))) if params else "")
        try:
            answer = self._pool.request(
                method,
                url,
                headers=sent,
                redirect=False,
                timeout=timeout or self.timeout,
                retries=urllib3.Retry(
                    total=_REPEATS if again else 0, allowed_methods=None, backoff_factor=_PAUSE_SECONDS, other=0
                ),
                **body,
            )
        except (urllib3.exceptions.HTTPError, UnicodeError) as problem:
            raise Unreachable(f"{self.url} does not answer ({_why(problem)})") from problem
        return Answer(answer.status, answer.headers, answer.data)

    def close(self) -> None:
        """Close the connections."""
        self._pool.clear()


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
        problem = getattr(problem, "reason", None) or problem.__cause__ or problem.__context__
    return told
