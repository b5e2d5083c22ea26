"""What an endpoint and a real browser do together on one machine: started in namespaces of its own, it plays the
scenarios of a family against the policy folders under /etc, and writes as JSON what it saw.
"""

from __future__ import annotations

import contextlib
import json
import os
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from tempfile import mkdtemp
from typing import Any

SECONDS = 280
_WITHIN = 60.0
"""How long a change is waited for. Chromium notices after 5 s; a machine that is busy is slow, not wrong."""
_PAUSE = 2.7
"""So long a browser is left alone in between: Chromium puts its policy off while it opens pages."""


def played(family: str, seconds: float = SECONDS) -> Any:
    """Play a family's scenarios in new namespaces: what was seen in each, by name."""
    command = ["unshare", "--net", "--mount", "--pid", "--fork", "--mount-proc", "--kill-child", sys.executable]
    done = subprocess.run(
        [*command, str(Path(__file__)), family],
        capture_output=True,
        text=True,
        timeout=seconds,
        check=False,
        env=os.environ | {"PYTHONPATH": str(Path(__file__).parents[1])},
    )
    if done.returncode:
        raise AssertionError(done.stderr[-3000:])
    return json.loads(done.stdout)


class Machine:
    """The endpoint's side: its policy files under /etc, given lists of hosts that are blocked."""

    def __init__(self, family: str) -> None:
        from portero.endpoint.browsers.managed import ManagedBrowsers
        from portero.endpoint.folder import Folder

        self.family = family
        self.browsers = ManagedBrowsers(Folder(Path(mkdtemp())), Path("/etc"))
        self.hosts: tuple[str, ...] = ()
        self.own = Path(
            "/etc/chromium/policies/managed/portero.json"
            if family == "chromium"
            else "/etc/firefox/policies/policies.json"
        )

    def give(self, *hosts: str) -> list[str]:
        """From now on these hosts are blocked; what the endpoint noticed."""
        self.hosts = hosts
        return self.look()

    def look(self) -> list[str]:
        """Look at the files once, as the endpoint does each second."""
        from portero.core.nouns.coverage import CoverageTable

        return [one.what for one in self.browsers.look(_list(self.hosts), CoverageTable(), time.time())]

    @property
    def told(self) -> dict[str, Any]:
        """What it tells of the file."""
        browser = next(one for one in self.browsers.facts if one.name == self.family)
        return browser.policy.model_dump(mode="json") if browser.policy else {}


def _list(hosts: tuple[str, ...]) -> Any:
    from datetime import UTC, datetime

    from portero.core.insight.site_lists import list_of_ruleset
    from portero.core.nouns.ruleset import Ruleset

    rules = [{"pattern": host, "action": "block"} for host in hosts]
    return list_of_ruleset(Ruleset.model_validate({"key": "a", "kind": "site", "rules": rules}), datetime.now(UTC))


@contextlib.contextmanager
def running(family: str) -> Iterator[Callable[[str], bool]]:
    """The real browser, as a user without rights; whether it stops a host."""
    from portero.endpoint.browsers.visiting import driven, outcome_of, the_browser

    # the small web answers for every host, asked as a proxy
    with driven(the_browser(family), None, 80) as browser:
        yield lambda host: outcome_of(browser.go(f"http://{host}/"))[1] == "browser"


def _until(is_so: Callable[[], bool], seconds: float = _WITHIN) -> float | None:
    """How long it took; None where it never was."""
    began = time.monotonic()
    while time.monotonic() - began < seconds:
        if is_so():
            return round(time.monotonic() - began, 1)
        time.sleep(_PAUSE)
    return None


