"""Results as rows of plain values, titles first, for tables that other programs read."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import Any

from trace_lens.common.moments import show_moment
from trace_lens.diagnosis.judging import Diagnosis

Row = Sequence[object]


def rows_of(items: Sequence[dict[str, Any]]) -> Iterator[Row]:
    """The rows of a list of objects, as the JSON has them: plain values, and lists of them in one cell; what is nested
    deeper is in the JSON only.
    """
    titles = [key for key in dict.fromkeys(key for item in items for key in item) if not _is_nested(key, items)]
    yield titles
    for item in items:
        yield [_cell(item.get(title)) for title in titles]


def _is_nested(key: str, items: Sequence[dict[str, Any]]) -> bool:
    held = [item.get(key) for item in items]
    return any(isinstance(part, dict) for value in held for part in (value if isinstance(value, list) else [value]))


def _cell(value: object) -> object:
    if isinstance(value, list):
        return "; ".join(str(_cell(item)) for item in value)
    return str(value).lower() if isinstance(value, bool) else value


def diagnosis_rows(diagnoses: Iterable[Diagnosis]) -> Iterator[Row]:
    """One row for each attempt."""
    yield (
        *("id", "source", "app", "provider", "subject", "at", "outcome"),
        *("first_break", "stage", "side", "value_to_set", "certainty", "cause"),
    )
    for diagnosis in diagnoses:
        first = diagnosis.first_break
        yield (
            diagnosis.id,
            diagnosis.source,
            diagnosis.app,
            diagnosis.provider,
            diagnosis.subject,
            show_moment(diagnosis.at) if diagnosis.at else None,
            diagnosis.outcome,
            *((first.code, first.stage, first.side, first.value_to_set, first.certainty) if first else (None,) * 5),
            diagnosis.cause,
        )
