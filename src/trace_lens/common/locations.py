"""Where a value stands: source by source, from the outside in. Kept as parts, and printed in one function."""

from __future__ import annotations

from trace_lens.common.tuples import NamedTuple


class Location(NamedTuple):
    """A place within a source.

    `entry` is the exchange of a capture, `part` what of it (a body, a header field), `line` and `column` count from 1,
    `field` is a parameter, header or member, `path` that of an element, a JSON member or a key. `within` is the place
    of the message or document that this one is in.
    """

    entry: str = ""
    part: str = ""
    line: int | None = None
    field: str = ""
    path: str = ""
    within: Location | None = None
    column: int | None = None

    def then(self, inner: Location) -> Location:
        """A place inside of this one."""
        if not self:
            return inner
        if not inner:
            return self
        return inner._replace(within=self.then(inner.within) if inner.within else self)

    def __bool__(self) -> bool:
        """Whether it says anything."""
        return any((self.entry, self.part, self.line is not None, self.field, self.path, self.within))

    def __str__(self) -> str:
        """The place for a person: its parts from the outside in, with arrows between them."""
        line = f"line {self.line}" if self.line is not None else ""
        line += f", column {self.column}" if line and self.column else ""
        own = (self.entry, self.part, line, self.field, self.path)
        return " › ".join(filter(None, (str(self.within) if self.within else "", *own)))


NOWHERE = Location()
"""The whole source."""
