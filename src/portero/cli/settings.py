"""Where the service is and who asks: profiles in a TOML file, environment variables, options; later beats earlier."""

from __future__ import annotations

import argparse
import os
import tomllib
from pathlib import Path
from typing import Any, NamedTuple

import platformdirs
import tomli_w

from portero.formats.owned_files import write_owned

DEFAULT_URL = "http://127.0.0.1:8642"


class BadSettings(RuntimeError):
    """The settings file cannot be used; the message says where and what to do."""


class Setting(NamedTuple):
    """A value, and which of file, environment and options it came from."""

    value: str | None
    source: str


def settings_file() -> Path:
    """The settings file, under the user's configuration folder."""
    return Path(platformdirs.user_config_dir("portero")) / "settings.toml"


def _profiles(path: Path) -> dict[str, dict[str, Any]]:
    try:
        document = tomllib.loads(path.read_text(encoding="utf-8"))
    except FileNotFoundError:
        return {}
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as problem:
        raise BadSettings(f"{path} is not TOML: {problem}; mend it, or remove it and sign in again") from problem
    profiles = document.get("profiles", {})
    if not isinstance(profiles, dict) or not all(isinstance(profile, dict) for profile in profiles.values()):
        raise BadSettings(f"{path}: “profiles” must hold tables; mend it, or remove it and sign in again")
    return profiles


class ClientSettings:
    """The settings that count for one call."""

    def __init__(self, options: argparse.Namespace) -> None:
        self.file = settings_file()
        self.profile = self._pick("profile", getattr(options, "profile", None), {}, "default")
        kept = _profiles(self.file).get(self.profile.value or "", {})
        self.url = self._pick("url", getattr(options, "url", None), kept, DEFAULT_URL)
        self.token = self._pick("token", None, kept, None)

    def _pick(self, name: str, option: str | None, kept: dict[str, Any], default: str | None) -> Setting:
        variable = f"PORTERO_{name.upper()}"
        if option:
            return Setting(option, f"option --{name}")
        if os.environ.get(variable):
            return Setting(os.environ[variable], f"environment variable {variable}")
        if isinstance(kept.get(name), str):
            return Setting(kept[name], f"profile in {self.file}")
        return Setting(default, "built in" if default else "not set")

    def keep(self, url: str, token: str) -> None:
        """Keep address and token in the profile; the file is readable by its owner only."""
        profiles = _profiles(self.file)
        profiles[self.profile.value or "default"] = {"url": url, "token": token}
        self._write(profiles)

    def forget(self) -> bool:
        """Drop the profile; False where there was none."""
        profiles = _profiles(self.file)
        if profiles.pop(self.profile.value or "", None) is None:
            return False
        self._write(profiles)
        return True

    def _write(self, profiles: dict[str, dict[str, Any]]) -> None:
        write_owned(self.file, tomli_w.dumps({"profiles": profiles}).encode())
