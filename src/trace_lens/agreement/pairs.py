"""Two values on record that must agree, and the finding where they do not."""

from __future__ import annotations

from typing import NamedTuple

from trace_lens.common import catalogue
from trace_lens.common.difference import difference
from trace_lens.common.findings import Evidence, Finding, Severity, Side, Stage, certainty_of


class Value(NamedTuple):
    """A value on record and the place where it stands; `meant` says what it is."""

    meant: str
    text: str
    file: str
    where: str

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


def make(
    code: str,
    detail: str,
    *,
    stage: Stage = Stage.SETTINGS,
    severity: Severity | None = None,
    side: Side | None = None,
    expected: str | None = None,
    actual: str | None = None,
    value_to_set: str | None = None,
    evidence: tuple[Evidence, ...] = (),
    compared: bool = True,
) -> Finding:
    entry = catalogue.entry(code, stage)
    side = side or entry.side
    found = difference(expected, actual) if compared and expected is not None and actual is not None else None
    severity = severity or entry.severity
    return Finding(
        code, stage, severity, entry.title, detail, side,
        entry.remedies.get(side) or next(iter(entry.remedies.values())), entry.reference,
        expected, actual, found.kind if found else None, value_to_set, evidence=evidence,
        certainty=certainty_of(severity),
    )  # fmt: skip
