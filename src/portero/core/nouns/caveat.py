"""What keeps the intended verdict from holding on a machine, or makes it weaker there; each with its remedy."""

from __future__ import annotations

from enum import StrEnum

from portero.core.nouns.base import Noun
from portero.core.nouns.layer import Layer


class CaveatCode(StrEnum):
    """Why the effective verdict differs from, or is weaker than, the intended one."""

    NOT_ENROLLED = "not-enrolled"
    NEVER_APPLIED = "never-applied"
    STALE_BUNDLE = "stale-bundle"
    STALE_INDEX = "stale-index"
    SILENT = "silent"
    FILTER_OFF = "filter-off"
    FILTER_OBSERVING = "filter-observing"
    LAYER_TOO_OLD = "layer-too-old"
    PLATFORM_TOO_OLD = "platform-too-old"
    BROWSER_TOO_OLD = "browser-too-old"
    BROWSER_MISSING = "browser-missing"
    NOTICE_HIDDEN = "notice-hidden"
    PATH_HIDDEN = "path-hidden"
    CONTENT_HIDDEN = "content-hidden"
    BROWSER_UNMANAGED = "browser-unmanaged"
    POLICY_UNWRITTEN = "policy-unwritten"
    POLICY_OVERRIDDEN = "policy-overridden"
    RESTART_NEEDED = "restart-needed"
    TAMPERED = "tampered"
    LIST_TRUNCATED = "list-truncated"
    PATTERN_CHANGED = "pattern-changed"
    STARTUP_OFF = "startup-off"
    STARTUP_OBSERVING = "startup-observing"
    PASSED_BY = "passed-by"
    TRUSTED_GATEWAY = "trusted-gateway"
    CLOCK_OFF = "clock-off"
    FACT_MISSING = "fact-missing"


class Caveat(Noun):
    """One caveat, with its remedy."""

    code: CaveatCode
    layer: Layer | None = None
    detail: str
    remedy: str
