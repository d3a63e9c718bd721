"""Two values on record that must agree, and the finding where they do not."""

from __future__ import annotations

from trace_lens.common.findings import Evidence, Side
from trace_lens.common.locations import Location
from trace_lens.common.tuples import NamedTuple


class Value(NamedTuple):
    """A value on record and the place where it is; `meant` says what it is, `asked` that it is of a request."""

    meant: str
    text: str
    file: str
    where: Location
    asked: bool = False

    @property
    def evidence(self) -> Evidence:
        """The same as evidence."""
        return Evidence(self.meant, self.text, self.file, self.where)


class Pair(NamedTuple):
    """One item that both sides hold: the side that owns it first, the side that copies it second."""

    item: str
    owner: Value
    copy: Value
    copying_side: Side
