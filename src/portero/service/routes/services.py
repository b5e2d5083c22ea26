"""Services: web applications known by their hosts. A host belongs to one service."""

from __future__ import annotations

from portero.core.nouns.estate import NOUNS
from portero.core.nouns.service import ServiceSummary
from portero.service.routes.nouns import NounRoutes
from portero.service.routes.uses import rulesets_naming

ROUTES = NounRoutes(
    NOUNS["service"],
    telling=lambda _keepers, _snapshot: (
        lambda service, version: ServiceSummary(
            **{**dict(service), "name": service.name or service.key}, version=version or 0
        )
    ),
    users=rulesets_naming("service"),
)
