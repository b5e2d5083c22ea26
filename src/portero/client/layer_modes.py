"""What groups say of the layers of their machines."""

from __future__ import annotations

from typing import ClassVar

from portero.client.collection import Collection
from portero.core.nouns.settings import GroupLayers, GroupLayersState


class LayerModes(Collection[GroupLayers, GroupLayersState, GroupLayersState]):
    """Layer modes by group; an object is named by its group."""

    model: ClassVar = GroupLayers
