"""Chromium and Firefox as they are driven through lists and navigations, inside the namespaces."""

from __future__ import annotations

import asyncio
import contextlib
import fcntl
import json
import os
import shutil
import socket
import struct
import subprocess
import tempfile
import time
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any, Protocol

import pages
from playwright.async_api import Error as ChromiumError
from playwright.async_api import Page as ChromiumPage
from playwright.async_api import async_playwright

from portero.endpoint.browsers.driven_firefox import FIREFOX_PREFERENCES, Marionette, firefox_command, write_preferences

CHROMIUM, FIREFOX = "/usr/bin/chromium", "/usr/bin/firefox-esr"
_SIOCSIFFLAGS, _UP_AND_RUNNING = 0x8914, 0x41
_AT_ONCE = 4
_PATIENCE = 20.0
_NOWHERE = "about:blank"
HOPS = ("hop/0", "hop/3")
"""Pages that redirect to the stopped host, so many times by way of another one."""
BY_CLICK = ("link", "tab", "form", "script")
BY_THEMSELVES = ("refresh", "frame")
PARTS = ("image", "fetch", "style", "scripted")
ALL_KINDS = (*HOPS, *BY_CLICK, *BY_THEMSELVES, *PARTS)


def enter_namespaces() -> None:
    """Loopback up; the browsers' policy folders empty, and nobody else's."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as control:
        fcntl.ioctl(control, _SIOCSIFFLAGS, struct.pack("16sh", b"lo", _UP_AND_RUNNING))
    for folder in ("/etc/chromium/policies", "/etc/firefox"):
        Path(folder).mkdir(parents=True, exist_ok=True)
        subprocess.run(["mount", "-t", "tmpfs", "tmpfs", folder], check=True)
    Path("/etc/chromium/policies/managed").mkdir()
    Path("/etc/firefox/policies").mkdir()


class Browser(Protocol):
    """A real browser, started anew with each pair of lists."""

    web: pages.Web

    @staticmethod
    def named(name: str, web: pages.Web) -> contextlib.AbstractContextManager[Browser]:
        """The browser of a family."""
        return contextlib.nullcontext({"chromium": Chromium, "firefox": Firefox}[name](web))

    def stopped(self, block: Sequence[str], allow: Sequence[str], urls: Sequence[str]) -> list[bool]:
        """Which of the URLs are stopped under these lists."""

    def kinds(self) -> dict[str, bool]:
        """Which kinds of navigation to a blocked host are stopped: those for which the web was never asked."""


# --- Chromium ---

_ARGUMENTS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--ignore-certificate-errors",
]


class Chromium:
    """Debian's Chromium, driven by its DevTools."""

    def __init__(self, web: pages.Web) -> None:
        self.web = web
        self.web.without_page = True

    @staticmethod
    def _told(block: Sequence[str], allow: Sequence[str]) -> None:
        lists = json.dumps({"URLBlocklist": block, "URLAllowlist": allow})
        Path("/etc/chromium/policies/managed/portero.json").write_text(lists)

    @contextlib.asynccontextmanager
    async def _started(self) -> Any:
        arguments = [*_ARGUMENTS, "--host-resolver-rules=MAP * 127.0.0.1"]
        async with async_playwright() as playwright:
            browser = await playwright.chromium.launch(executable_path=CHROMIUM, args=arguments)
            try:
                yield browser
            finally:
                await browser.close()

    def stopped(self, block: Sequence[str], allow: Sequence[str], urls: Sequence[str]) -> list[bool]:
        self._told(block, allow)
        return asyncio.run(self._navigate(urls))

    async def _navigate(self, urls: Sequence[str]) -> list[bool]:
        found: list[bool] = [False] * len(urls)
        async with self._started() as browser:

            async def go(first: int) -> None:
                context = await browser.new_context()
                session = await context.new_cdp_session(await context.new_page())
                for at in range(first, len(urls), _AT_ONCE):
                    if "#" in urls[at]:
                        # or it is taken for a step within the page that is there
                        await session.send("Page.navigate", {"url": _NOWHERE})
                    answer = await session.send("Page.navigate", {"url": urls[at]})
                    found[at] = answer.get("errorText") == "net::ERR_BLOCKED_BY_ADMINISTRATOR"
                await context.close()

            await asyncio.gather(*map(go, range(_AT_ONCE)))
        return found

    def kinds(self) -> dict[str, bool]:
        self._told(["stopped.pages.test"], [])
        return asyncio.run(self._kinds())

    async def _kinds(self) -> dict[str, bool]:
        async with self._started() as browser:
            opened = []
            for kind in ALL_KINDS:
                context = await browser.new_context()
                opened.append(await context.new_page())
                await self._try(opened[-1], kind)
            history = bool(await opened[-1].evaluate(_HISTORY))
            await asyncio.to_thread(_wait_for_parts, self.web)
        return _kinds_stopped(self.web) | {"history": not history}

    @staticmethod
    async def _try(page: ChromiumPage, kind: str) -> None:
        hops = f"/{kind.rpartition('/')[2]}" if kind in HOPS else ""
        with contextlib.suppress(ChromiumError):
            # a redirect that is stopped is an error
            await page.goto(f"{pages.OPEN}/{kind}{hops}")
        if kind in BY_CLICK:
            await page.click("#go", no_wait_after=True)


