"""Chromium, driven over the DevTools protocol on a pipe."""

from __future__ import annotations

import json
import os
import select
import subprocess
import time
from contextlib import suppress
from pathlib import Path
from typing import Any

from portero.endpoint.browsers.driving import (
    CLICK,
    LOOK,
    QUIET,
    SECONDS,
    Arrived,
    AskedFor,
    BrowserFailed,
    Launch,
    end,
    ended_where_it_fails,
    environment,
    followed,
    use_of,
)

_ERROR_PAGE = "chrome-error:"


class _Refused(BrowserFailed):
    """The browser does not do that one thing, and goes on."""


class DrivenChromium:
    """Chromium over the pipe of `--remote-debugging-pipe`: JSON documents, each ended by a zero byte."""

    def __init__(self, program: Path, launch: Launch) -> None:
        arguments = [
            *launch.before,
            str(program),
            "--headless",
            "--remote-debugging-pipe",
            f"--user-data-dir={launch.profile}",
            *("--no-first-run", "--disable-gpu", "--disable-quic", "--disable-background-networking"),
            *("--disable-component-update", "--disable-sync", "--ignore-certificate-errors"),
        ]
        if launch.proxy:
            arguments += [f"--proxy-server=http://127.0.0.1:{launch.proxy}", "--proxy-bypass-list=<-loopback>"]
        if launch.is_private:
            arguments.append("--incognito")
        asked, self._ask = os.pipe()
        self._answers, answered = os.pipe()
        self._number, self._ahead = 0, b""
        self._requests: list[tuple[str, str, bool]] = []
        """What was asked for: the URL, its type, and whether the main page did."""
        self._within: list[str] = []
        """Pages within the page that wait to be listened to."""
        self._main = ""
        self._failure: str | None = None
        """Why a page was not loaded, the first of them."""
        # the browser looks for the pipe at the descriptors 3 and 4: a shell puts it there (by path, as the plain one
        # knows no descriptors of two digits)
        put = f'exec 3</proc/self/fd/{asked} 4>/proc/self/fd/{answered}; exec "$@"'
        self._process = subprocess.Popen(
            ["/bin/sh", "-c", put, "sh", *arguments],
            pass_fds=(asked, answered),
            env=environment(launch.profile),
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        os.close(asked)
        os.close(answered)
        with ended_where_it_fails(self.close):
            target = self._do("Target.createTarget", url="about:blank")["targetId"]
            self._session = self._do("Target.attachToTarget", targetId=target, flatten=True)["sessionId"]
            self._within.clear()

    def _do(self, method: str, session: str | None = None, **parameters: object) -> dict[str, Any]:
        self._number += 1
        message = {"id": self._number, "method": method, "params": parameters}
        if session:
            message["sessionId"] = session
        try:
            os.write(self._ask, json.dumps(message).encode() + b"\0")
        except OSError as problem:
            raise BrowserFailed("Chromium does not come up") from problem
        while (answer := self._next()).get("id") != self._number:
            self._hear(answer)
        if "error" in answer:
            raise _Refused(f"Chromium: {answer['error'].get('message')}")
        found: dict[str, Any] = answer["result"]
        return found

    def _next(self) -> dict[str, Any]:
        while b"\0" not in self._ahead:
            if not select.select([self._answers], [], [], 2 * SECONDS)[0]:
                raise BrowserFailed("Chromium does not answer")
            data = os.read(self._answers, 65_536)
            if not data:
                raise BrowserFailed("Chromium does not come up, or has ended")
            self._ahead += data
        document, _, self._ahead = self._ahead.partition(b"\0")
        message: dict[str, Any] = json.loads(document)
        return message

    def go(self, url: str) -> Arrived:
        """Open a URL, and say at which page that ended."""
        if not self._main:
            self._main = self._do("Page.getFrameTree", self._session)["frameTree"]["frame"]["id"]
        answer = self._do("Page.navigate", self._session, url=url)
        if error := answer.get("errorText"):
            return Arrived(error)
        until = time.monotonic() + SECONDS
        found: dict[str, Any] = {}
        while not found.get("complete") and time.monotonic() < until:
            time.sleep(0.02 if not found else 0.05)
            found = self._evaluate(LOOK) or found
        return Arrived(None, found.get("url", url), found.get("title", ""), found.get("notice"))

    def follow(self) -> Arrived:
        """Follow the first link of the page that is open."""
        self._do("Network.enable", self._session)
        self._failure = None
        arrived = followed(self._evaluate(CLICK) or "", lambda: self._evaluate(LOOK))
        self._do("Network.disable", self._session)
        # the page that it shows instead does not always say why
        return arrived._replace(error=self._failure or "no page") if arrived.url.startswith(_ERROR_PAGE) else arrived

    def look(self, url: str) -> tuple[Arrived, list[AskedFor]]:
        """Open a URL, let the page settle, and say what was asked for meanwhile."""
        self._listen(self._session)
        self._requests.clear()
        arrived, until = self.go(url), time.monotonic() + SECONDS
        quiet_since = time.monotonic()
        while time.monotonic() < min(until, quiet_since + QUIET):
            had = len(self._requests)
            time.sleep(0.1)
            self._evaluate("0")
            if len(self._requests) > had:
                quiet_since = time.monotonic()
        return arrived, [AskedFor(asked, use_of(kind, is_main)) for asked, kind, is_main in self._requests]

    def _listen(self, session: str) -> None:
        """Hear of what a page asks for, and of the pages within it, which may be processes of their own."""
        self._do("Network.enable", session)
        self._do("Target.setAutoAttach", session, autoAttach=True, waitForDebuggerOnStart=True, flatten=True)
        self._do("Runtime.runIfWaitingForDebugger", session)

    def _hear(self, event: dict[str, Any]) -> None:
        told = event.get("params", {})
        if event.get("method") == "Network.requestWillBeSent":
            is_main = event.get("sessionId") == self._session and told.get("frameId") == self._main
            self._requests.append((told["request"]["url"], told.get("type", "Other"), is_main))
        elif event.get("method") == "Network.loadingFailed":
            if told.get("type") == "Document" and not told.get("canceled"):
                self._failure = self._failure or told.get("errorText")
        elif event.get("method") == "Target.attachedToTarget":
            self._within.append(told["sessionId"])

    def _evaluate(self, expression: str) -> Any:
        """What an expression comes to on the page; nothing while the page is on its way to another one."""
        while self._within:
            with suppress(_Refused):
                self._listen(self._within.pop())
        with suppress(_Refused):
            answer = self._do("Runtime.evaluate", self._session, expression=expression, returnByValue=True)
            return answer["result"].get("value")
        return None

    def picture(self) -> str | None:
        """What the window shows."""
        with suppress(_Refused):
            data: str = self._do("Page.captureScreenshot", self._session, format="png")["data"]
            return data
        return None

    def close(self) -> None:
        """End the browser."""
        with suppress(BrowserFailed):
            self._do("Browser.close")
        os.close(self._ask)
        os.close(self._answers)
        end(self._process)
