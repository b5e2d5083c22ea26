"""One page of a list."""

from __future__ import annotations

from typing import Generic, TypeVar

from pydantic import BaseModel, ConfigDict

Item = TypeVar("Item")


class Page(BaseModel, Generic[Item]):
    """One page of a list. Ask again with `cursor=next` for the following one."""

    model_config = ConfigDict(frozen=True)
    items: list[Item]
    next: str | None = None
    total: int
