"""Real browsers driven over their own remote control: the DevTools protocol on a pipe, and Marionette.

Both are started without a window, with a fresh profile, and answer one navigation after another.
"""

from __future__ import annotations

import json
import os
import re
import select
import socket
import subprocess
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any, NamedTuple, Protocol

from portero.core.nouns.errand import PageUse

SECONDS = 30.0
"""How long a browser may take to come up, and for one page."""
_SCRIPT = """(() => { const meta = document.querySelector('meta[name=portero-notice]');
const complete = document.readyState === 'complete'
return {url: document.URL, title: document.title, notice: meta ? meta.content : null, complete} })()"""

_RESOURCES = "performance.getEntriesByType('resource').map(one => [one.name, one.initiatorType])"
QUIET = 1.5
"""A page has settled once it has asked for nothing for so many seconds."""


class BrowserFailed(RuntimeError):
    """The browser does not come up, or has ended."""


class _Refused(BrowserFailed):
    """The browser does not do that one thing, and goes on."""


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

    def look(self, url: str) -> tuple[Arrived, list[AskedFor]]:
        """Open a URL, let the page settle, and say what was asked for meanwhile. BrowserFailed."""

    def picture(self) -> str | None:
        """What the window shows, a PNG as base64; None where it cannot be had. BrowserFailed."""

    def close(self) -> None:
        """End it."""


def _environment(profile: Path) -> dict[str, str]:
    kept = ("PATH", "LANG", "TZ")
    return {name: os.environ[name] for name in kept if name in os.environ} | {"HOME": str(profile)}


def _end(process: subprocess.Popen[bytes], patience: float = 10) -> None:
    with suppress(subprocess.TimeoutExpired):
        process.wait(patience)
        return
    process.kill()
    process.wait()


