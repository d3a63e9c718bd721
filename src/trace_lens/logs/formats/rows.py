"""What a reader of a log file gives: a record, or a row that cannot be read and why."""

from __future__ import annotations

import zlib
from collections.abc import Iterable, Mapping
from typing import Any

import zstandard

from trace_lens.common import limits
from trace_lens.common.secrets_in_text import without_opaque, without_secrets
from trace_lens.common.tuples import NamedTuple
from trace_lens.logs.kept_ids import is_secret_column

Value = Any
"""A text, a number, a truth value, a list or a table, as the format has it; None where there is none."""


DAMAGED = (EOFError, OSError, zlib.error, zstandard.ZstdError)
"""What reading a damaged or cut stream of gzip or Zstandard raises."""


class Record(NamedTuple):
    """One record: the line where it begins (from 1), its values by column, and its text as far as that is shown."""

    line: int
    values: Mapping[str, Value]
    text: str = ""


class BadRow(NamedTuple):
    """A record that cannot be read, and why."""

    line: int
    because: str
    text: str


class Unreadable(ValueError):
    """A file that cannot be read as this format at all; says why."""


def shortened(text: str) -> str:
    text = text.rstrip("\r\n")
    return text if len(text) <= limits.SHOWN_VALUE else text[: limits.SHOWN_VALUE] + "…"


def bad_row(line: int, because: str, text: str, *, columns: Iterable[str] = ()) -> BadRow:
    """A bad row, with the secrets in its text hidden.

    Where one of its columns is a secret, and nobody can tell which cell is of which column, whatever looks like an id
    is hidden too.
    """
    hide = without_opaque if any(map(is_secret_column, columns)) else without_secrets
    return BadRow(line, without_secrets(because), hide(shortened(text)))


def bad_record(record: Record, because: str) -> BadRow:
    """A record that turned out bad, with what its secret columns hold, and the secrets in its text, hidden."""
    text = record.text
    for column, value in record.values.items():
        if isinstance(value, str) and value and is_secret_column(column):
            text = text.replace(value, "[secret]")
    return bad_row(record.line, because, text)


def path_parts_joined(path: str) -> str:
    """A dotted path without its leading `$.`."""
    return path.removeprefix("$").removeprefix(".")


def value_at(values: Mapping[str, Value], path: str) -> Value:
    """The value of a column, or at a dotted path (`actor.user.name`, `ids.0`); None where there is none."""
    if path in values:
        return values[path]
    here: Value = values
    for part in path_parts_joined(path).split("."):
        if isinstance(here, Mapping):
            here = here.get(part)
        elif isinstance(here, list) and part.lstrip("-").isdigit() and -len(here) <= int(part) < len(here):
            here = here[int(part)]
        else:
            return None
    return here
