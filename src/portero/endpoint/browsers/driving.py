"""Real browsers driven over their own remote control: what all of them have in common.

Both are started without a window, with a fresh profile, and answer one navigation after another.
"""

from __future__ import annotations

import os
import subprocess
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any, NamedTuple, Protocol

from portero.core.nouns.errand import PageUse

SECONDS = 30.0
"""How long a browser may take to come up, and for one page."""
LOOK = """(() => { const meta = document.querySelector('meta[name=portero-notice]');
const complete = document.readyState === 'complete'
const error = document.documentURI.startsWith('about:neterror') ? document.documentURI : null
return {url: document.URL, title: document.title, notice: meta ? meta.content : null, complete, error} })()"""
CLICK = "(() => { document.links[0].click(); return document.URL })()"

"""What a page says of itself, and what follows its first link; for the browser to run."""
QUIET = 1.5
"""A page has settled once it has asked for nothing for so many seconds."""


class BrowserFailed(RuntimeError):
    """The browser does not come up, or has ended."""


class Arrived(NamedTuple):
    """What became of one navigation: an error of the browser's own, or the page at which it ended."""

    error: str | None
    url: str = ""
    title: str = ""
    notice: str | None = None
    """What the filter's notice says of itself: its verdict and reference."""


class AskedFor(NamedTuple):
    """Something that a browser asked for on behalf of a page."""

    url: str
    use: PageUse


class Launch(NamedTuple):
    """How a browser is started: what stands before its command, and where it may keep its profile."""

    before: tuple[str, ...]
    profile: Path
    proxy: int | None
    """The loopback port of the filter; None goes straight to hosts."""
    is_private: bool = False
    """Whether its windows are private ones."""


class Driven(Protocol):
    """A real browser that does as it is told."""

    def go(self, url: str) -> Arrived:
        """Open a URL. BrowserFailed."""

    def follow(self) -> Arrived:
        """Follow the first link of the page that is open. BrowserFailed."""

    def look(self, url: str) -> tuple[Arrived, list[AskedFor]]:
        """Open a URL, let the page settle, and say what was asked for meanwhile. BrowserFailed."""

    def picture(self) -> str | None:
        """What the window shows, a PNG as base64; None where it cannot be had. BrowserFailed."""

    def close(self) -> None:
        """End it."""


def followed(from_url: str, look: Callable[[], dict[str, Any] | None]) -> Arrived:
    """Where a click led, once the page from which it went is gone: what is there is looked at again and again."""
    until = time.monotonic() + SECONDS
    found: dict[str, Any] = {}
    while time.monotonic() < until:
        time.sleep(0.05)
        told = look()
        if told is None or told["url"] in (from_url, "about:blank"):
            continue
        found = told
        if found["complete"] or found["error"]:
            break
    if not found:
        return Arrived("nothing came of the link")
    return Arrived(found["error"], found["url"], found["title"], found["notice"])


def environment(profile: Path) -> dict[str, str]:
    """What a browser is told of this machine: nothing but where it may keep its things."""
    kept = ("PATH", "LANG", "TZ")
    return {name: os.environ[name] for name in kept if name in os.environ} | {"HOME": str(profile)}


def end(process: subprocess.Popen[bytes], patience: float = 10) -> None:
    """Wait until a browser has ended, or after some seconds end it."""
    with suppress(subprocess.TimeoutExpired):
        process.wait(patience)
        return
    process.kill()
    process.wait()


@contextmanager
def ended_where_it_fails(end: Callable[[], None]) -> Iterator[None]:
    """Leaves no browser behind that did not come up."""
    try:
        yield
    except BaseException:
        end()
        raise


_USES = {
    "Stylesheet": PageUse.STYLE,
    "Script": PageUse.SCRIPT,
    "Font": PageUse.FONT,
    "Image": PageUse.IMAGE,
    "link": PageUse.STYLE,
    "css": PageUse.STYLE,
    "script": PageUse.SCRIPT,
    "img": PageUse.IMAGE,
    "image": PageUse.IMAGE,
    "iframe": PageUse.FRAME,
    "frame": PageUse.FRAME,
}
"""Uses by what DevTools calls the type of a request, and what the Resource Timing standard calls its initiator."""


def use_of(kind: str, is_main: bool) -> PageUse:
    """What something that a browser asked for is to its page, by what its type is called."""
    if kind == "Document":
        return PageUse.PAGE if is_main else PageUse.FRAME
    return _USES.get(kind, PageUse.OTHER)