@contextmanager
def _ended_where_it_fails(end: Callable[[], None]) -> Iterator[None]:
    """Leaves no browser behind that did not come up."""
    try:
        yield
    except BaseException:
        end()
        raise


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
        # the browser looks for the pipe at the descriptors 3 and 4: a shell puts it there (by path, as the plain one
        # knows no descriptors of two digits)
        put = f'exec 3</proc/self/fd/{asked} 4>/proc/self/fd/{answered}; exec "$@"'
        self._process = subprocess.Popen(
            ["/bin/sh", "-c", put, "sh", *arguments],
            pass_fds=(asked, answered),
            env=_environment(launch.profile),
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        os.close(asked)
        os.close(answered)
        with _ended_where_it_fails(self.close):
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
            found = self._evaluate(_SCRIPT) or found
        return Arrived(None, found.get("url", url), found.get("title", ""), found.get("notice"))

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
        return arrived, [AskedFor(asked, _use(kind, is_main)) for asked, kind, is_main in self._requests]

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
        _end(self._process)


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
_FONT = re.compile(r"\.(woff2?|ttf|otf)($|[?#])", re.IGNORECASE)


def _use(kind: str, is_main: bool) -> PageUse:
    if kind == "Document":
        return PageUse.PAGE if is_main else PageUse.FRAME
    return _USES.get(kind, PageUse.OTHER)


class Marionette:
    """Firefox's own remote control: frames of `LENGTH:[0, id, command, parameters]`."""

    def __init__(self, port: int) -> None:
        self._socket, self._ahead, self._number = _connected(port), b"", 0
        self._frame()
        patience = {"pageLoad": int(SECONDS * 1000)}
        self.do("WebDriver:NewSession", acceptInsecureCerts=True, pageLoadStrategy="eager", timeouts=patience)

    def do(self, command: str, **parameters: object) -> Any:
        """Do a command. What it answers, or its error as `{"error", "message"}`."""
        self._number += 1
        frame = json.dumps([0, self._number, command, parameters]).encode()
        self._socket.sendall(b"%d:%s" % (len(frame), frame))
        _, _, error, answer = self._frame()
        return error or answer

    def _frame(self) -> Any:
        while b":" not in self._ahead:
            self._receive()
        length, _, self._ahead = self._ahead.partition(b":")
        while len(self._ahead) < int(length):
            self._receive()
        frame, self._ahead = self._ahead[: int(length)], self._ahead[int(length) :]
        return json.loads(frame)

    def _receive(self) -> None:
        data = self._socket.recv(65_536)
        if not data:
            raise BrowserFailed("Firefox has ended")
        self._ahead += data


def _connected(port: int) -> socket.socket:
    until = time.monotonic() + SECONDS
    while True:
        try:
            # a page may take SECONDS, and its answer comes after that
            return socket.create_connection(("127.0.0.1", port), timeout=2 * SECONDS)
        except OSError as problem:
            if time.monotonic() > until:
                raise BrowserFailed("Firefox does not come up") from problem
            time.sleep(0.05)


FIREFOX_PREFERENCES: dict[str, object] = {
    "browser.startup.page": 0,
    "browser.fixup.alternate.enabled": False,
    "dom.security.https_first": False,
    "network.captive-portal-service.enabled": False,
    "network.connectivity-service.enabled": False,
    "browser.safebrowsing.update.enabled": False,
    "app.update.enabled": False,
    "datareporting.policy.dataSubmissionEnabled": False,
}
"""What keeps a fresh profile from asking and from calling anybody by itself."""


def write_preferences(profile: Path, preferences: dict[str, object]) -> None:
    """A profile's own preferences (user.js)."""
    lines = (f"user_pref({json.dumps(name)}, {json.dumps(value)});\n" for name, value in preferences.items())
    (profile / "user.js").write_text("".join(lines))


def firefox_command(program: Path, profile: Path, before: Sequence[str] = ()) -> list[str]:
    """What starts Firefox without a window, under remote control."""
    return [*before, str(program), "--headless", "--marionette", "--profile", str(profile)]


class DrivenFirefox:
    """Firefox over Marionette."""

    def __init__(self, program: Path, launch: Launch) -> None:
        port = _free_port()
        preferences = FIREFOX_PREFERENCES | {"marionette.port": port}
        if launch.proxy:
            hosts = {f"network.proxy.{scheme}": "127.0.0.1" for scheme in ("http", "ssl")}
            ports = {f"network.proxy.{scheme}_port": launch.proxy for scheme in ("http", "ssl")}
            more = {"network.proxy.type": 1, "network.proxy.allow_hijacking_localhost": True}
            preferences |= {**hosts, **ports, **more}
        if launch.is_private:
            preferences["browser.privatebrowsing.autostart"] = True
        write_preferences(launch.profile, preferences)
        self._process = subprocess.Popen(
            firefox_command(program, launch.profile, launch.before),
            env=_environment(launch.profile),
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        with _ended_where_it_fails(lambda: _end(self._process, 0)):
            self._control = Marionette(port)

    def go(self, url: str) -> Arrived:
        """Open a URL, and say at which page that ended."""
        answer = self._control.do("WebDriver:Navigate", url=url)
        if answer and "error" in answer:
            return Arrived(str(answer.get("message") or answer["error"]).partition("\n")[0])
        found = self._evaluate(_SCRIPT) or {}
        return Arrived(None, found.get("url", url), found.get("title", ""), found.get("notice"))

    def look(self, url: str) -> tuple[Arrived, list[AskedFor]]:
        """Open a URL, let the page settle, and say what was asked for meanwhile. Steps on the way to the page, and what
        pages within it ask for, Firefox does not tell.
        """
        arrived, until = self.go(url), time.monotonic() + SECONDS
        found: list[list[str]] = []
        quiet_since = time.monotonic()
        while time.monotonic() < min(until, quiet_since + QUIET):
            time.sleep(0.1)
            had, found = len(found), self._evaluate(_RESOURCES) or []
            if len(found) > had:
                quiet_since = time.monotonic()
        asked = [AskedFor(url, PageUse.PAGE)] + [AskedFor(arrived.url, PageUse.PAGE)] * (arrived.error is None)
        for url_asked, initiator in found:
            asked.append(AskedFor(url_asked, PageUse.FONT if _FONT.search(url_asked) else _use(initiator, False)))
        return arrived, asked

    def picture(self) -> str | None:
        """What the window shows."""
        answer = self._control.do("WebDriver:TakeScreenshot", full=False)
        data = answer.get("value") if "error" not in answer else None
        return data if isinstance(data, str) else None

    def _evaluate(self, expression: str) -> Any:
        answer = self._control.do("WebDriver:ExecuteScript", script=f"return {expression}", args=[])
        return answer.get("value")

    def close(self) -> None:
        """End the browser."""
        with suppress(OSError, BrowserFailed):
            self._control.do("Marionette:Quit", flags=["eForceQuit"])
        _end(self._process)


def _free_port() -> int:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port: int = free.getsockname()[1]
        return port
