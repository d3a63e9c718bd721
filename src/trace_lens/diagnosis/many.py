"""Many sources into diagnoses: each judged by itself, so that one bad source never stops the rest.

Sources are judged one by one, shared out to all cores where they are many. Where an attempt of one source names a
message of another (its request, its sign-in), those sources are then judged again together.
"""

from __future__ import annotations

import multiprocessing
import os
from collections.abc import Callable, Iterable, Iterator
from functools import partial
from typing import TYPE_CHECKING, NamedTuple, TypeVar

from trace_lens.attempts.assembly import Attempt, assemble
from trace_lens.attempts.journeys import carried_by, steps_in
from trace_lens.attempts.oidc import OidcAttempt, OidcMessage, assemble_oidc, hold_attempt, read_oidc
from trace_lens.attempts.placing import hosts_of, placed, way_alone
from trace_lens.attempts.reading import Message, read_messages
from trace_lens.checks.oidc.case import OidcCase
from trace_lens.checks.saml.case import SamlCase
from trace_lens.common.addresses import plain
from trace_lens.common.guarding import Faults
from trace_lens.diagnosis.choosing import protocol_at
from trace_lens.diagnosis.given_up import taken_up
from trace_lens.diagnosis.judging import Circumstances, Diagnosis, case_of, judge
from trace_lens.diagnosis.proving import proven
from trace_lens.diagnosis.traces import seen_of
from trace_lens.intake.peeling import Peeled
from trace_lens.logs.matching.seen import LogView, Seen
from trace_lens.workspace.loading import Workspace
from trace_lens.workspace.sources import SourceFile

if TYPE_CHECKING:
    from trace_lens.diagnosis.logbook import Logbook
    from trace_lens.logs.matching.clocks import Clock

