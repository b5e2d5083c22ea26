"""Pages from which a probe sets out, as visits do that begin at a search page: by a link, or by one that redirects.

Only a filter that is of no use but for trying has them, and nothing is ruled on them: they are of this machine itself.
"""

from __future__ import annotations

from html import escape

from portero.core.nouns.probe_set import ReachedBy
from portero.core.nouns.urls import Visit
from portero.endpoint.filter import OwnPage

_HOST = "start.portero.test"
SETS_OUT_AT = f"http://{_HOST}/"
"""Where a probe sets out that is not typed in; for asking whether a browser opens it."""
_LINK, _BY_REDIRECT, _REDIRECT = (f"/{name}" for name in ("link", "by-redirect", "redirect"))
_PAGE = '<!doctype html><title>Where a probe sets out</title><p><a href="{to}">What was looked for</a>'
DOES_NOT_OPEN = "The page from which to set out does not open in this browser: its own list stops it."


class StartPages:
    """The pages from which to reach one URL at a time."""

    def __init__(self) -> None:
        self._to = ""

    def leading_to(self, url: str, by: ReachedBy) -> str:
        """The URL of a page whose only link leads there, from now on."""
        self._to = url
        return f"http://{_HOST}{_BY_REDIRECT if by == 'redirect' else _LINK}"

    def __call__(self, visit: Visit) -> OwnPage | None:
        """What comes back for one of these pages; None for what is none of them."""
        if visit.host != _HOST:
            return None
        if visit.request.target == _REDIRECT:
            return OwnPage(302, b"", {"Location": self._to})
        to = _REDIRECT if visit.request.target == _BY_REDIRECT else self._to
        return OwnPage(200, _PAGE.format(to=escape(to)).encode())
