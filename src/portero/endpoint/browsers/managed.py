"""The browsers of this machine and their policy files: each has the site list that is in force, and keeps it."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path, PurePosixPath

import msgspec

from portero import __version__
from portero.core.nouns.browser_policy import BrowserPolicy, Tampering
from portero.core.nouns.coverage import CoverageTable, ListSupport
from portero.core.nouns.device import Application, Browser, Facts
from portero.core.nouns.layer import LayerMode
from portero.core.resolving.policy import SiteList
from portero.endpoint.browsers.installed import Installed, installed_browsers, running_since
from portero.endpoint.browsers.policy_file import TOLD_SECONDS, Kept, Noticed, Others, OwnFile, others_of, remove_own
from portero.endpoint.folder import Folder, told_of
from portero.formats.policy_files import policy_file

RECORD = "policy-files.json"
FIND_SECONDS = 300.0
"""How often browsers are looked for."""
_KEPT = msgspec.json.Decoder(dict[str, Kept])
_SYSTEM = PurePosixPath("/etc")
"""Where browsers look for managed policy on Linux; `root` stands in its place."""


def own_path(support: ListSupport, root: Path) -> Path | None:
    """Where a browser's own policy file is below a root; None where the coverage table names none on Linux."""
    named = PurePosixPath(support.policy_file or "")
    return root / named.relative_to(_SYSTEM) if named.is_relative_to(_SYSTEM) else None


class ManagedBrowsers:
    """Keeps the policy files of the browsers that it finds."""

    def __init__(
        self,
        folder: Folder,
        root: Path,
        browsers: Callable[[], list[Installed]] = installed_browsers,
        platform: str = "linux",
    ) -> None:
        """`root` is where the browsers look for their policy: /etc, or a folder that stands in its place."""
        self._folder, self.root, self._find, self._platform = folder, root, browsers, platform
        self._browsers, self._found_at = browsers(), 0.0
        self._files: dict[str, OwnFile] = {}
        self.facts = tuple(_facts_of(browser) for browser in self._browsers)
        """The browsers as facts tell of them, as they were looked at last."""
        self.problem: str | None = None
        """Why what was written could not be noted."""
        self._kept = _remembered(folder)

    def look(self, merged: SiteList | None, coverage: CoverageTable, now: float) -> list[Noticed]:
        """See that each browser has the list that is in force (`merged`; None: it is to have none)."""
        self._look_for_browsers(now)
        noticed, facts = [], []
        for browser in self._browsers:
            support = coverage.list_support(browser.name, self._platform, browser.version)
            path = own_path(support, self.root)
            if path is None:
                facts.append(_facts_of(browser))
                continue
            file, started = self._file(browser, path), running_since(browser.family)
            noticed += file.keep(_wanted(merged, support), now, started)
            others = others_of(browser.family, path, browser.program)
            facts.append(_facts_of(browser, _policy(file, others, started, now)))
        self.facts = tuple(facts)
        self._note()
        return noticed

    def _look_for_browsers(self, now: float) -> None:
        """Now and then: one may have been installed, updated or removed."""
        if not self._found_at:
            self._found_at = now
        elif now - self._found_at >= FIND_SECONDS:
            self._browsers, self._found_at = self._find(), now

    def _file(self, browser: Installed, path: Path) -> OwnFile:
        known = self._files.get(browser.name)
        if known is None or known.path != path:
            known = self._files[browser.name] = OwnFile(browser.family, path, self._kept.get(str(path)))
        return known

    def _note(self) -> None:
        """Remember what was written, so that a start finds its own files again."""
        kept = {str(file.path): file.kept for file in self._files.values() if file.kept is not None}
        if kept == self._kept:
            return
        try:
            self._folder.write(RECORD, msgspec.json.encode(kept))
            self._kept = kept
            self.problem = None
        except OSError as problem:
            self.problem = f"{RECORD} could not be written on this machine: {told_of(problem)}"


def _facts_of(browser: Installed, policy: BrowserPolicy | None = None) -> Browser:
    program = Application(file=browser.program.name, path=str(browser.program), version=browser.version)
    managed = policy is not None
    return Browser(name=browser.name, version=browser.version, managed=managed, application=program, policy=policy)


def _policy(file: OwnFile, others: Others, started: list[float], now: float) -> BrowserPolicy:
    kept, tampering = file.kept, None
    if kept and kept.tampered and kept.tampered_at and now - kept.tampered_at < TOLD_SECONDS:
        tampering = Tampering(at=datetime.fromtimestamp(kept.tampered_at, UTC), what=kept.tampered)
    return BrowserPolicy(
        file=str(file.path),
        state=file.state,
        problem=file.problem,
        digest=kept.digest if kept else None,
        written_at=datetime.fromtimestamp(kept.written_at, UTC) if kept else None,
        restart_needed=file.restart_needed(started),
        overridden_by=others.counting if kept else (),
        beside=others.beside,
        tampering=tampering,
    )


def with_browsers(facts: Facts, browsers: tuple[Browser, ...]) -> Facts:
    """The facts with the browsers that are really there, and whose policy is kept, in place of those of their names."""
    names = {browser.name for browser in browsers}
    others = tuple(browser for browser in facts.browsers if browser.name.casefold() not in names)
    layers = facts.layers.model_copy(update={"browser": LayerMode.ENFORCING})
    versions = facts.layer_versions.model_copy(update={"browser": __version__})
    more = {"browsers": (*browsers, *others), "layers": layers, "layer_versions": versions}
    return facts.model_copy(update=more)


def _remembered(folder: Folder) -> dict[str, Kept]:
    try:
        return _KEPT.decode(folder.read(RECORD) or b"{}")
    except (msgspec.MsgspecError, OSError):
        return {}


def remove_policy_files(folder: Folder) -> list[Path]:
    """Remove the policy files that are an endpoint's own, as it wrote them; which were. OSError."""
    return [Path(path) for path, kept in _remembered(folder).items() if remove_own(Path(path), kept)]


def _wanted(merged: SiteList | None, support: ListSupport) -> bytes | None:
    """The policy file of a browser under a list; None where nothing is on it."""
    handed = merged.handed(support._replace(policy_file=None)) if merged is not None else None
    if handed is None:
        return None
    file = policy_file(support.family, "linux", handed.blocks, handed.allows, "")
    return file.text.encode(file.encoding) if file.digest else None