T = TypeVar("T")
_AGAINST_EXPECTATION = ("record-contradicted", "application-too-lenient")
MANY = 200
"""From this many sources on, the work is worth sharing out."""


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

    `clocks` are those of the logs that were laid beside, `log_problem` why none could be.
    """

    diagnoses: tuple[Diagnosis, ...]
    unreadable: tuple[tuple[str, str], ...]
    unplaced: tuple[Unplaced, ...] = ()
    clocks: tuple[Clock, ...] = ()
    log_problem: str | None = None

    def exit_status(self, *, strict: bool) -> int:
        """3 a source could not be read, 1 something breaks, 0 otherwise.

        If strict, what is inconclusive counts as 1, and so does a sign-in that went through against the record, or
        although the application must refuse it.
        """
        if self.unreadable:
            return 3
        outcomes = {diagnosis.outcome for diagnosis in self.diagnoses}
        if strict:
            codes = {
                finding.code for diagnosis in self.diagnoses for finding in diagnosis.findings if not finding.accepted
            }
            return int((outcomes != {"sound"} and bool(outcomes)) or not codes.isdisjoint(_AGAINST_EXPECTATION))
        return int("broken" in outcomes)


class _Judged(NamedTuple):
    """What came of one source, or of several that belong together; `at` is its place among the sources.

    `wanted` and `offered` are the loose ends by which attempts of other sources may belong to it. `places` are the
    sources that it is of, and `seen` what its attempts show that logs may show too.
    """

    at: int
    diagnoses: tuple[Diagnosis, ...]
    unreadable: tuple[tuple[str, str], ...] = ()
    unplaced: tuple[Unplaced, ...] = ()
    wanted: frozenset[str] = frozenset()
    offered: frozenset[str] = frozenset()
    places: tuple[int, ...] = ()
    seen: tuple[Seen, ...] = ()


def diagnose_sources(
    sources: Iterable[SourceFile],
    workspace: Workspace,
    told: Circumstances,
    workers: int | None = None,
    *,
    together: bool = False,
    logbook: Logbook | None = None,
) -> Result:
    """Diagnose every attempt of every source, in their order; `together` says that all are of one attempt.

    Where there is a `logbook`, what the logs hold of the attempts is found for all of them together, and they are
    judged once more with it; where its store cannot be used the result says so and is without.

    Many sources are shared out to `workers` processes (one a core where it is None). Raises SettingsError where a list
    of the workspace cannot be used.
    """
    found = list(enumerate(sources))
    if together:
        judged = [_of_group(found, workspace, told, together=True)]
        return _with_logs(judged, dict(found), workspace, told, logbook, together=True)
    workers = workers or os.cpu_count() or 1
    judged = _of_each([[source] for source in found], workspace, told, workers)
    joined = list(_joined(judged, dict(found), workspace, told))
    return _with_logs(joined, dict(found), workspace, told, logbook, workers=workers)


def _with_logs(
    judged: list[_Judged],
    sources: dict[int, SourceFile],
    workspace: Workspace,
    told: Circumstances,
    logbook: Logbook | None,
    *,
    together: bool = False,
    workers: int = 1,
) -> Result:
    """The result, where logs are loaded with what they say."""
    if logbook is None or not any(item.seen for item in judged):
        return _result(judged)
    from trace_lens.logs.store.store import StoreProblem

    try:
        beside = logbook.lay_beside([seen for item in judged for seen in item.seen])
    except StoreProblem as error:
        return _result(judged)._replace(log_problem=str(error))
    groups = [[(place, sources[place]) for place in item.places] for item in judged if item.seen]
    silent = [item for item in judged if not item.seen]
    made = _of_each(groups, workspace, told, workers, beside.views, together=together)
    return _result([*silent, *made])._replace(clocks=beside.clocks)


def _result(judged: Iterable[_Judged]) -> Result:
    """All that was judged as one result, the diagnoses numbered through."""
    found = sorted(judged, key=lambda item: item.at)
    diagnoses = [diagnosis for item in found for diagnosis in item.diagnoses]
    numbered = tuple(diagnosis._replace(id=str(number)) for number, diagnosis in enumerate(diagnoses, 1))
    return Result(
        numbered,
        tuple(failed for item in found for failed in item.unreadable),
        tuple(step for item in found for step in item.unplaced),
    )


_Group = list[tuple[int, SourceFile]]
"""Sources that are judged together, with their places."""
_for_workers: list[tuple[Workspace, Circumstances, dict[str, LogView]]] = []
"""In a worker process: what its shares are judged by. A forked process gets it whole, without any copying."""


def _begin(workspace: Workspace, told: Circumstances, views: dict[str, LogView]) -> None:
    _for_workers[:] = [(workspace, told, views)]


def _of_share(share: list[_Group]) -> list[_Judged]:
    workspace, told, views = _for_workers[0]
    return [_of_group(group, workspace, told, views=views) for group in share]


def _of_each(
    groups: list[_Group],
    workspace: Workspace,
    told: Circumstances,
    workers: int,
    views: dict[str, LogView] | None = None,
    *,
    together: bool = False,
) -> list[_Judged]:
    """What comes of each group, shared out where they are many; `views` is what the logs say of their attempts."""
    known = views or {}
    if workers == 1 or len(groups) < MANY or "fork" not in multiprocessing.get_all_start_methods():
        return [_of_group(group, workspace, told, together=together, views=known) for group in groups]
    from concurrent.futures import ProcessPoolExecutor

    size = -(-len(groups) // (workers * 4))
    shares = [groups[start : start + size] for start in range(0, len(groups), size)]
    fork = multiprocessing.get_context("fork")
    with ProcessPoolExecutor(workers, fork, initializer=_begin, initargs=(workspace, told, known)) as pool:
        return [item for share in pool.map(_of_share, shares) for item in share]


class _Read(NamedTuple):
    """What sources hold: messages of both protocols, captures by source, and ways without any message."""

    messages: list[Message]
    of_oidc: list[OidcMessage]
    captures: dict[str, Peeled]
    alone: list[Attempt | OidcAttempt]


def _of_group(
    group: list[tuple[int, SourceFile]],
    workspace: Workspace,
    told: Circumstances,
    *,
    together: bool = False,
    views: dict[str, LogView] | None = None,
) -> _Judged:
    """The diagnoses of sources whose messages may belong together; `views` is what the logs say of their attempts.

    What makes the program fail, be it a source, a message or an attempt, is told as unreadable, and the rest goes on.
    """
    faults = Faults()
    read = _Read([], [], {}, [])
    for _, source in group:
        faults.attempt(source.name, "reading it", partial(_read_into, read, source, workspace, told, faults, together))
    names = ", ".join(source.name for _, source in group)
    put_together = faults.attempt(names, "putting its messages together", partial(_attempts_of, read, together)) or []
    at = min((at for at, _ in group), default=0)
    known = views or {}
    cases, keys, diagnoses = [], [], []
    for number, attempt in enumerate(put_together):
        key = f"{at}.{number}"
        case = _guarded(faults, attempt, partial(case_of, attempt, workspace, told, known.get(key)))
        diagnosis = case and _guarded(faults, attempt, partial(judge, case, told))
        if case and diagnosis:
            cases.append(case)
            keys.append(key)
            diagnoses.append(diagnosis)
    weighed = faults.attempt(names, "weighing its attempts", partial(taken_up, cases, diagnoses))
    if weighed is None:
        weighed = list(zip(cases, diagnoses, strict=True))
    whole = [
        _guarded(faults, case.attempt, partial(_whole, case, diagnosis, told)) or diagnosis
        for case, diagnosis in weighed
    ]
    ends = [attempt.open_ends for attempt in put_together]
    traces = (
        [_guarded(faults, case.attempt, partial(seen_of, case, key)) for case, key in zip(cases, keys, strict=True)]
        if told.with_logs
        else []
    )
    return _Judged(
        at=at,
        diagnoses=tuple(diagnosis for diagnosis in whole if diagnosis),
        unreadable=tuple(faults.told),
        unplaced=tuple(_unplaced(put_together, read.captures)),
        wanted=frozenset().union(*(wanted for wanted, _ in ends)),
        offered=frozenset().union(*(offered for _, offered in ends)),
        places=tuple(place for place, _ in group),
        seen=tuple(seen for seen in traces if seen),
    )


def _read_into(
    read: _Read, source: SourceFile, workspace: Workspace, told: Circumstances, faults: Faults, together: bool
) -> None:
    """Read one source, and tell why where it holds no sign-in."""
    opened = _opened(source, faults)
    if opened is None:
        return
    peeled, messages, of_oidc = opened
    read.messages.extend(messages)
    read.of_oidc.extend(of_oidc)
    if peeled.capture:
        read.captures[source.name] = peeled
    if not peeled.found:
        faults.tell(source.name, peeled.because)
    elif (
        not messages
        and not of_oidc
        and not together
        and (way := way_alone(source.name, peeled, protocol_at(hosts_of(peeled), workspace, told.app)))
    ):
        read.alone.append(way)
    elif not messages and not (together and of_oidc) and not hold_attempt(of_oidc):
        kinds = ", ".join(dict.fromkeys(found.kind for found in peeled.found))
        faults.tell(source.name, f"it holds no message of a sign-in to diagnose, only: {kinds}")


def _opened(source: SourceFile, faults: Faults) -> tuple[Peeled, list[Message], list[OidcMessage]] | None:
    """What stands in a source, and its messages of both protocols; None, with the reason told, where nothing does."""
    peeled = source.peeled()
    if peeled is None:
        faults.tell(source.name, source.problem or "")
        return None
    if peeled.left_out:
        faults.tell(source.name, peeled.left_out)
    return peeled, read_messages(source.name, peeled, faults), read_oidc(source.name, peeled, faults)


def _attempts_of(read: _Read, together: bool) -> list[Attempt | OidcAttempt]:
    return [*placed(assembled(read.messages, read.of_oidc, together=together), read.captures), *read.alone]


def _guarded(faults: Faults, attempt: Attempt | OidcAttempt, work: Callable[[], T]) -> T | None:
    """What judging an attempt gives; None where it failed."""
    main = attempt.main
    where = main.found.where
    return faults.attempt(main.source, f"judging the attempt at {where}" if where else "judging it", work)


def _whole(case: SamlCase | OidcCase, diagnosis: Diagnosis | None, told: Circumstances) -> Diagnosis:
    """A diagnosis with its values tried, where that is asked for; judged anew where there is none."""
    diagnosis = diagnosis or judge(case, told)
    return proven(diagnosis, case, told) if told.prove else diagnosis


def _unplaced(attempts: list[Attempt | OidcAttempt], captures: dict[str, Peeled]) -> Iterator[Unplaced]:
    """The steps of captures that no attempt has."""
    taken = {
        (attempt.way.source, hop.exchange.number) for attempt in attempts if attempt.way for hop in attempt.way.hops
    }
    for source, peeled in captures.items():
        carried = carried_by(peeled.found)
        for step in steps_in(peeled.capture, carried) if peeled.capture else ():
            if (source, step.number) not in taken:
                kinds = tuple(dict.fromkeys(found.kind for found in carried.get(step.number, ())))
                yield Unplaced(
                    source=source,
                    place=step.place,
                    method=step.method,
                    url=plain(step.url),
                    status=step.status,
                    carries=kinds,
                )


def assembled(
    messages: list[Message], of_oidc: list[OidcMessage], *, together: bool = False
) -> list[Attempt | OidcAttempt]:
    """The attempts of both protocols."""
    found: list[Attempt | OidcAttempt] = [*(assemble(messages, together=together) if messages else ())]
    return [*found, *assemble_oidc(of_oidc, together=together)]


def _joined(
    judged: list[_Judged], sources: dict[int, SourceFile], workspace: Workspace, told: Circumstances
) -> Iterator[_Judged]:
    """What was judged, with the sources that name each other's messages judged again together."""
    holders: dict[str, int] = {}
    for item in judged:
        for name in item.offered:
            holders.setdefault(name, item.at)
    groups: dict[int, set[int]] = {item.at: {item.at} for item in judged}
    for item in judged:
        for name in item.wanted & holders.keys():
            if holders[name] != item.at and groups[item.at] is not groups[holders[name]]:
                merged = groups[item.at] | groups[holders[name]]
                for member in merged:
                    groups[member] = merged
    by_place = {item.at: item for item in judged}
    done: set[int] = set()
    for at, group in groups.items():
        if at in done:
            continue
        done |= group
        if len(group) == 1:
            yield by_place[at]
        else:
            yield _of_group([(number, sources[number]) for number in sorted(group)], workspace, told)


def attempts_of(sources: Iterable[SourceFile]) -> tuple[list[Attempt | OidcAttempt], list[tuple[str, str]]]:
    """The attempts of sources without judging them, and the sources (with the reason) that hold none."""
    faults = Faults()
    messages: list[Message] = []
    of_oidc: list[OidcMessage] = []
    captures: dict[str, Peeled] = {}
    for source in sources:
        opened = _opened(source, faults)
        if opened is None:
            continue
        peeled, read, oidc = opened
        messages += read
        of_oidc += oidc
        if not read and not oidc:
            kinds = ", ".join(dict.fromkeys(found.kind for found in peeled.found))
            faults.tell(source.name, f"it holds only: {kinds}" if kinds else peeled.because)
        elif peeled.capture:
            captures[source.name] = peeled
    return placed(assembled(messages, of_oidc), captures), faults.told
