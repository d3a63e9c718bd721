"""Whole diagnoses told again: somebody signs in at the same application as another did, by a message written alike.

Where captures are many, most are of this kind. What the full judge said of one is said of the next, with its own
source, moment, ids, name and claims, where nothing else of it can differ. Why that is right:

- Both are written alike (`alike`), or are tokens with the same header, and came in the same wrapping. What differs
  between them are ids, moments, digest and signature, each as long as it was, the relay state, and what is said of the
  person. All other values are the same to the letter.
- The checks see the same of both persons (`persons`).
- The strict path holds what differs to be sound, by the same key. What breaks does so for values that are the same
  (`repeated`): with the right ones in their place the strict path calls it sound.
- All moments lie as far from the moment of issue as they did, and no date on record, nor today, lies between a moment
  of the one and the same moment of the other. A diagnosis that tells a moment, or how long something takes, is not told
  again.
- A diagnosis is told again where a value differs only if nothing tells that value, but as it is told here: as an id
  that logs are searched for, the subject, a row of the claims, or that row as evidence. Either the same was said, to
  the letter, of another message in which it differed; or that was so with other messages that are written alike, and no
  text of the diagnosis holds the value, nor either end of it.
"""

from __future__ import annotations

import os
from bisect import bisect_left, bisect_right
from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping
from datetime import datetime, timedelta
from functools import lru_cache
from typing import Any

from trace_lens.common.expressions import expression
from trace_lens.common.findings import Evidence, Finding
from trace_lens.common.tuples import NamedTuple
from trace_lens.diagnosis.judging import Diagnosis
from trace_lens.diagnosis.persons import read_by
from trace_lens.diagnosis.sound import Sound
from trace_lens.workspace.records import Workspace

MOST = 8_000
"""Diagnoses that all processes together remember."""
_AT_FIRST, _MOST_CAME = 200, 100_000
"""Of those of one process so many are of whatever comes; kinds of which it only knows that one came."""
_ANY = "\0"
"""Stands for the source in what may be told of any; no file has this name."""
_END = 8
"""So many characters of a value are told by whoever shortens it."""
_TELLS_TIME = expression(
    r"\d (?:ms|second|minute|hour|day|week|month|year)|\d{4}-\d\d|(?<![:\w])\d\d:\d\d(?!:[0-9A-F]{2}:)"
)
"""What every moment and duration that is shown has in it; fingerprints have not."""
_BASES = 4
"""What messages of one key are compared with at most: keys that sign change."""
Number = tuple[int, int]
"""Names a diagnosis among those of all processes."""


class Likeness(NamedTuple):
    """A message as far as others may be like it: how it is written, the `key` that they share, the `values` in which
    they differ, the subject and what is claimed of them, the moment of issue, and how far from it its other moments
    lie.

    `bases` gives what it may have to be compared with, given its diagnosis. `seen` is what the checks see of the person
    beside that, and `fits` what is known of the message where one comparison with that holds. `dates` are those that it
    brings along.
    """

    written: Hashable
    key: Hashable
    values: tuple[str | None, ...]
    subject: str | None
    claims: Mapping[str, tuple[str, ...]]
    at: datetime
    spans: tuple[timedelta, ...]
    bases: Callable[[Diagnosis], Iterable[Any]]
    seen: Callable[[Any], Hashable]
    fits: Callable[[Any], Sound | None]
    dates: Callable[[], Iterable[datetime]]


class Again(NamedTuple):
    """What is told again: which diagnosis, of which source, at which moment, with which ids, of whom, and the values of
    the rows of their claims with what the application makes of them.
    """

    number: Number
    source: str
    at: datetime
    ids: tuple[str, ...]
    subject: str | None
    claims: tuple[tuple[tuple[str, ...], tuple[str, ...]], ...]


class _Told(NamedTuple):
    """A diagnosis that may be told again: of a message with which values, issued when,
    between which dates they lie, and which values it tells nothing of. `ids` are the places of the values that are ids,
    `rows` the names of the claims in its table, with what the application makes of their values. The diagnosis names no
    source; `source` is that which it was made of.
    """

    number: Number
    first: Diagnosis
    source: str
    values: tuple[str | None, ...]
    at: datetime
    ids: tuple[int, ...]
    rows: tuple[tuple[str, Mapping[str, str]], ...]
    dates: list[datetime]
    untold: frozenset[int] = frozenset()
    fixed: tuple[int, ...] = ()

    def telling_nothing_of(self, places: frozenset[int]) -> _Told:
        """The same, known to tell nothing of some values; `fixed` are the places of all others."""
        untold = self.untold | places
        return self._replace(untold=untold, fixed=tuple(sorted(set(range(len(self.values))) - untold)))

    def lies_apart(self, at: datetime) -> bool:
        """Whether a date lies between a moment of issue and that of the first, or on one of them."""
        begin, end = min(at, self.at), max(at, self.at)
        return bisect_left(self.dates, begin) != bisect_right(self.dates, end)

    def tells_what_differs(self, like: Likeness) -> bool:
        """Whether something may be told of a value in which another message differs from the first."""
        return any(like.values[place] != self.values[place] for place in self.fixed)

    def differing(self, like: Likeness) -> frozenset[int]:
        """The places of the values in which another message differs from the first."""
        pairs = enumerate(zip(like.values, self.values, strict=True))
        return frozenset(place for place, (one, other) in pairs if one != other)

    def again(self, source: str, like: Likeness) -> Again:
        """What is told of another message."""
        ids = tuple(like.values[place] or "" for place in self.ids)
        return Again(self.number, source, like.at, ids, like.subject, _claims(self.rows, like))


