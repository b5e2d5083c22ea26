"""The rules of this machine as its endpoint keeps them in its folder, taken up anew as that changes."""

from __future__ import annotations

import json
from contextlib import suppress
from datetime import datetime
from typing import Any

from portero.core.nouns.device import Facts
from portero.core.resolving.policy import Frame
from portero.endpoint.folder import Folder
from portero.endpoint.guard.programs import KnownPrograms
from portero.endpoint.guard.ruling import StartRules
from portero.endpoint.held_policy import HeldPolicy
from portero.endpoint.inventory import RECORD, read_files
from portero.endpoint.machine import last_start
from portero.endpoint.situation import PEOPLE, UNTIL_RESTART, situation_of


class MachineRules:
    """What starts are ruled by on this machine. What is read anew takes the place of the old all at once."""

    def __init__(self, folder: Folder) -> None:
        """NotJoined where nothing has joined from the folder."""
        self._folder = folder
        identity = folder.identity()
        own = Facts.model_validate(identity.facts)
        self._own = own.model_copy(update={"last_start": own.last_start or last_start()})
        self._held = HeldPolicy(folder, identity, self._own.hostname, looks_up=False)
        self._looks: dict[str, tuple[int, int]] = {}
        self._people: dict[str, list[str]] = {}
        self._since: dict[str, float] = {}
        self._known = KnownPrograms()
        self.rules: StartRules | None = None
        """None where there is no bundle that can be trusted yet."""
        self.take_up()

    @property
    def manifest(self) -> str:
        """The name of the manifest whose rules these are; empty where there is none."""
        return self._held.manifest.name if self._held.manifest else ""

    def take_up(self) -> bool:
        """Look at what is kept; whether it is something else than before."""
        before = (self._held.rulings, self._known, self._people, self._since)
        if self._held.manifest is None:
            self._held.load()
        else:
            self._held.look_again()
        if self._is_new(RECORD):
            self._known = KnownPrograms(read_files(self._folder))
        if self._is_new(PEOPLE):
            self._people = self._read(PEOPLE)
        if self._is_new(UNTIL_RESTART):
            self._since = self._read(UNTIL_RESTART)
        after = (self._held.rulings, self._known, self._people, self._since)
        if all(one is other for one, other in zip(before, after, strict=True)):
            return False
        if self._held.rulings is not None:
            self.rules = StartRules.of(self._held.rulings.policy, self._known)
        return True

    def frame(self, rules: StartRules, user: str | None, at: datetime) -> Frame:
        """What is in play for a person at a moment."""
        return rules.policy.frame(situation_of(self._own, user, self._people, self._since, at))

    def _is_new(self, name: str) -> bool:
        look = (0, 0)
        with suppress(OSError):
            status = (self._folder.path / name).stat()
            look = (status.st_ino, status.st_mtime_ns)
        changed = self._looks.get(name, (0, 0)) != look
        self._looks[name] = look
        return changed

    def _read(self, name: str) -> dict[str, Any]:
        with suppress(ValueError, OSError):
            found = json.loads(self._folder.read(name) or b"{}")
            if isinstance(found, dict):
                return found
        return {}
