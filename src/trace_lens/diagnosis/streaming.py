"""Very many sources, diagnosed in their order as they come: attempts wait for so many sources that may belong to them,
and are told then; what was told is let go.

The names by which messages belong together are kept for the whole run as numbers, so that a match that comes too late
is said, and not passed over.
"""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Iterable, Iterator
from itertools import chain, islice

from trace_lens.diagnosis.diagnosing import Judged, judge_sources, judged_together, remembering
from trace_lens.diagnosis.gathering import Progress, Run, put_together
from trace_lens.diagnosis.judging import Options
from trace_lens.diagnosis.retold import Firsts
from trace_lens.diagnosis.sharing import forks, shared_out
from trace_lens.workspace.records import Workspace
from trace_lens.workspace.sources import SourceFile

WINDOW = 1_000
"""So many further sources an attempt waits for."""
_STEP = 100
"""After so many more, those that waited long enough are told."""
_SHARE = 25


class Streamed:
    """The diagnoses of sources in their order, each with what else its sources hold; `late` counts the sources that
    belong to an attempt that was told before they came.
    """

    def __init__(self, workspace: Workspace, options: Options, told: Progress | None = None) -> None:
        self._run = Run({}, workspace, options)
        self._told = told
        self._offered: set[int] = set()
        self._wanted: set[int] = set()
        self.late = 0

    def of(self, sources: Iterable[SourceFile], workers: int | None = None) -> Iterator[Judged]:
        """What came of the sources, those that belong together as one, in the order of the first of them."""
        held: dict[int, SourceFile] = {}
        waiting: deque[Judged] = deque()
        enough = WINDOW + 1  # the first is told as soon as it may be
        firsts = Firsts()
        for count, told in enumerate(self._judged(sources, held, workers or os.cpu_count() or 1), 1):
            judged = told.after(firsts)
            self.late += self._is_late(judged)
            waiting.append(judged)
            if self._told:
                self._told(count, 0)
            if len(waiting) >= enough:
                yield from self._ready(waiting, held, WINDOW)
                enough = WINDOW + _STEP
        yield from self._ready(waiting, held, 0)

    def _judged(self, sources: Iterable[SourceFile], held: dict[int, SourceFile], workers: int) -> Iterator[Judged]:
        """Each source judged by itself, in order, shared out to processes."""
        numbered = enumerate(sources)
        shares = iter(lambda: list(islice(numbered, _SHARE)), [])
        first = list(islice(shares, 2))
        run = self._run if len(first) < 2 else remembering(self._run, workers)

        def taken(every: Iterable[list[tuple[int, SourceFile]]]) -> Iterator[list[tuple[int, SourceFile]]]:
            for share in every:
                held.update(share)
                yield share

        if len(first) < 2 or not forks(workers):
            for share in taken(chain(first, shares)):
                yield from judge_sources(run, share)
            return
        if first[0]:  # what has to be made ready for one is ready in every process then
            (begun,) = taken([first[0][:1]])
            yield from judge_sources(run, begun)
        for done in shared_out(judge_sources, taken(chain([first[0][1:]], first[1:], shares)), workers, run):
            yield from done

    def _ready(self, waiting: deque[Judged], held: dict[int, SourceFile], kept: int) -> Iterator[Judged]:
        """What need wait no longer: all but the newest `kept` sources, with those of these that belong to them."""
        limit = waiting[-1].gathered.at - kept if waiting else 0
        groups = put_together([judged.gathered for judged in waiting])
        alone = {judged.gathered.at: judged for judged in waiting}
        gone: set[int] = set()
        for places in groups:
            if kept and places[0] > limit:
                continue
            gone.update(places)
            if len(places) == 1:
                judged = alone[places[0]]
            else:
                judged = judged_together(self._run._replace(sources={place: held[place] for place in places}), places)
            for place in places:
                self._offered.update(map(hash, alone[place].gathered.offered))
                self._wanted.update(map(hash, alone[place].gathered.wanted))
                del held[place]
            yield judged
        left = [judged for judged in waiting if judged.gathered.at not in gone]
        waiting.clear()
        waiting.extend(left)

    def _is_late(self, judged: Judged) -> bool:
        """Whether a source belongs to one that was told already."""
        found = judged.gathered
        return not self._offered.isdisjoint(map(hash, found.wanted)) or not self._wanted.isdisjoint(
            map(hash, found.offered)
        )
