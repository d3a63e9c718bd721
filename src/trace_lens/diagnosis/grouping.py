"""Attempts grouped by what broke them: where a cause repeats, it is told once, with whom it hits."""

from __future__ import annotations

from collections.abc import Iterable

from trace_lens.common import catalogue
from trace_lens.common.findings import Finding, Stage
from trace_lens.common.sentences import Person
from trace_lens.common.tuples import NamedTuple
from trace_lens.diagnosis.judging import Diagnosis

CauseKey = tuple[str | None, ...]
"""What two attempts of one cause have in common."""


class Cause(NamedTuple):
    """One cause of several attempts: the first break, the side that must act, the value to set, and whom it hits.

    `value_to_set` is None where each attempt wants another one; `example` is the source of the first attempt. `remedy`
    is what to do, None where nothing says.
    """

    code: str
    side: str | None
    what: str
    value_to_set: str | None
    apps: tuple[str, ...]
    attempts: int
    people: int
    example: str
    remedy: str | None = None


def causes_of(diagnoses: Iterable[Diagnosis]) -> tuple[Cause, ...]:
    """The causes of the broken attempts, the largest first; those of one size in the order in which they came."""
    groups: dict[CauseKey, list[tuple[Diagnosis, Finding]]] = {}
    for diagnosis in diagnoses:
        first = diagnosis.first_break
        if first is not None:
            groups.setdefault(cause_key(diagnosis, first), []).append((diagnosis, first))
    causes = [_cause(members) for members in groups.values()]
    return tuple(sorted(causes, key=lambda cause: -cause.attempts))


def cause_key(diagnosis: Diagnosis, first: Finding) -> CauseKey:
    """What makes two attempts of one cause: the same repair, or, where the repair is one person's, the same place."""
    side = first.side.value if first.side else None
    of_person = first.stage is Stage.IDENTIFIED or isinstance(first.value_to_set, Person)
    if first.value_to_set is not None and not of_person:
        return first.code, side, first.value_to_set
    return first.code, side, None, diagnosis.app, diagnosis.provider


def _cause(members: list[tuple[Diagnosis, Finding]]) -> Cause:
    example, first = members[0]
    values = {finding.value_to_set for _, finding in members}
    return Cause(
        code=first.code,
        side=first.side.value if first.side else None,
        what=catalogue.entry(first.code).title,
        value_to_set=values.pop() if len(values) == 1 else None,
        apps=tuple(dict.fromkeys(diagnosis.app for diagnosis, _ in members if diagnosis.app)),
        attempts=len(members),
        people=len({diagnosis.subject for diagnosis, _ in members if diagnosis.subject}),
        example=example.source,
        remedy=first.remedy,
    )
