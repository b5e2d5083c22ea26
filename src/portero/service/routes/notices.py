"""Notices. “standard” is always there."""

from __future__ import annotations

from portero.core.nouns.estate import NOUNS
from portero.service.routes.nouns import NounRoutes
from portero.service.routes.uses import assignments_with

ROUTES = NounRoutes(NOUNS["notice"], users=assignments_with("notice"))
