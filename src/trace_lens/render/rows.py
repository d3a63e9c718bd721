"""Results as rows of plain values, titles first, for tables that other programs read."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from trace_lens.common.moments import show_moment
from trace_lens.diagnosis.judging import Diagnosis

Row = Sequence[object]


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
