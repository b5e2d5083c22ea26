"""Address lists: named lists of addresses on the web that rulesets include."""

from __future__ import annotations

from typing import ClassVar

from portero.client.collection import Collection
from portero.core.nouns.address_list import AddressList, AddressListState


class AddressLists(Collection[AddressList, AddressListState, AddressListState]):
    """Address lists: named lists of addresses on the web that rulesets include."""

    model: ClassVar = AddressList
