"""Many sources into diagnoses: each judged by itself, so that one bad source never stops the rest.

Sources are read, put together where an attempt of one names a message of another (its request, its sign-in), laid
beside the logs, and only then judged. Where they are many they are shared out to all cores.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import partial
from typing import TYPE_CHECKING

from trace_lens.attempts.attempt import Attempt
from trace_lens.attempts.evidence import SourceEvidence
from trace_lens.attempts.journeys import carried_by, steps_in
from trace_lens.common.addresses import plain
from trace_lens.common.guarding import Faults
from trace_lens.common.recorded import answered_by, answering
from trace_lens.common.tuples import NamedTuple
from trace_lens.diagnosis.gathering import (
    Gathered,
    Places,
    Progress,
    Run,
    T,
    gather,
    guarded,
    holds_stand_ins_alone,
    join,
    verdicts_for,
)
from trace_lens.diagnosis.given_up import taken_up
from trace_lens.diagnosis.grouping import CauseKey, cause_key
from trace_lens.diagnosis.judging import Diagnosis, Options, case_of, judge
from trace_lens.diagnosis.later import Broken, LaterDiagnosis, later
from trace_lens.diagnosis.proving import proven
from trace_lens.diagnosis.recording import as_recorded, for_stand_ins, without_lists
from trace_lens.diagnosis.sharing import INTERRUPTED, forks, shared_out
from trace_lens.intake.straight import straight
from trace_lens.workspace.records import Workspace
from trace_lens.workspace.sources import HeldSources, SourceFile

if TYPE_CHECKING:
    from trace_lens.checks.oidc.case import OidcCase
    from trace_lens.checks.saml.case import SamlCase
    from trace_lens.diagnosis.logbook import Logbook
    from trace_lens.diagnosis.retold import Again, Firsts, Retold
    from trace_lens.diagnosis.sound import Sound
    from trace_lens.logs.matching.clocks import Clock

_AGAINST_EXPECTATION = ("record-contradicted", "application-too-lenient")
MANY = 200
"""From this many sources on, the work is worth sharing out."""
_SHARE = 100
"""So many sources at most are handed to a process at a time."""


class Unplaced(NamedTuple):
    """A step of a capture that belongs to no sign-in in it; the address comes without query and fragment."""

    source: str
    place: str
    method: str
    url: str
    status: int
    carries: tuple[str, ...]


class Result(NamedTuple):
    """What came of all sources: the diagnoses, the sources (with the reason) that hold no sign-in, and the steps of
    captures that belong to none.

    `clocks` are those of the logs that were laid beside, `log_problem` why none could be. `left` counts the sources
    that were not judged, since an interruption ended the run before.
    """

    diagnoses: tuple[Diagnosis, ...]
    unreadable: tuple[tuple[str, str], ...]
    unplaced: tuple[Unplaced, ...] = ()
    clocks: tuple[Clock, ...] = ()
    log_problem: str | None = None
    left: int = 0

    def exit_status(self, *, strict: bool) -> int:
        """130 the run was interrupted, 3 a source could not be read, 1 something breaks, 0 otherwise.

        If strict, what is inconclusive counts as 1, and so does a sign-in that went through against the record, or
        although the application must refuse it.
        """
        if self.left:
            return INTERRUPTED
        if self.unreadable:
            return 3
        outcomes = {diagnosis.outcome for diagnosis in self.diagnoses}
        if strict:
            codes = {
                finding.code for diagnosis in self.diagnoses for finding in diagnosis.findings if not finding.accepted
            }
            return int((outcomes != {"sound"} and bool(outcomes)) or not codes.isdisjoint(_AGAINST_EXPECTATION))
        return int("broken" in outcomes)


class Judged(NamedTuple):
    """What came of sources that belong together.

    `again` is what is told of a source after the diagnosis of another, and `first` that diagnosis where it comes along
    from another process; `diagnoses` holds it then, until all of it is told (`whole`).
    """

    gathered: Gathered
    diagnoses: tuple[Diagnosis, ...] = ()
    unreadable: tuple[tuple[str, str], ...] = ()
    unplaced: tuple[Unplaced, ...] = ()
    again: Again | None = None
    first: Diagnosis | None = None

    def after(self, firsts: Firsts) -> Judged:
        """The same with the diagnosis that it is told after, where it is."""
        return self._replace(diagnoses=(firsts.of(self.again, self.first),)) if self.again else self

    @property
    def whole(self) -> Judged:
        """The same with its own diagnosis."""
        if self.again is None:
            return self
        from trace_lens.diagnosis.retold import told_after

        (first,) = self.diagnoses
        return self._replace(diagnoses=(told_after(first, self.again),), again=None)


def diagnose_sources(
    sources: Iterable[SourceFile],
    workspace: Workspace,
    options: Options,
    workers: int | None = None,
    *,
    together: bool = False,
    logbook: Logbook | None = None,
    told: Progress | None = None,
    brief: bool = False,
    stops: bool = False,
) -> Result:
    """Diagnose every attempt of every source, in their order; `together` says that all are of one attempt. `brief` says
    that of many sound ones little more than the outcome is wanted: the rest of these is made when it is looked at. If
    it `stops`, an interruption ends a run over many sources with what was judged until it came.

    `told` hears how many sources of how many were read or judged, as the work goes on.

    Where there is a `logbook`, what the logs hold of the attempts is found for all of them together before any is
    judged; where its store cannot be used the result says so and is without.

    Each source is read once and each attempt judged once. Many sources are shared out to `workers` processes (one a
    core where it is None): there, a source is read again if it belongs together with another, or if logs are loaded.
    Raises SettingsError where a list of the workspace cannot be used.
    """
    run = Run(HeldSources(sources), workspace, options, together, told=told)
    alone: list[Places] = [(place,) for place in run.sources]
    if together:
        return _with_logs(run, [gather(run, tuple(run.sources))], logbook)
    workers = workers or os.cpu_count() or 1
    if len(alone) < MANY:
        gathered = [gather(run, places) for places in run.heard(alone, len(alone))]
        return _with_logs(run, join(run, gathered), logbook)
    if logbook is not None:
        gathered = _shared(_gather_share, run, alone, workers)
        return _with_logs(run, join(run, gathered), logbook, workers, stops=stops)
    whole, run = run, run._replace(options=options._replace(prove=options.prove and not brief))
    judge_share = _judge_share_briefly if brief and _may_be_brief(run) else _judge_share
    from trace_lens.diagnosis.retold import Firsts

    firsts = Firsts()
    shared = _shared(judge_share, remembering(run, workers), alone, workers, stops=stops)
    left = len(alone) - len(shared)
    judged = {part.gathered.at: part.after(firsts).whole for part in shared}
    joined = join(run, [part.gathered for part in judged.values()])
    parts = [judged[gathered.at] if len(gathered.places) == 1 else _judge(run, gathered) for gathered in joined]
    del judged, joined  # of very many sources there is only room for one copy
    if whole.options.prove and brief:
        parts = _with_proven_values(parts, whole)
    result = _result(parts)._replace(left=left)
    return _with_rests(result, whole) if judge_share is _judge_share_briefly else result


def _with_proven_values(parts: list[Judged], run: Run) -> list[Judged]:
    """What was judged, with the value to set of each cause tried on its first attempt: a value that does not help there
    is offered to none.
    """
    helps: dict[CauseKey, bool] = {}

    def tried(part: Judged, place: int, diagnosis: Diagnosis) -> Diagnosis:
        first = diagnosis.first_break
        if first is None or first.value_to_set is None:
            return diagnosis
        key = cause_key(diagnosis, first)
        if key not in helps:
            again = _judge(run, gather(run, part.gathered.places)).diagnoses[place].first_break
            helps[key] = again is not None and again.value_to_set is not None
        if helps[key]:
            return diagnosis
        return diagnosis._replace(first_break=first._replace(value_to_set=None), proposal=None)

    return [
        part._replace(diagnoses=tuple(tried(part, place, item) for place, item in enumerate(part.diagnoses)))
        for part in parts
    ]


def _may_be_brief(run: Run) -> bool:
    """Whether messages may be judged on the strict path: nothing is told or supposed of them beforehand."""
    options = run.options
    return not (options.at or options.app or options.provider or options.supposed or answering())


def remembering(run: Run, workers: int) -> Run:
    """A run each of whose processes remembers what it judged, for what is like that; not where anything is told or
    supposed beforehand.
    """
    from trace_lens.diagnosis.repeated import dates_on_record
    from trace_lens.diagnosis.retold import MOST, Retold

    if not _may_be_brief(run) or run.options.with_logs:
        return run
    return run._replace(
        retold=Retold({*dates_on_record(run.workspace), run.options.now}, run.workspace, MOST // workers)
    )


def _with_rests(result: Result, run: Run) -> Result:
    """The result, with how the rest of each diagnosis that was made briefly is made."""
    make = partial(_whole_of, run)
    for diagnosis in result.diagnoses:
        if isinstance(diagnosis, LaterDiagnosis):
            diagnosis.rest.make = make
    return result


def _whole_of(run: Run, place: int) -> Diagnosis:
    (diagnosis,) = _judge(run, gather(run, (place,))).diagnoses
    return diagnosis


def _with_logs(
    run: Run, gathered: list[Gathered], logbook: Logbook | None, workers: int = 1, *, stops: bool = False
) -> Result:
    """The result of all that was gathered, where logs are loaded with what they say."""
    clocks: tuple[Clock, ...] = ()
    problem = None
    if logbook is not None and any(group.traces for group in gathered):
        from trace_lens.logs.store.manifest import StoreProblem

        try:
            beside = logbook.lay_beside([trace for group in gathered for trace in group.traces])
        except StoreProblem as error:
            problem = str(error)
        else:
            run, clocks = run._replace(views=beside.views), beside.clocks
    if workers == 1 or len(gathered) < MANY:
        judged = [_judge(run, group) for group in run.heard(gathered, len(gathered))]
    else:
        judged = _shared(_judge_share, run, [group.places for group in gathered], workers, stops=stops)
    left = sum(len(group.places) for group in gathered[len(judged) :])
    return _result(judged)._replace(clocks=clocks, log_problem=problem, left=left)


def _result(judged: list[Judged]) -> Result:
    """All that was judged as one result, the diagnoses numbered through; the list is empty then."""
    judged.sort(key=lambda part: part.gathered.at, reverse=True)
    numbered: list[Diagnosis] = []
    unreadable: list[tuple[str, str]] = []
    unplaced: list[Unplaced] = []
    while judged:
        part = judged.pop()
        for diagnosis in part.diagnoses:
            numbered.append(diagnosis._replace(id=str(len(numbered) + 1)))
        unreadable += part.unreadable
        unplaced += part.unplaced
    return Result(tuple(numbered), tuple(unreadable), tuple(unplaced))


def _gather_share(run: Run, share: list[Places]) -> list[Gathered]:
    return [_let_go(gather(run, places)) for places in share]


def _judge_share(run: Run, share: list[Places]) -> list[Judged]:
    if run.retold is None:
        return [_judged_alone(run, places) for places in share]
    return [_told_again(run, places, run.retold) for places in share]


def _judged_alone(run: Run, places: Places) -> Judged:
    judged = _judge(run, gather(run, places))
    return judged._replace(gathered=_let_go(judged.gathered))


def _told_again(run: Run, places: Places, retold: Retold) -> Judged:
    """A source judged in full: as one that it is like, where it is."""
    from trace_lens.diagnosis.likeness import likeness

    (place,), source = places, run.sources[places[0]]
    like = likeness(source, run.workspace)
    if like is None:
        return _judged_alone(run, places)
    known = retold.known(source.name, like)
    if known:
        again, first, told = known
        return Judged(_alone(place, told), again=again, first=first)
    judged = _judged_alone(run, places)
    if len(judged.diagnoses) == 1 and not judged.unreadable and not judged.unplaced:
        retold.learn(like, judged.diagnoses[0])
    return judged


def _judge_share_briefly(run: Run, share: list[Places]) -> list[Judged]:
    return [_judged_briefly(run, places) for places in share]


def _judged_briefly(run: Run, places: Places) -> Judged:
    """A source judged on the strict path, where its one message is sound or breaks as others did; else in full."""
    from trace_lens.diagnosis.repeated import Repeated
    from trace_lens.diagnosis.strict import MOST_BYTES, read, sound_as_read
    from trace_lens.diagnosis.strict_tokens import sound_token

    (place,), source = places, run.sources[places[0]]
    if source.data is None or source.path is not None or source.redaction is not None or len(source.data) > MOST_BYTES:
        return _judged_alone(run, places)
    if source.data[:3] == b"eyJ":
        token = sound_token(source.data, run.workspace)
        return _later(source, place, token) if token else _judged_alone(run, places)
    found = straight(source.data)
    held = read(found.data, run.workspace) if found and found.kind == "saml-response" else None
    if found is None or held is None:
        return _judged_alone(run, places)
    told = sound_as_read(held, run.workspace)
    if told:
        return _later(source, place, told)
    repeated = run.workspace.once("repeated", lambda: Repeated(run.workspace))
    again = repeated.known(held)
    if again:
        broken, mended = again
        return _later(source, place, mended, broken)
    judged = _judged_alone(run, places)
    if len(judged.diagnoses) == 1 and not judged.unreadable and judged.diagnoses[0].outcome == "broken":
        repeated.learn(found.data, held, judged.diagnoses[0])
    return judged


def _later(source: SourceFile, place: int, told: Sound, broken: Broken | None = None) -> Judged:
    return Judged(_alone(place, told), (later(source.name, place, told, broken),))


def _alone(place: int, told: Sound) -> Gathered:
    """A source of which only that is known by which it may belong to others."""
    return Gathered(place, (place,), None, wanted=tuple(told.wanted), offered=tuple(told.offered))


def _let_go(gathered: Gathered) -> Gathered:
    """What was gathered without what it was gathered from: that is large, and cannot leave its process."""
    return gathered._replace(evidence=None, attempts=())


def _shared(
    work: Callable[[Run, list[Places]], list[T]],
    run: Run,
    groups: list[Places],
    workers: int,
    *,
    stops: bool = False,
) -> list[T]:
    """What the work gives for all groups, shared out to processes where there are several; if it `stops`, an
    interruption ends it with what is done by then, where anything is.
    """
    size = min(_SHARE, -(-len(groups) // (workers * 4)))
    shares = [groups[start : start + size] for start in range(0, len(groups), size)]
    done: Iterable[list[T]] = (work(run, share) for share in shares)
    if forks(workers):
        done = shared_out(work, shares, workers, run._replace(told=None))
    parts: list[T] = []
    try:
        for share in run.heard(done, len(groups), size):
            parts += share
    except KeyboardInterrupt:
        if not (stops and parts):
            raise
    return parts


def _judge(run: Run, gathered: Gathered) -> Judged:
    """The diagnoses of sources that belong together.

    What makes the program fail, be it a source, a message or an attempt, is told as unreadable, and the rest goes on.
    """
    if gathered.evidence is None:
        gathered = gather(run._replace(options=run.options._replace(with_logs=False)), gathered.places)
    verdicts = verdicts_for(run, gathered.places)
    apart = holds_stand_ins_alone(run, gathered.places)
    if apart:
        run = run._replace(workspace=without_lists(run.workspace))
    with answered_by(answering() or verdicts):
        judged = _judged(run, gathered)
    if verdicts is None:
        return judged
    if apart:
        judged = judged._replace(diagnoses=tuple(map(for_stand_ins, judged.diagnoses)))
    vouched = (gathered.vouched or verdicts.used) and not run.workspace.trust.everything
    return judged._replace(diagnoses=tuple(as_recorded(diagnosis, vouched=vouched) for diagnosis in judged.diagnoses))


def _judged(run: Run, gathered: Gathered) -> Judged:
    faults = Faults()
    evidence, attempts = gathered.evidence or (), gathered.attempts
    for held in evidence:
        for because in (*held.problems, *filter(None, (held.without_sign_in(together=run.together),))):
            faults.tell(held.source, because)
    for source, because in gathered.told:
        faults.tell(source, because)
    cases, diagnoses = [], []
    for number, attempt in enumerate(attempts):
        view = run.views.get(f"{gathered.at}.{number}")
        case = guarded(faults, attempt, partial(case_of, attempt, run.workspace, run.options, view))
        diagnosis = case and guarded(faults, attempt, partial(judge, case, run.options))
        if case and diagnosis:
            cases.append(case)
            diagnoses.append(diagnosis)
    names = ", ".join(held.source for held in evidence)
    weighed = faults.attempt(names, "weighing its attempts", partial(taken_up, cases, diagnoses))
    whole = [
        guarded(faults, case.attempt, partial(_whole, case, diagnosis, run.options)) or diagnosis
        for case, diagnosis in (weighed or list(zip(cases, diagnoses, strict=True)))
    ]
    return Judged(
        gathered,
        tuple(diagnosis for diagnosis in whole if diagnosis),
        tuple(faults.told),
        tuple(_unplaced(attempts, evidence)),
    )


def _whole(case: SamlCase | OidcCase, diagnosis: Diagnosis | None, options: Options) -> Diagnosis:
    """A diagnosis with its values tried, where that is asked for; judged anew where there is none."""
    diagnosis = diagnosis or judge(case, options)
    return proven(diagnosis, case, options) if options.prove else diagnosis


def _unplaced(attempts: Sequence[Attempt], evidence: Iterable[SourceEvidence]) -> Iterator[Unplaced]:
    """The steps of captures that no attempt has."""
    taken = {
        (attempt.way.source, hop.exchange.number) for attempt in attempts if attempt.way for hop in attempt.way.hops
    }
    for held in evidence:
        carried = carried_by(held.found)
        for step in steps_in(held.capture, carried) if held.capture else ():
            if (held.source, step.number) not in taken:
                kinds = tuple(dict.fromkeys(found.kind for found in carried.get(step.number, ())))
                yield Unplaced(held.source, step.place, step.method, plain(step.url), step.status, kinds)


def judge_sources(run: Run, share: Sequence[tuple[int, SourceFile]]) -> list[Judged]:
    """Some sources with their places, each judged by itself."""
    return _judge_share(run._replace(sources=dict(share)), [(place,) for place, _ in share])


def judged_together(run: Run, places: tuple[int, ...]) -> Judged:
    """Sources that belong together, read and judged as one."""
    return _judge(run, gather(run, places))