class Retold:
    """What a process remembers of its diagnoses, for messages that are like those; None where they were said different
    things of.
    """

    def __init__(self, dates: Iterable[datetime], workspace: Workspace, most: int = MOST) -> None:
        self._most = most
        self._workspace = workspace
        self._bases: dict[Hashable, list[Any]] = {}
        self._told: dict[Hashable, _Told | None] = {}
        self._dates = list(dates)
        self._laid: dict[tuple[frozenset[timedelta], tuple[datetime, ...]], list[datetime]] = {}
        self._varied: dict[Hashable, frozenset[int]] = {}
        self._odd: set[Hashable] = set()
        self._came: set[int] = set()
        self._parts = _Parts()
        self._sent: set[Number] = set()

    def known(self, source: str, like: Likeness) -> tuple[Again, Diagnosis | None, Sound] | None:
        """What is told again of a message, with the diagnosis that it is told after if that was not given before, and
        what is known of the message; None where only the full judge can tell.
        """
        for place, base in enumerate(self._bases.get(like.key, ())):
            told = self._told.get((like.key, place, like.seen(base)))
            if told is None or not told.untold or told.lies_apart(like.at) or told.tells_what_differs(like):
                continue
            sound = like.fits(base)
            if sound is None:
                continue
            first = None if told.number in self._sent else told.first
            self._sent.add(told.number)
            return told.again(source, like), first, sound
        return None

    def learn(self, like: Likeness, diagnosis: Diagnosis) -> None:
        """Remember what the full judge said of a message."""
        bases = self._bases.get(like.key, [])
        place = next((place for place, base in enumerate(bases) if like.fits(base)), len(bases))
        if place == len(bases):
            base = None if place == _BASES else next((one for one in like.bases(diagnosis) if like.fits(one)), None)
            if base is None or len(self._told) >= self._most:
                return
            self._bases[like.key] = bases = [*bases, base]
        base = bases[place]
        kind = (like.key, place, like.seen(base))
        if kind not in self._told:
            if len(self._told) < self._most and self._pays(kind):
                self._told[kind] = self._new(like, diagnosis, base)
            return
        told = self._told[kind]
        if told is None or told.lies_apart(like.at) or told.source == diagnosis.source:
            return
        differing = told.differing(like)
        if told_after(told.first, told.again(diagnosis.source, like))._replace(id=diagnosis.id) == diagnosis:
            self._varied[like.written] = self._varied.get(like.written, frozenset()) | differing
            self._told[kind] = told.telling_nothing_of(differing)
            return
        self._told[kind] = None
        if differing <= _untold(told.first, told.values, differing):
            self._odd.add(like.written)

    def _pays(self, kind: Hashable) -> bool:
        """Whether a diagnosis is likely to be told again: where most kinds came only once so far, one that did not."""
        if len(self._told) < _AT_FIRST or 4 * len(self._sent) >= len(self._told):
            return True
        came = hash(kind)
        if came in self._came:
            return True
        if len(self._came) < _MOST_CAME:
            self._came.add(came)
        return False

    def _new(self, like: Likeness, diagnosis: Diagnosis, base: Any) -> _Told | None:
        details = diagnosis.details
        by_itself = not (details.steps or details.logs or details.message or details.candidates or details.typed)
        held = diagnosis.judged
        if not by_itself or held.at_from != "message" or held.at != like.at or held.supposed or held.redacted:
            return None
        if set(details.ids) - set(like.values) or any(map(_tells_time, _texts(diagnosis))):
            return None
        rows = self._rows(diagnosis)
        if diagnosis.subject != like.subject or any(name not in like.claims for name, _ in rows):
            return None
        dates = self._laid_out(frozenset({timedelta(0), *like.spans}), tuple(like.dates()))
        number = (os.getpid(), len(self._told))
        ids = tuple(map(like.values.index, details.ids))
        varied = frozenset() if like.written in self._odd else self._varied.get(like.written, frozenset())
        untold = _untold(diagnosis, like.values, varied)
        again = Again(number, _ANY, like.at, details.ids, like.subject, _claims(rows, like))
        first = self._parts.shared(told_after(diagnosis, again))
        if first.details.claims != details.claims:
            return None
        told = _Told(number, first, diagnosis.source, like.values, like.at, ids, rows, dates)
        return told.telling_nothing_of(untold)

    def _rows(self, diagnosis: Diagnosis) -> tuple[tuple[str, Mapping[str, str]], ...]:
        """The names of the claims that were sent, each with what the application makes of its values."""
        names = [row.name for row in diagnosis.details.claims if row.use != "missing"]
        app = self._workspace.apps.get(diagnosis.app or "")
        read = read_by(app.settings.claims if app else (), names)
        return tuple((name, read[name][-1].maps if read[name] else {}) for name in names)

    def _laid_out(self, spans: frozenset[timedelta], brought: tuple[datetime, ...]) -> list[datetime]:
        """The moments of issue at which some moment of a message falls on a date."""
        known = self._laid.get((spans, brought))
        if known is None:
            known = sorted({at for date in (*self._dates, *brought) for span in spans if (at := _before(date, span))})
            self._laid[spans, brought] = known
        return known


