"""Firefox, driven over Marionette."""

from __future__ import annotations

import json
import re
import socket
import subprocess
import time
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any

from portero.core.nouns.errand import PageUse
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

_RESOURCES = "performance.getEntriesByType('resource').map(one => [one.name, one.initiatorType])"
_FONT = re.compile(r"\.(woff2?|ttf|otf)($|[?#])", re.IGNORECASE)


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
            env=environment(launch.profile),
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        with ended_where_it_fails(lambda: end(self._process, 0)):
            self._control = Marionette(port)

    def go(self, url: str) -> Arrived:
        """Open a URL, and say at which page that ended."""
        answer = self._control.do("WebDriver:Navigate", url=url)
        if answer and "error" in answer:
            return Arrived(str(answer.get("message") or answer["error"]).partition("\n")[0])
        found = self._evaluate(LOOK) or {}
        return Arrived(None, found.get("url", url), found.get("title", ""), found.get("notice"))

    def follow(self) -> Arrived:
        """Follow the first link of the page that is open."""
        return followed(self._evaluate(CLICK) or "", lambda: self._evaluate(LOOK))

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
            asked.append(AskedFor(url_asked, PageUse.FONT if _FONT.search(url_asked) else use_of(initiator, False)))
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
        end(self._process)


def _free_port() -> int:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port: int = free.getsockname()[1]
        return port
