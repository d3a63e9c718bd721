"""Whole diagnoses told again: the same person signs in once more at the same application, by a message written alike.

Where captures are many, most are of this kind. What the full judge said of one is said of the next, with its own
source, moment and ids, where nothing else of it can differ. Why that is right:

- Both are written alike (`alike`), or are tokens with the same header, and came in the same wrapping. What differs
  between them are ids, moments, digest and signature, each as long as it was; all other values, the name and the
  attributes among them, are the same to the letter.
- The strict path holds what differs to be sound, by the same key. What breaks does so for values that are the same
  (`repeated`): with the right ones in their place the strict path calls it sound.
- All moments lie as far from the moment of issue as they did, and no date on record, nor today, lies between a moment
  of the one and the same moment of the other. A diagnosis that tells a moment, or how long something takes, is not told
  again.
- What was said of the first was said again of another in which a value differed, before it is said of a third in which
  that value differs again. So nothing tells that value, but as it is told here: as an id that logs are searched for.
"""

from __future__ import annotations

import os
from bisect import bisect_left, bisect_right
from collections.abc import Callable, Hashable, Iterable, Iterator
from datetime import datetime, timedelta
from typing import Any

from trace_lens.common.expressions import expression
from trace_lens.common.findings import Evidence, Finding
from trace_lens.common.tuples import NamedTuple
from trace_lens.diagnosis.judging import Diagnosis
from trace_lens.diagnosis.sound import Sound

_MOST, _MOST_SEEN = 2_000, 100_000
"""Diagnoses that a process remembers, and keys that it has seen once."""
_TELLS_TIME = expression(
    r"\d (?:ms|second|minute|hour|day|week|month|year)|\d{4}-\d\d|(?<![:\w])\d\d:\d\d(?!:[0-9A-F]{2}:)"
)
"""What every moment and duration that is shown has in it; fingerprints have not."""
Number = tuple[int, int]
"""Names a diagnosis among those of all processes."""


class Likeness(NamedTuple):
    """A message as far as others may be like it: the `key` that they share, the `values` in which they differ, the
    moment of issue, and how far from it its other moments lie.

    `bases` gives what it may have to be compared with, given its diagnosis, and `fits` what is known of it where one
    comparison with that holds. `dates` are those that it brings along.
    """

    key: Hashable
    values: tuple[str | None, ...]
    at: datetime
    spans: tuple[timedelta, ...]
    bases: Callable[[Diagnosis], Iterable[Any]]
    fits: Callable[[Any], Sound | None]
    dates: Callable[[], Iterable[datetime]]


class Again(NamedTuple):
    """What is told again: which diagnosis, of which source, at which moment, with which ids."""

    number: Number
    source: str
    at: datetime
    ids: tuple[str, ...]


class _Told(NamedTuple):
    """A diagnosis that may be told again: of a message with which values, issued when, what others are compared with,
    between which dates they lie, and in which values they differed where the same was said. `ids` are the places of the
    values that are ids.
    """

    number: Number
    first: Diagnosis
    values: tuple[str | None, ...]
    at: datetime
    base: Any
    ids: tuple[int, ...]
    dates: list[datetime]
    varied: frozenset[int] = frozenset()

    def lies_apart(self, at: datetime) -> bool:
        """Whether a date lies between a moment of issue and that of the first, or on one of them."""
        begin, end = min(at, self.at), max(at, self.at)
        return bisect_left(self.dates, begin) != bisect_right(self.dates, end)

    def differing(self, like: Likeness) -> frozenset[int]:
        """The places of the values in which another message differs from the first."""
        pairs = enumerate(zip(like.values, self.values, strict=True))
        return frozenset(place for place, (one, other) in pairs if one != other)

    def again(self, source: str, like: Likeness) -> Again:
        """What is told of another message."""
        return Again(self.number, source, like.at, tuple(like.values[place] or "" for place in self.ids))


