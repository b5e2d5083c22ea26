"""Where something is enforced on a machine, and what each such layer does there."""

from __future__ import annotations

from enum import StrEnum
from typing import Literal, get_args

from portero.core.nouns.base import Noun, Text


class Layer(StrEnum):
    """A place where something is enforced on a machine."""

    BROWSER = "browser"
    FILTER = "filter"
    STARTUP = "startup"


class LayerMode(StrEnum):
    """What a layer of a machine does."""

    ENFORCING = "enforcing"
    OBSERVING = "observing"
    OFF = "off"


LayerName = Literal["filter", "browser", "startup"]
LAYERS: tuple[LayerName, ...] = get_args(LayerName)


class Layers(Noun):
    """What each enforcement layer of the machine does, as it reports."""

    filter: LayerMode | None = None
    browser: LayerMode | None = None
    startup: LayerMode | None = None

    def mode(self, layer: str) -> LayerMode | None:
        """What is said of one layer."""
        mode: LayerMode | None = getattr(self, layer)
        return mode


class LayerVersions(Noun):
    """The version of the program behind each enforcement layer, as the machine reports."""

    filter: Text | None = None
    browser: Text | None = None
    startup: Text | None = None
