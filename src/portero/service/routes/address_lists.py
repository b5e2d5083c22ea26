"""Address lists: told in words, with the rulesets that include them."""

from __future__ import annotations

from portero.core import sentences
from portero.core.nouns.address_list import AddressList, AddressListState
from portero.core.nouns.estate import NOUNS
from portero.service.keepers import Keepers
from portero.service.routes.nouns import NounRoutes, Tell
from portero.service.routes.uses import rulesets_including
from portero.service.state import Snapshot


def _telling(_keepers: Keepers, snapshot: Snapshot) -> Tell:
    def tell(address_list: AddressList, version: int | None) -> AddressListState:
        # not checked again: a long list would take its time
        return AddressListState.model_construct(
            **{**dict(address_list), "name": address_list.name or address_list.key},
            sentence=sentences.address_list_sentence(address_list),
            rulesets=tuple(rulesets_including(snapshot.estate, address_list.key)),
            version=version or 0,
        )

    return tell


ROUTES = NounRoutes(NOUNS["address list"], telling=_telling, users=rulesets_including)