_HISTORY = "() => { history.pushState({}, '', '/other-path'); return location.pathname === '/other-path' }"
_SETTLING = 1.5
"""How long a navigation that should be stopped may still turn out not to be, in seconds."""


def _wait_for_parts(web: pages.Web) -> None:
    until = time.monotonic() + _PATIENCE
    while time.monotonic() < until and not all(f"{pages.STOPPED}/from/{part}" in web.asked for part in PARTS):
        time.sleep(0.05)
    time.sleep(_SETTLING)


def _kinds_stopped(web: pages.Web) -> dict[str, bool]:
    return {kind: f"{pages.STOPPED}/from/{kind}" not in web.asked for kind in ALL_KINDS}


# --- Firefox ---

_PORT = 29_111
_BETWEEN = 0.3
"""How long a page is left before the next one, so that what it starts by itself begins, in seconds."""
_PREFERENCES = FIREFOX_PREFERENCES | {
    "marionette.port": _PORT,
    "network.dns.forceResolve": "127.0.0.1",
    "fission.autostart": False,
    "dom.disable_open_during_load": False,
}


class Firefox:
    """Debian's Firefox ESR, driven by Marionette. It reads its lists as it starts."""

    def __init__(self, web: pages.Web) -> None:
        self.web = web

    @contextlib.contextmanager
    def _started(self, block: Sequence[str], allow: Sequence[str]) -> Iterator[Marionette]:
        lists = {"policies": {"WebsiteFilter": {"Block": block, "Exceptions": allow}}}
        Path("/etc/firefox/policies/policies.json").write_text(json.dumps(lists))
        profile = tempfile.mkdtemp(prefix="portero-firefox-")
        write_preferences(Path(profile), _PREFERENCES)
        command = firefox_command(Path(FIREFOX), Path(profile))
        process = subprocess.Popen(
            command, env={**os.environ, "HOME": profile}, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        try:
            driver = Marionette(_PORT)
            yield driver
            with contextlib.suppress(OSError):
                driver.do("Marionette:Quit", flags=["eForceQuit"])
        finally:
            with contextlib.suppress(subprocess.TimeoutExpired):
                process.wait(10)
            process.kill()
            process.wait()
            shutil.rmtree(profile, ignore_errors=True)

    def stopped(self, block: Sequence[str], allow: Sequence[str], urls: Sequence[str]) -> list[bool]:
        with self._started(block, allow) as driver:
            return [self._is_stopped(driver, url) for url in urls]

    @staticmethod
    def _is_stopped(driver: Marionette, url: str) -> bool:
        if "#" in url:
            # or it is taken for a step within the page that is there
            driver.do("WebDriver:Navigate", url=_NOWHERE)
        answer = driver.do("WebDriver:Navigate", url=url)
        return "e=blockedByPolicy" in (answer or {}).get("message", "")

    def kinds(self) -> dict[str, bool]:
        with self._started(["*://stopped.pages.test/*"], []) as driver:
            for kind in ALL_KINDS:
                hops = f"/{kind.rpartition('/')[2]}" if kind in HOPS else ""
                driver.do("WebDriver:Navigate", url=f"{pages.OPEN}/{kind}{hops}")
                if kind in BY_CLICK:
                    driver.do("WebDriver:ExecuteScript", script="document.getElementById('go').click()", args=[])
                time.sleep(_BETWEEN)
            history = driver.do("WebDriver:ExecuteScript", script=f"return ({_HISTORY})()", args=[])["value"]
            _wait_for_parts(self.web)
        return _kinds_stopped(self.web) | {"history": not history}
