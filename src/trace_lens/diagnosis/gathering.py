"""Sources gathered: read, put together with those that name their messages, and not yet judged."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from functools import partial
from types import MappingProxyType
from typing import TYPE_CHECKING, TypeVar

from trace_lens.attempts.attempt import Attempt
from trace_lens.attempts.evidence import SourceEvidence, assemble, read_evidence
from trace_lens.common.guarding import Faults
from trace_lens.common.recorded import Verdicts, answered_by, answering
from trace_lens.common.tuples import NamedTuple
from trace_lens.diagnosis.choosing import protocol_at
from trace_lens.diagnosis.judging import Options, case_of
from trace_lens.diagnosis.recording import without_lists
from trace_lens.diagnosis.traces import seen_of
from trace_lens.intake.peeling import Peeled
from trace_lens.logs.matching.seen import LogView, Seen
from trace_lens.workspace.records import Workspace
from trace_lens.workspace.redactions import verdicts_of
from trace_lens.workspace.sources import SourceFile

if TYPE_CHECKING:
    from trace_lens.diagnosis.retold import Retold

T = TypeVar("T")
Progress = Callable[[int, int], None]
"""Hears how many of how many sources were done."""


class Gathered(NamedTuple):
    """What sources that belong together hold, put together but not yet judged; `at` is the place of the first.

    `attempts` are those that the `evidence` makes, `told` is what failed there. `evidence` is None where it was let go,
    since there are too many sources to keep it: then they are read again.
    `wanted` and `offered` are the loose ends by which attempts of other sources may belong to these. `traces` are what
    the attempts show that logs may show too. `vouched` says that something held only as the record of a redacted copy
    has it.
    """

    at: int
    places: tuple[int, ...]
    evidence: tuple[SourceEvidence, ...] | None
    attempts: tuple[Attempt, ...] = ()
    told: tuple[tuple[str, str], ...] = ()
    wanted: Collection[str] = frozenset()
    offered: Collection[str] = frozenset()
    traces: tuple[Seen, ...] = ()
    vouched: bool = False


class Run(NamedTuple):
    """What all sources of a run are judged by; `views` is what the logs hold of each attempt, `retold` remembers what
    was judged.
    """

    sources: Mapping[int, SourceFile]
    workspace: Workspace
    options: Options
    together: bool = False
    views: Mapping[str, LogView] = MappingProxyType({})
    told: Progress | None = None
    retold: Retold | None = None

    def heard(self, items: Iterable[T], whole: int, sizes: int = 1) -> Iterator[T]:
        """Items as they come, with each told to whoever hears how far the work is; `sizes` sources stand for each."""
        for number, item in enumerate(items, 1):
            if self.told:
                self.told(min(number * sizes, whole), whole)
            yield item


Places = tuple[int, ...]
"""The places of sources that belong together."""


def gather(run: Run, places: Places, evidence: tuple[SourceEvidence, ...] | None = None) -> Gathered:
    """Read sources, unless their `evidence` is at hand, and say by what their attempts may belong to others."""
    verdicts = verdicts_for(run, places)
    if holds_stand_ins_alone(run, places):
        run = run._replace(workspace=without_lists(run.workspace))
    with answered_by(answering() or verdicts):
        return _gathered(run, places, evidence)._replace(vouched=verdicts is not None and verdicts.used)


def verdicts_for(run: Run, places: Places) -> Verdicts | None:
    """What the records of redacted copies among some sources say."""
    return verdicts_of([record for place in places if (record := run.sources[place].redaction) is not None])


def holds_stand_ins_alone(run: Run, places: Places) -> bool:
    """Whether sources are redacted copies, and the lists of this workspace were not redacted with them."""
    records = [record for place in places if (record := run.sources[place].redaction) is not None]
    if not records:
        return False
    root = run.workspace.root.resolve() if run.workspace.root else None
    return any(record.folder != root or not record.settings for record in records)


def _gathered(run: Run, places: Places, evidence: tuple[SourceEvidence, ...] | None) -> Gathered:
    faults = Faults()
    held = evidence or tuple(_read(run.sources[place]) for place in places)
    attempts = _assembled(run, held, faults)
    failed = tuple(faults.told)
    ends = [attempt.open_ends for attempt in attempts]
    at = min(places, default=0)
    traces = [
        guarded(faults, attempt, partial(_trace, run, attempt, f"{at}.{number}"))
        for number, attempt in enumerate(attempts)
    ]
    return Gathered(
        at,
        places,
        held,
        tuple(attempts),
        failed,
        frozenset().union(*(wanted for wanted, _ in ends)),
        frozenset().union(*(offered for _, offered in ends)),
        tuple(trace for trace in traces if trace),
    )


def _read(source: SourceFile) -> SourceEvidence:
    """The evidence of a source; where reading it fails, that is its problem."""
    faults = Faults()
    held = faults.attempt(source.name, "reading it", partial(read_evidence, source))
    return held or SourceEvidence(source.name, Peeled(()), problems=(faults.told[0][1],), is_there=False)


def _trace(run: Run, attempt: Attempt, key: str) -> Seen | None:
    """What logs may hold of an attempt; None where none are loaded."""
    return seen_of(case_of(attempt, run.workspace, run.options), key) if run.options.with_logs else None


def _assembled(run: Run, evidence: tuple[SourceEvidence, ...], faults: Faults) -> list[Attempt]:
    """The attempts of some evidence; none, with the reason told, where they cannot be put together."""
    names = ", ".join(held.source for held in evidence)
    known = partial(protocol_at, workspace=run.workspace, app=run.options.app)
    work = partial(assemble, evidence, together=run.together, protocol_at=known)
    return faults.attempt(names, "putting its messages together", work) or []


def join(run: Run, gathered: list[Gathered]) -> list[Gathered]:
    """What was gathered, with the sources that name each other's messages put together."""
    by_place = {group.at: group for group in gathered}
    return [
        by_place[members[0]] if len(members) == 1 else merged(run, [by_place[member] for member in members])
        for members in put_together(gathered)
    ]


