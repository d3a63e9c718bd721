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
- A diagnosis is told again where a value differs only if nothing tells that value, but as it is told here: as an id
  that logs are searched for. Either the same was said, to the letter, of another message of the same person in which
  it differed; or that was so with another person's messages that are written alike, and no text of the diagnosis holds
  the value, nor either end of it.
"""

from __future__ import annotations

import os
from bisect import bisect_left, bisect_right
from collections.abc import Callable, Hashable, Iterable, Iterator
from datetime import datetime, timedelta
from functools import lru_cache
from typing import Any

from trace_lens.common.expressions import expression
from trace_lens.common.findings import Evidence, Finding
from trace_lens.common.tuples import NamedTuple
from trace_lens.diagnosis.judging import Diagnosis
from trace_lens.diagnosis.sound import Sound

MOST = 8_000
"""Diagnoses that all processes together remember."""
_AT_FIRST, _MOST_CAME = 200, 100_000
"""Of those of one process so many are of anybody; people of whom it only knows that they came."""
_ANY = "\0"
"""Stands for the source in what may be told of any; no file has this name."""
_END = 8
"""So many characters of a value are told by whoever shortens it."""
_TELLS_TIME = expression(
    r"\d (?:ms|second|minute|hour|day|week|month|year)|\d{4}-\d\d|(?<![:\w])\d\d:\d\d(?!:[0-9A-F]{2}:)"
)
"""What every moment and duration that is shown has in it; fingerprints have not."""
Number = tuple[int, int]
"""Names a diagnosis among those of all processes."""


class Likeness(NamedTuple):
    """A message as far as others may be like it: how it is written, the `key` that they share, the `values` in which
    they differ, the moment of issue, and how far from it its other moments lie.

    `bases` gives what it may have to be compared with, given its diagnosis, and `fits` what is known of it where one
    comparison with that holds. `dates` are those that it brings along.
    """

    written: Hashable
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
    between which dates they lie, and which values it tells nothing of. `ids` are the places of the values that are ids.
    The diagnosis names no source; `source` is that which it was made of.
    """

    number: Number
    first: Diagnosis
    source: str
    values: tuple[str | None, ...]
    at: datetime
    base: Any
    ids: tuple[int, ...]
    dates: list[datetime]
    untold: frozenset[int] = frozenset()

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

    def __init__(self, dates: Iterable[datetime], most: int = MOST) -> None:
        self._most = most
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
        told = self._told.get(like.key)
        if told is None or not told.untold or told.lies_apart(like.at) or not told.differing(like) <= told.untold:
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
            if len(self._told) < self._most and self._pays(like):
                self._told[like.key] = self._new(like, diagnosis)
            return
        told = self._told[like.key]
        if told is None or told.lies_apart(like.at) or told.source == diagnosis.source:
            return
        if not like.fits(told.base):
            return
        differing = told.differing(like)
        if told_after(told.first, told.again(diagnosis.source, like))._replace(id=diagnosis.id) == diagnosis:
            self._varied[like.written] = self._varied.get(like.written, frozenset()) | differing
            self._told[like.key] = told._replace(untold=told.untold | differing)
            return
        self._told[like.key] = None
        if differing <= _untold(told.first, told.values, differing):
            self._odd.add(like.written)

    def _pays(self, like: Likeness) -> bool:
        """Whether a diagnosis is likely to be told again: where most people came only once so far, one who did not."""
        if len(self._told) < _AT_FIRST or 4 * len(self._sent) >= len(self._told):
            return True
        came = hash(like.key)
        if came in self._came:
            return True
        if len(self._came) < _MOST_CAME:
            self._came.add(came)
        return False

    def _new(self, like: Likeness, diagnosis: Diagnosis) -> _Told | None:
        details = diagnosis.details
        by_itself = not (details.steps or details.logs or details.message or details.candidates or details.typed)
        held = diagnosis.judged
        if not by_itself or held.at_from != "message" or held.at != like.at or held.supposed or held.redacted:
            return None
        if set(details.ids) - set(like.values) or any(map(_tells_time, _texts(diagnosis))):
            return None
        base = next((one for one in like.bases(diagnosis) if like.fits(one)), None)
        if base is None:
            return None
        dates = self._laid_out(frozenset({timedelta(0), *like.spans}), tuple(like.dates()))
        number = (os.getpid(), len(self._told))
        ids = tuple(map(like.values.index, details.ids))
        varied = frozenset() if like.written in self._odd else self._varied.get(like.written, frozenset())
        untold = _untold(diagnosis, like.values, varied)
        first = self._parts.shared(told_after(diagnosis, Again(number, _ANY, like.at, details.ids)))
        return _Told(number, first, diagnosis.source, like.values, like.at, base, ids, dates, untold)

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

    def whole(self, again: Again, first: Diagnosis | None) -> Diagnosis:
        """The diagnosis of a message that was told again."""
        if first is not None:
            self._held[again.number] = self._parts.shared(first)
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


@lru_cache(1_000)  # most are words of the program
def _tells_time(text: str) -> bool:
    return _TELLS_TIME.search(text) is not None


def _untold(diagnosis: Diagnosis, values: tuple[str | None, ...], varied: frozenset[int]) -> frozenset[int]:
    """The places of those values that stand in no text of a diagnosis, nor do their ends."""
    texts = "\n".join(_texts(diagnosis))
    ends = {place: (value[:_END], value[-_END:]) for place in varied if (value := values[place])}
    return frozenset(place for place in varied if not any(end in texts for end in ends.get(place, ())))


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
