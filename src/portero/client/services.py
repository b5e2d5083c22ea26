"""Services: web applications known by their hosts."""

from __future__ import annotations

from typing import ClassVar

from portero.client.collection import Collection
from portero.core.nouns.service import Service, ServiceSummary


class Services(Collection[Service, ServiceSummary, ServiceSummary]):
    """Services: web applications known by their hosts."""

    model: ClassVar = Service
