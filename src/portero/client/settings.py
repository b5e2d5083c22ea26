"""The estate's settings."""

from __future__ import annotations

from portero.client.connection import Part, fields_of
from portero.core.nouns.settings import Settings, SettingsState


class SettingsPart(Part):
    """What holds for the whole estate."""

    def get(self) -> SettingsState:
        """The estate's settings."""
        return self.connection.get("/settings", SettingsState)

    def change(self, *, reason: str | None = None, **changed: object) -> SettingsState:
        """Change some of the estate's settings, and leave the others as they are. ChangedMeanwhile, Invalid."""
        seen = self.get()
        settings = Settings.model_validate({**fields_of(seen, Settings), **changed})
        return self.put(settings, version=seen.version, reason=reason)

    def put(self, settings: Settings, *, version: int | None, reason: str | None = None) -> SettingsState:
        """Change the estate's settings as seen at `version`. ChangedMeanwhile."""
        return self.connection.put("/settings", settings, SettingsState, version, reason=reason)
