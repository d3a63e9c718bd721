"""What is left of octets after one layer was taken off."""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType

from trace_lens.common.locations import NOWHERE, Location
from trace_lens.common.tuples import NamedTuple


class Reading(NamedTuple):
    """What is left after one layer was taken off; `cost` says how far-fetched that is."""

    layer: str
    data: bytes
    repairs: tuple[str, ...] = ()
    where: Location = NOWHERE
    context: Mapping[str, str] = MappingProxyType({})
    cost: int = 1
