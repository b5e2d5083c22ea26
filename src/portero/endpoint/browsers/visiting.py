"""A visit with a real browser of this machine, under its own managed policy and through its own filter."""

from __future__ import annotations

import os
import pwd
import shlex
import shutil
import tempfile
import time
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager, suppress
from pathlib import Path
from typing import Literal

import msgspec

from portero.core.nouns.coverage import BrowserFamily
from portero.core.nouns.errand import MOST_HOSTS, OpenedPage, PageHost, PageUse
from portero.core.nouns.urls import BadUrl, parse_whole
from portero.endpoint.browsers.driven_chromium import DrivenChromium
from portero.endpoint.browsers.driven_firefox import DrivenFirefox
from portero.endpoint.browsers.driving import Arrived, AskedFor, BrowserFailed, Driven, Launch
from portero.endpoint.browsers.installed import Installed, installed_browsers

Outcome = Literal["opened", "stopped", "warned", "unanswered"]
_UNPRIVILEGED = "nobody"
_DRIVEN: dict[BrowserFamily, Callable[[Path, Launch], Driven]] = {"chromium": DrivenChromium, "firefox": DrivenFirefox}
_BY_LIST = ("ERR_BLOCKED_BY_ADMINISTRATOR", "e=blockedByPolicy")
_BY_FILTER = ("ERR_TUNNEL_CONNECTION_FAILED", "e=proxyConnectFailure", "e=proxyResolveFailure")
_FOLDERS = ("chromium/policies", "firefox/policies")
"""Where browsers look for managed policy, below /etc."""


class RealVisit(msgspec.Struct, frozen=True):
    """What a real browser made of one URL. `layer` is what stopped it or warned; None where nothing did."""

    url: str
    browser: str
    version: str | None
    outcome: Outcome
    layer: Literal["browser", "filter"] | None
    at_url: str | None
    title: str | None
    reference: str | None
    error: str | None
    seconds: float


def visit_really(url: str, family: BrowserFamily, root: Path | None, proxy: int | None) -> RealVisit:
    """Open a URL in an installed browser without a window, as a user without rights, with a fresh profile.

    `root` is where the machine's browser policies are (None: /etc), `proxy` the loopback port of its filter.
    BrowserFailed where there is no such browser, or it does not come up.
    """
    installed, began = the_browser(family), time.monotonic()
    with driven(installed, root, proxy) as browser:
        arrived = browser.go(url)
    return _visit(url, installed, arrived, round(time.monotonic() - began, 2))


def look_really(url: str, family: BrowserFamily | None, proxy: int | None) -> OpenedPage:
    """Open a URL as above, let the page settle, and say which hosts it needs. Where this is root, no site list is in
    its way. BrowserFailed.
    """
    installed = the_browser(family)
    with _no_policies() as root, driven(installed, root, proxy) as browser:
        arrived, asked = browser.look(url)
    return OpenedPage(
        browser=installed.name,
        version=installed.version,
        at_url=arrived.url if arrived.error is None and arrived.url else None,
        title=arrived.title[:300] or None,
        outcome=outcome_of(arrived)[0],
        hosts=tuple(_hosts(asked)[:MOST_HOSTS]),
    )


def _hosts(asked: list[AskedFor]) -> list[PageHost]:
    """The hosts that were asked, those of the page itself first, then those asked most often."""
    uses: dict[str, Counter[PageUse]] = {}
    for one in asked:
        with suppress(BadUrl):
            uses.setdefault(parse_whole(one.url).host, Counter())[one.use] += 1
    order = list(PageUse)
    made = [
        PageHost(host=host, uses=tuple(sorted(found, key=order.index)), requests=found.total())
        for host, found in uses.items()
    ]
    return sorted(made, key=lambda one: (order.index(one.uses[0]), -one.requests))


@contextmanager
def _no_policies() -> Iterator[Path | None]:
    """A folder without policies, to be shown to a browser in place of /etc; None where only what is there can be."""
    if os.geteuid() != 0:
        yield None
        return
    with tempfile.TemporaryDirectory(prefix="portero-look-") as folder:
        root = Path(folder)
        root.chmod(0o755)
        yield root


def the_browser(family: BrowserFamily | None) -> Installed:
    """The installed browser of a family, or of any. BrowserFailed where there is none."""
    found = next((browser for browser in installed_browsers() if family in (None, browser.family)), None)
    if found is None:
        raise BrowserFailed(f"there is no {family or 'browser that can be driven'} on this machine")
    return found


@contextmanager
def driven(installed: Installed, root: Path | None, proxy: int | None, *, is_private: bool = False) -> Iterator[Driven]:
    """The browser, started as above, with an ordinary window or a private one, until the block ends. BrowserFailed."""
    with _profile() as profile:
        launch = Launch(_before(root), profile, proxy, is_private)
        with closing(_DRIVEN[installed.family](installed.program, launch)) as browser:
            yield browser


def _visit(url: str, browser: Installed, arrived: Arrived, seconds: float) -> RealVisit:
    outcome, layer, reference = outcome_of(arrived)
    return RealVisit(
        url=url,
        browser=browser.name,
        version=browser.version,
        outcome=outcome,
        layer=layer,
        at_url=arrived.url or None,
        title=arrived.title or None,
        reference=reference,
        error=arrived.error,
        seconds=seconds,
    )


def outcome_of(arrived: Arrived) -> tuple[Outcome, Literal["browser", "filter"] | None, str | None]:
    """What became of a navigation, which layer did it, and the reference of the filter's notice."""
    if arrived.error is not None:
        if any(sign in arrived.error for sign in _BY_LIST):
            return "stopped", "browser", None
        return ("stopped", "filter", None) if any(sign in arrived.error for sign in _BY_FILTER) else _UNANSWERED
    if arrived.notice is None:
        return "opened", None, None
    verdict, _, reference = arrived.notice.partition(" ")
    return ("warned" if verdict == "warn" else "stopped"), "filter", reference or None


_UNANSWERED: tuple[Outcome, None, None] = ("unanswered", None, None)


@contextmanager
def _profile() -> Iterator[Path]:
    """A fresh folder for the browser's profile; its owner is who the browser runs as."""
    folder = Path(tempfile.mkdtemp(prefix="portero-visit-"))
    try:
        if os.geteuid() == 0:
            nobody = pwd.getpwnam(_UNPRIVILEGED)
            os.chown(folder, nobody.pw_uid, nobody.pw_gid)
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def _before(root: Path | None) -> tuple[str, ...]:
    """What has to stand before the browser's command: a place where it sees the policies, and no rights."""
    as_root, mounts = os.geteuid() == 0, ""
    if root is not None and root.resolve() != Path("/etc"):
        if not as_root:
            raise BrowserFailed(
                f"browsers look for their policy in /etc, and only root can show them {root} in its place;"
                " run this as root"
            )
        mounts = "; ".join(_mounted(root, folder) for folder in _FOLDERS) + "; "
    nobody = ("setpriv", f"--reuid={_UNPRIVILEGED}", "--regid=nogroup", "--clear-groups") if as_root else ()
    if not mounts:
        return nobody
    return ("unshare", "--mount", "/bin/sh", "-ec", f'{mounts}exec "$@"', "sh", *nobody)


def _mounted(root: Path, folder: str) -> str:
    """In a mount namespace of its own: the machine's folder where the browser looks."""
    own, there = shlex.quote(str(root / folder)), shlex.quote(f"/etc/{folder}")
    return f"mkdir -p {own} {there}; mount --bind {own} {there}"