def chromium() -> dict[str, Any]:
    """A Chromium that runs all the time, and whatever happens to its policy."""
    from chromium_watch import await_watch

    machine, seen = Machine("chromium"), {}
    with running("chromium") as stops:
        assert not stops("a.test")
        await_watch(machine.own.parents[1])
        machine.give("a.test")
        seen["started before there was a file"] = _until(lambda: stops("a.test"))
        machine.give("b.test")
        seen["changed while it runs"] = _until(lambda: stops("b.test") and not stops("a.test"))
        for name, harm in _HARMS.items():
            harm(machine.own)
            opened = _until(lambda: not stops("b.test"))
            seen[name] = [
                opened is not None,
                machine.look(),
                _until(lambda: stops("b.test")),
                machine.told["tampering"],
            ]
        seen["another file"] = _with_other(machine, stops, "zz-other.json")
        seen["a broken file"] = _with_other(machine, stops, "zz-broken.json", '{"URLBlocklist": [')
        seen["a full disk"] = _full(machine, stops)
    with running("chromium") as stops:
        machine.give("c.test")
        # it is left alone while it comes up: one that opens pages all the while puts its policy off for minutes
        time.sleep(7)
        await_watch(machine.own.parents[1])
        missed = not stops("c.test")
        machine.look()
        seen["changed just after its start"] = [missed, _until(lambda: stops("c.test"))]
    return seen


_HARMS: dict[str, Callable[[Path], object]] = {
    "edited": lambda own: own.write_text('{"URLBlocklist": []}'),
    "removed": lambda own: own.unlink(),
    "unreadable": lambda own: own.chmod(0o600),
}


def _with_other(machine: Machine, stops: Callable[[str], bool], name: str, text: str = "") -> dict[str, Any]:
    """Beside somebody else's file: whether the list still holds, and what is told of the file."""
    other = machine.own.with_name(name)
    other.write_text(text or json.dumps({"URLBlocklist": ["other.test"]}))
    # what would open it has opened it by then
    _until(lambda: not stops("b.test"), 9.0)
    machine.look()
    found = {"holds": stops("b.test"), "told": machine.told["overridden_by"], "left": other.exists()}
    other.unlink()
    _until(lambda: stops("b.test"))
    return found


def _full(machine: Machine, stops: Callable[[str], bool]) -> dict[str, Any]:
    """The disk is full as the list is to change: the earlier one stays, whole."""
    filler = Path("/etc/chromium/policies/filler")
    with contextlib.suppress(OSError), filler.open("wb") as file:
        while True:
            file.write(b"x" * 4096)
    noticed = machine.give("d.test", *(f"host-{number}.test" for number in range(1000)))
    found = {"noticed": noticed, "problem": machine.told["problem"], "earlier holds": stops("b.test")}
    filler.unlink()
    found["then"] = machine.look()
    found["holds"] = _until(lambda: stops("d.test"))
    return found


def firefox() -> dict[str, Any]:
    """A Firefox that runs as its list changes, and is started again."""
    machine, seen = Machine("firefox"), {}
    with running("firefox") as stops:
        time.sleep(2)
        machine.give("a.test")
        machine.look()
        seen["started before there was a file"] = [stops("a.test"), machine.told["restart_needed"]]
    machine.look()
    seen["ended"] = machine.told["restart_needed"]
    with running("firefox") as stops:
        time.sleep(2)
        machine.look()
        seen["started again"] = [stops("a.test"), machine.told["restart_needed"]]
        machine.own.write_text('{"policies": {}}')
        seen["edited while it runs"] = [stops("a.test"), machine.look(), "a.test" in machine.own.read_text()]
    machine.give()
    machine.own.write_text('{"policies": {"WebsiteFilter": {"Block": ["*://mine.test/*"]}}}')
    other = Machine("firefox")
    other.give("a.test")
    seen["one that was there before"] = [other.told["state"], "mine.test" in other.own.read_text()]
    return seen


def _main() -> None:
    import driving
    import pages

    driving.enter_namespaces()
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=64k", "tmpfs", "/etc/chromium/policies"], check=True)
    os.chmod("/etc/chromium/policies", 0o755)
    with pages.served():
        answer = {"chromium": chromium, "firefox": firefox}[sys.argv[1]]()
    json.dump(answer, sys.stdout)


if __name__ == "__main__":
    _main()
