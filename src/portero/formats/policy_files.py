"""Site lists in the forms that browsers document for their managed policy, by family and platform.

Chromium: a JSON document on Linux, `URLBlocklist` and `URLAllowlist`. Firefox: `policies.json`, `WebsiteFilter`. On
Windows both read the registry, here as a registration file; on macOS a property list.
"""

from __future__ import annotations

import json
import plistlib
from collections.abc import Mapping, Sequence
from typing import Any

from portero.core.digests import digest_of
from portero.core.nouns.browser_list import BrowserList, ListPlatform, PolicyFile
from portero.core.nouns.coverage import BrowserFamily

_KEYS = {
    "chromium": r"HKEY_LOCAL_MACHINE\SOFTWARE\Policies\Chromium",
    "firefox": r"HKEY_LOCAL_MACHINE\SOFTWARE\Policies\Mozilla\Firefox",
}
_NAMES = {
    ("chromium", "linux"): "portero.json",
    ("chromium", "windows"): "chromium-site-list.reg",
    ("chromium", "macos"): "org.chromium.Chromium.plist",
    ("firefox", "linux"): "policies.json",
    ("firefox", "windows"): "firefox-site-list.reg",
    ("firefox", "macos"): "org.mozilla.firefox.plist",
}


def policy_file(
    family: BrowserFamily,
    platform: ListPlatform,
    block: Sequence[str],
    allow: Sequence[str],
    about: str,
    place: str | None = None,
    tried: str = "",
) -> PolicyFile:
    """The file with which a browser is handed its lists. `about` stands in it as a comment where its form has those."""
    policies = _policies(family, platform, block, allow)
    if platform == "windows":
        text = _registration(_KEYS[family], policies, about)
    elif platform == "macos":
        text = _property_list(policies, about)
    else:
        text = json.dumps(policies, indent=2, ensure_ascii=False) + "\n"
    encoding = "utf-16" if platform == "windows" else "utf-8"
    digest = digest_of(text.encode(encoding)) if block or allow else None
    name = _NAMES[family, platform]
    return PolicyFile(name=name, text=text, place=place, encoding=encoding, digest=digest, tried=tried)


def _policies(
    family: BrowserFamily, platform: ListPlatform, block: Sequence[str], allow: Sequence[str]
) -> dict[str, Any]:
    if family == "chromium":
        return {"URLBlocklist": list(block), "URLAllowlist": list(allow)}
    lists = {"WebsiteFilter": {"Block": list(block), "Exceptions": list(allow)}}
    if platform == "macos":
        return {"EnterprisePoliciesEnabled": True, **lists}
    return {"policies": lists} if platform == "linux" else lists


def _registration(key: str, policies: Mapping[str, Any], about: str) -> str:
    """A registration file; each list's key is emptied first, so that nothing of an older one stays."""
    lines = ["Windows Registry Editor Version 5.00", "", f"; {about}", ""]
    for name, values in policies.items():
        if isinstance(values, Mapping):
            lines += _registration(f"{key}\\{name}", values, about).split("\r\n")[4:]
            continue
        lines += [f"[-{key}\\{name}]", "", f"[{key}\\{name}]"]
        lines += [f'"{number}"="{_escaped(value)}"' for number, value in enumerate(values, 1)]
        lines.append("")
    return "\r\n".join(lines)


def _escaped(value: str) -> str:
    return value.replace("\\", "\\\\").replace('"', '\\"')


def _property_list(policies: Mapping[str, Any], about: str) -> str:
    text = plistlib.dumps(dict(policies), sort_keys=False).decode()
    head, mark, rest = text.partition("<plist ")
    return f"{head}<!-- {about.replace('--', '- -')} -->\n{mark}{rest}"


def with_policy_file(made: BrowserList) -> BrowserList:
    """A browser's list with its very file."""
    about = f"Site list of {made.of} for {made.browser}, made by Portero. {made.sentence}"
    file = policy_file(made.family, made.platform, made.block, made.allow, about, made.file.place, made.file.tried)
    return made.model_copy(update={"file": file})