class Retold:
    """What a process remembers of its diagnoses, for messages that are like those; None where they were said different
    things of.
    """

    def __init__(self, dates: Iterable[datetime]) -> None:
        self._told: dict[Hashable, _Told | None] = {}
        self._dates = list(dates)
        self._laid: dict[tuple[frozenset[timedelta], tuple[datetime, ...]], list[datetime]] = {}
        self._seen: set[int] = set()
        self._sent: set[Number] = set()

    def known(self, source: str, like: Likeness) -> tuple[Again, Diagnosis | None, Sound] | None:
        """What is told again of a message, with the diagnosis that it is told after if that was not given before, and
        what is known of the message; None where only the full judge can tell.
        """
        told = self._told.get(like.key)
        if told is None or not told.varied or told.lies_apart(like.at) or not told.differing(like) <= told.varied:
            return None
        sound = like.fits(told.base)
        if sound is None:
            return None
        first = None if told.number in self._sent else told.first
        self._sent.add(told.number)
        return told.again(source, like), first, sound

    def learn(self, like: Likeness, diagnosis: Diagnosis) -> None:
        """Remember what the full judge said of a message."""
        if like.key not in self._told:
            # Most people of a few captures come once: what is seen for the first time is not worth its memory.
            if hash(like.key) in self._seen and len(self._told) < _MOST:
                self._told[like.key] = self._new(like, diagnosis)
            elif len(self._seen) < _MOST_SEEN:
                self._seen.add(hash(like.key))
            return
        told = self._told[like.key]
        if (
            told is None
            or told.lies_apart(like.at)
            or told.first.source == diagnosis.source
            or not like.fits(told.base)
        ):
            return
        same = told_after(told.first, told.again(diagnosis.source, like))._replace(id=diagnosis.id) == diagnosis
        self._told[like.key] = told._replace(varied=told.varied | told.differing(like)) if same else None

    def _new(self, like: Likeness, diagnosis: Diagnosis) -> _Told | None:
        details = diagnosis.details
        by_itself = not (details.steps or details.logs or details.message or details.candidates or details.typed)
        held = diagnosis.judged
        if not by_itself or held.at_from != "message" or held.at != like.at or held.supposed or held.redacted:
            return None
        if set(details.ids) - set(like.values) or any(map(_TELLS_TIME.search, _texts(diagnosis))):
            return None
        base = next((one for one in like.bases(diagnosis) if like.fits(one)), None)
        if base is None:
            return None
        dates = self._laid_out(frozenset({timedelta(0), *like.spans}), tuple(like.dates()))
        number = (os.getpid(), len(self._told))
        ids = tuple(map(like.values.index, details.ids))
        return _Told(number, diagnosis, like.values, like.at, base, ids, dates)

    def _laid_out(self, spans: frozenset[timedelta], brought: tuple[datetime, ...]) -> list[datetime]:
        """The moments of issue at which some moment of a message falls on a date."""
        known = self._laid.get((spans, brought))
        if known is None:
            known = sorted({at for date in (*self._dates, *brought) for span in spans if (at := _before(date, span))})
            self._laid[spans, brought] = known
        return known


class Firsts:
    """The diagnoses that others are told after, as they come from the processes that made them."""

    def __init__(self) -> None:
        self._held: dict[Number, Diagnosis] = {}

    def whole(self, again: Again, first: Diagnosis | None) -> Diagnosis:
        """The diagnosis of a message that was told again."""
        if first is not None:
            self._held[again.number] = first
        return told_after(self._held[again.number], again)


def told_after(first: Diagnosis, again: Again) -> Diagnosis:
    """The diagnosis of a message that is like the first."""
    assert first.at is not None
    later = again.at - first.at
    source = first.source

    def of(finding: Finding) -> Finding:
        if not any(item.source == source for item in finding.evidence):
            return finding
        return finding._replace(evidence=tuple(map(evident, finding.evidence)))

    def evident(item: Evidence) -> Evidence:
        return item._replace(source=again.source) if item.source == source else item

    windows = tuple(
        window._replace(begins=window.begins and window.begins + later, ends=window.ends and window.ends + later)
        for window in first.details.windows
    )
    told = first._replace(
        source=again.source,
        judged=first.judged._replace(at=again.at),
        details=first.details._replace(windows=windows, ids=again.ids),
    )
    if not any(item.source == source for finding in first.findings for item in finding.evidence):
        return told
    return told._replace(
        first_break=first.first_break and of(first.first_break),
        findings=tuple(map(of, first.findings)),
        stages=tuple(stage._replace(findings=tuple(map(of, stage.findings))) for stage in first.stages),
    )


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
