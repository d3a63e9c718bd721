"""Whether copies diagnose as their originals: codes, stages, first breaks and outcomes, attempt by attempt."""

from __future__ import annotations

from trace_lens.diagnosis.diagnosing import Result
from trace_lens.diagnosis.judging import Diagnosis


def differences(before: Result, after: Result) -> list[str]:
    """In what the diagnoses of copies are not those of their originals: codes, stages, first breaks, outcomes."""
    if len(before.diagnoses) != len(after.diagnoses):
        return [f"{len(before.diagnoses)} attempts in the originals, {len(after.diagnoses)} in the copies"]
    found = []
    for original, copy in zip(before.diagnoses, after.diagnoses, strict=True):
        for what, was, is_now in zip(_COMPARED, _seen(original), _seen(copy), strict=True):
            if was != is_now:
                found.append(f"attempt {original.id}: {what} {was} in the original, {is_now} in the copy")
    return found


_COMPARED = ("outcome", "first break", "findings", "stages")


def _seen(diagnosis: Diagnosis) -> tuple[str, str, str, str]:
    first = diagnosis.first_break
    return (
        diagnosis.outcome,
        first.code if first else "none",
        ", ".join(f"{finding.code} ({finding.severity})" for finding in diagnosis.findings) or "none",
        ", ".join(f"{result.stage} {result.status}" for result in diagnosis.stages),
    )
