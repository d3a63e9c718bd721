"""What intake gives: a message found in a source, still as octets."""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType

from trace_lens.common.locations import NOWHERE, Location
from trace_lens.common.tuples import NamedTuple


class FoundMessage(NamedTuple):
    """One message found in a source, still as octets.

    `layers` from the outside inwards; `where` the field or member it stood in; `context` what travelled beside it
    (`RelayState`). `within` is the position, among all that was found, of the message that this one stands in.
    """

    kind: str
    data: bytes
    layers: tuple[str, ...] = ()
    repairs: tuple[str, ...] = ()
    where: Location = NOWHERE
    context: Mapping[str, str] = MappingProxyType({})
    within: int | None = None
