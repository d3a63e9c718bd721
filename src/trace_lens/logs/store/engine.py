"""Where the statements over the parts run: an engine gets a statement, the parts that it is about, and some rows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, Protocol

from trace_lens.common.tuples import NamedTuple

COLUMNS = {
    "source": "VARCHAR",
    "content": "VARCHAR",
    "line": "BIGINT",
    "time": "TIMESTAMP",
    "user": "VARCHAR",
    "app": "VARCHAR",
    "outcome": "VARCHAR",
    "code": "VARCHAR",
    "reason": "VARCHAR",
    "ip": "VARCHAR",
    "ids": "VARCHAR[]",
    "same_content": "VARCHAR",
    "same_line": "BIGINT",
}
"""The columns of a part: an event, which content it is of, and where it counts if it stands in another content too."""
BAD_COLUMNS = {"line": "BIGINT", "because": "VARCHAR", "text": "VARCHAR"}
"""The columns of the rows that could not be read."""


class Given(NamedTuple):
    """Rows that a statement is given: the type of each column (VARCHAR, BIGINT or TIMESTAMP), and the columns."""

    types: Mapping[str, str]
    columns: Mapping[str, Sequence[Any]]


class Engine(Protocol):
    """What asks the parts."""

    def ask(
        self, statement: str, parts: Sequence[Path], given: Mapping[str, Given] | None = None
    ) -> list[tuple[Any, ...]]:
        """The rows that a statement in DuckDB's SQL gives; the events of the parts are `events` in it.

        Raises StoreProblem.
        """
        ...

    def close(self) -> None:
        """Let go of what it holds."""
        ...


def quoted(text: str) -> str:
    """A text as a literal of SQL."""
    return "'" + text.replace("'", "''") + "'"


def named(text: str) -> str:
    """A name of a column in SQL."""
    return '"' + text.replace('"', '""') + '"'


def select_of(columns: Mapping[str, str]) -> str:
    """The columns, as a statement lists them."""
    return ", ".join(map(named, columns))