def put_together(gathered: Sequence[Gathered]) -> list[tuple[int, ...]]:
    """Which of what was gathered belongs together, by the place of the first source of each, in their order."""
    holders: dict[str, int] = {}
    for group in gathered:
        for name in group.offered:
            holders.setdefault(name, group.at)
    groups: dict[int, set[int]] = {}
    for group in gathered:
        for name in group.wanted:
            other = holders.get(name, group.at)
            if other != group.at and other not in groups.get(group.at, ()):
                merged = groups.get(group.at, {group.at}) | groups.get(other, {other})
                for member in merged:
                    groups[member] = merged
    made: list[tuple[int, ...]] = []
    done: set[int] = set()
    for group in gathered:
        members = groups.get(group.at)
        if members is None:
            made.append((group.at,))
        elif group.at not in done:
            done |= members
            made.append(tuple(sorted(members)))
    return made


def merged(run: Run, groups: list[Gathered]) -> Gathered:
    """Several groups as one, whose messages are put together anew."""
    places = tuple(place for group in groups for place in group.places)
    kept = [group.evidence for group in groups]
    evidence = None if None in kept else tuple(held for part in kept for held in part or ())
    return gather(run, places, evidence)


def attempts_of(sources: Iterable[SourceFile]) -> tuple[list[Attempt], list[tuple[str, str]]]:
    """The attempts of sources without judging them, and the sources (with the reason) that hold none."""
    return attempts_in([read_evidence(source) for source in sources])


def attempts_in(evidence: Sequence[SourceEvidence]) -> tuple[list[Attempt], list[tuple[str, str]]]:
    """The same for what was read already."""
    told = [(held.source, because) for held in evidence for because in held.problems]
    for held in evidence:
        if held.is_there and not held.saml and not held.oidc:
            kinds = ", ".join(held.kinds)
            told.append((held.source, f"it holds only: {kinds}" if kinds else held.peeled.because))
    return assemble(evidence), told


def guarded(faults: Faults, attempt: Attempt, work: Callable[[], T]) -> T | None:
    """What judging an attempt gives; None where it failed."""
    main = attempt.main
    where = main.found.where
    return faults.attempt(main.source, f"judging the attempt at {where}" if where else "judging it", work)
