"""The columns of a sample of records, and how they are filled together."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from typing import Any

from trace_lens.common.secrets_in_text import without_secrets
from trace_lens.common.tuples import NamedTuple
from trace_lens.logs.formats.rows import Record
from trace_lens.logs.kept_ids import is_secret_column

_FEW = 12
"""Fewer rows than this say nothing about what stands beside what."""
_LISTED = 3
"""How many entries of a list are looked at as columns of their own."""


class Column(NamedTuple):
    """One column of a sample: how many rows fill it, how many values it has, and the most common of them.

    `values` are those of the rows that fill it, and `rows` the numbers of these rows in the sample, from 0.
    """

    name: str
    filled: int
    distinct: int
    examples: tuple[str, ...]
    values: tuple[str, ...]
    rows: tuple[int, ...]

    @property
    def counts(self) -> Counter[str]:
        """How often each value stands."""
        return Counter(self.values)


def columns_of(records: Sequence[Record]) -> list[Column]:
    """The columns of a sample, tables within tables by their dotted paths, in the order in which they come."""
    found: dict[str, list[tuple[int, str]]] = {}
    for number, record in enumerate(records):
        for name, value in _flat(record.values):
            found.setdefault(name, []).append((number, value.strip()))
    made = []
    for name, cells in found.items():
        filled = [(number, value) for number, value in cells if value not in ("", "-")]
        values = tuple(value for _, value in filled)
        common = Counter(values).most_common(3)
        made.append(
            Column(
                name=name,
                filled=len(filled),
                distinct=len(set(values)),
                examples=tuple(dict.fromkeys(_shown(name, value) for value, _ in common)),
                values=values,
                rows=tuple(number for number, _ in filled),
            )
        )
    return made


def _shown(column: str, value: str) -> str:
    """A value as an example of its column, what is secret hidden."""
    return "[secret]" if is_secret_column(column) else without_secrets(value)


def _flat(values: Mapping[str, Any], path: str = "") -> list[tuple[str, str]]:
    flat: list[tuple[str, str]] = []
    for name, value in values.items():
        here = f"{path}.{name}" if path else str(name)
        if isinstance(value, Mapping):
            flat += _flat(value, here)
        elif isinstance(value, list):
            for number, item in enumerate(value[:_LISTED]):
                if isinstance(item, Mapping):
                    flat += _flat(item, f"{here}.{number}")
                elif item is not None and not isinstance(item, list):
                    flat.append((f"{here}.{number}", _text(item)))
        elif value is not None:
            flat.append((here, _text(value)))
    return flat


def _text(value: Any) -> str:
    return str(value).lower() if isinstance(value, bool) else str(value)


def split_by(words: Column, other: Column, rows: int) -> frozenset[str] | None:
    """The words of a column beside which another column is filled, where that is so in nearly every row; else None.

    An outcome is such a column beside the codes and reasons of what failed. Says nothing where the other column is
    filled always or never, where all words are of one side, or where so few rows are that it may be chance.
    """
    if rows < _FEW or not 0 < other.filled < rows or words.filled < rows * 0.98:
        return None
    there = set(other.rows)
    beside: Counter[str] = Counter()
    for row, word in zip(words.rows, words.values, strict=True):
        beside[word] += row in there
    whole = words.counts
    filled = frozenset(word for word, count in whole.items() if beside[word] * 2 > count)
    if not filled or len(filled) == len(whole):
        return None
    against = sum(count - beside[word] if word in filled else beside[word] for word, count in whole.items())
    return filled if against <= max(1, words.filled // 100) else None
