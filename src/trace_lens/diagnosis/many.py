"""Many sources into diagnoses: each judged by itself, so that one bad source never stops the rest."""

from __future__ import annotations

import multiprocessing
import os
from collections.abc import Iterable
from typing import NamedTuple

from trace_lens.attempts.assembly import attempts_in
from trace_lens.diagnosis.judging import Circumstances, Diagnosis, diagnose
from trace_lens.intake.peeling import peel
from trace_lens.workspace.loading import Workspace
from trace_lens.workspace.sources import SourceFile

MANY = 200
"""From this many sources on, the work is worth sharing out."""


class Result(NamedTuple):
    """What came of all sources: the diagnoses, and the sources (with the reason) that hold no sign-in."""

    diagnoses: tuple[Diagnosis, ...]
    unreadable: tuple[tuple[str, str], ...]

    @staticmethod
    def joined(parts: Iterable[Result]) -> Result:
        """Several results as one, the diagnoses numbered through."""
        found = list(parts)
        diagnoses = [one for part in found for one in part.diagnoses]
        numbered = tuple(one._replace(id=str(number)) for number, one in enumerate(diagnoses, 1))
        return Result(numbered, tuple(failed for part in found for failed in part.unreadable))

    def exit_status(self, *, strict: bool) -> int:
        """3 a source could not be read, 1 something breaks (or, if strict, is inconclusive), 0 otherwise."""
        if self.unreadable:
            return 3
        outcomes = {one.outcome for one in self.diagnoses}
        return int("broken" in outcomes or (strict and "inconclusive" in outcomes))


def diagnose_sources(
    sources: Iterable[SourceFile], workspace: Workspace, told: Circumstances, workers: int | None = None
) -> Result:
    """Diagnose every attempt of every source, in their order.

    Many sources are shared out to `workers` processes (one a core where it is None). Raises SettingsError where a list
    of the workspace cannot be used.
    """
    found = list(sources)
    workers = workers or os.cpu_count() or 1
    if workers == 1 or len(found) < MANY or "fork" not in multiprocessing.get_all_start_methods():
        return Result.joined([_of_sources(found, workspace, told)])
    from concurrent.futures import ProcessPoolExecutor

    size = -(-len(found) // (workers * 4))
    shares = [found[start : start + size] for start in range(0, len(found), size)]
    fork = multiprocessing.get_context("fork")
    with ProcessPoolExecutor(workers, fork, initializer=_begin, initargs=(workspace, told)) as pool:
        return Result.joined(pool.map(_of_share, shares))


_circumstances: list[tuple[Workspace, Circumstances]] = []
"""In a worker process: what its shares are judged by. A forked process gets it whole, without any copying."""


def _begin(workspace: Workspace, told: Circumstances) -> None:
    _circumstances[:] = [(workspace, told)]


def _of_share(sources: list[SourceFile]) -> Result:
    workspace, told = _circumstances[0]
    return _of_sources(sources, workspace, told)


def _of_sources(sources: list[SourceFile], workspace: Workspace, told: Circumstances) -> Result:
    diagnoses: list[Diagnosis] = []
    unreadable: list[tuple[str, str]] = []
    for source in sources:
        found, because = _of_source(source, workspace, told, len(diagnoses) + 1)
        diagnoses += found
        if because:
            unreadable.append((source.name, because))
    return Result(tuple(diagnoses), tuple(unreadable))


def _of_source(
    source: SourceFile, workspace: Workspace, told: Circumstances, number: int
) -> tuple[list[Diagnosis], str | None]:
    if source.data is None:
        return [], source.problem
    peeled = peel(source.data)
    if not peeled.found:
        return [], peeled.because
    attempts = list(attempts_in(source.name, peeled))
    if not attempts:
        kinds = ", ".join(dict.fromkeys(found.kind for found in peeled.found))
        return [], f"it holds no answer of a sign-in to diagnose, only: {kinds}"
    return [diagnose(one, workspace, told, number + i) for i, one in enumerate(attempts)], None