class _Parts:
    """Parts of diagnoses, of those that are equal one: what is said of many people differs in little."""

    def __init__(self) -> None:
        self._held: dict[Hashable, Any] = {}

    def shared(self, diagnosis: Diagnosis) -> Diagnosis:
        """The same diagnosis, of the parts that are held already."""
        stages, findings, unchecked = map(self._one, (diagnosis.stages, diagnosis.findings, diagnosis.unchecked))
        return diagnosis._replace(stages=stages, findings=findings, unchecked=unchecked)

    def _one(self, part: Any) -> Any:
        return self._held.setdefault(part, part)


class Firsts:
    """The diagnoses that others are told after, as they come from the processes that made them."""

    def __init__(self) -> None:
        self._held: dict[Number, Diagnosis] = {}
        self._parts = _Parts()

    def of(self, again: Again, first: Diagnosis | None) -> Diagnosis:
        """The diagnosis that a message is told after."""
        if first is not None:
            self._held[again.number] = self._parts.shared(first)
        return self._held[again.number]


def told_after(first: Diagnosis, again: Again) -> Diagnosis:
    """The diagnosis of a message that is like the first."""
    assert first.at is not None
    later = again.at - first.at
    source, rows = first.source, first.details.claims
    sent = [
        row if (row.values, row.mapped) == told else row._replace(values=told[0], mapped=told[1])
        for row, told in zip(rows, again.claims, strict=False)
    ]
    shown = {
        (row.name, show(row.values)): show(now.values)
        for row, now in zip(rows, sent, strict=False)
        if row is not now
        for show in (_first_of, ", ".join)
    }

    def of(finding: Finding) -> Finding:
        if not any(item.source == source for item in finding.evidence):
            return finding
        return finding._replace(evidence=tuple(map(evident, finding.evidence)))

    def evident(item: Evidence) -> Evidence:
        if item.source != source:
            return item
        value = shown.get((item.label, item.value), item.value)
        return item._replace(source=again.source, value=type(item.value)(value))

    windows = tuple(
        window._replace(begins=window.begins and window.begins + later, ends=window.ends and window.ends + later)
        for window in first.details.windows
    )
    told = first._replace(
        source=again.source,
        parties=first.parties._replace(subject=again.subject),
        judged=first.judged._replace(at=again.at),
        details=first.details._replace(claims=(*sent, *rows[len(again.claims) :]), windows=windows, ids=again.ids),
    )
    if not any(item.source == source for finding in first.findings for item in finding.evidence):
        return told
    return told._replace(
        first_break=first.first_break and of(first.first_break),
        findings=tuple(map(of, first.findings)),
        stages=tuple(stage._replace(findings=tuple(map(of, stage.findings))) for stage in first.stages),
    )


def _claims(
    rows: Iterable[tuple[str, Mapping[str, str]]], like: Likeness
) -> tuple[tuple[tuple[str, ...], tuple[str, ...]], ...]:
    """The values of the rows of claims, and what the application makes of them."""
    return tuple(
        (values, tuple(maps.get(value, value) for value in values if value.strip()) if maps else ())
        for name, maps in rows
        for values in (like.claims[name],)
    )


@lru_cache(1_000)  # most are words of the program
def _tells_time(text: str) -> bool:
    return _TELLS_TIME.search(text) is not None


def _untold(diagnosis: Diagnosis, values: tuple[str | None, ...], varied: frozenset[int]) -> frozenset[int]:
    """The places of those values that stand in no text of a diagnosis, nor do their ends."""
    texts = "\n".join(_texts(diagnosis))
    ends = {place: (value[:_END], value[-_END:]) for place in varied if (value := values[place])}
    return frozenset(place for place in varied if not any(end in texts for end in ends.get(place, ())))


def _first_of(values: tuple[str, ...]) -> str:
    return values[0] if values else ""


def _before(date: datetime, span: timedelta) -> datetime | None:
    """So long before a date; None where no calendar has that."""
    try:
        return date - span
    except OverflowError:
        return None


def _texts(diagnosis: Diagnosis) -> Iterator[str]:
    """All that a diagnosis says of its own."""
    yield diagnosis.cause
    yield diagnosis.details.arriving or ""
    for finding in diagnosis.findings:
        yield from (finding.title, finding.detail, finding.remedy, finding.expected or "", finding.actual or "")
        yield from (finding.value_to_set or "", finding.accepted or "")
        yield from (item.value for item in finding.evidence)
    for question in diagnosis.unchecked:
        yield from (question.because, question.needs)
