"""Notices: what people see where something is warned of or blocked."""

from __future__ import annotations

from typing import ClassVar

from portero.client.collection import Collection
from portero.core.nouns.notice import Notice, NoticeSummary


class Notices(Collection[Notice, NoticeSummary, NoticeSummary]):
    """Notices: what people see where something is warned of or blocked."""

    model: ClassVar = Notice
