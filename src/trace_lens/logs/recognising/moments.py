"""How the times of a column are written, by reading all of them in each way that there is."""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import datetime, timedelta
from itertools import pairwise

from trace_lens.common.expressions import expression
from trace_lens.common.tuples import NamedTuple
from trace_lens.logs.formats.times import NoTime, TimeForm, TimeReader

_PATTERNS = (
    "%Y%m%d%H%M%S",
    "%d %b %Y %H:%M:%S",
    "%d-%b-%Y %H:%M:%S",
    "%d %B %Y %H:%M:%S",
    "%b %d, %Y %I:%M:%S %p",
    "%b %d, %Y %H:%M:%S",
    "%a %b %d %H:%M:%S %Y",
    "%d/%m/%Y %H.%M.%S",
    "%d.%m.%Y %H.%M.%S",
    "%a, %d %b %Y %H:%M:%S %z",
)
"""Ways of writing a time that are read only where a description tells them, as patterns of strptime."""
_SAMPLE, _TRIED = 300, 20
_LIFE = timedelta(days=5 * 366)
"""What spans more than this are dates of births or ends, not of events."""
DATE = expression(r"\d{4}[-./]\d{1,2}[-./]\d{1,2}|\d{1,2}[-./]\d{1,2}[-./]\d{2,4}|\d{8}")
CLOCK = expression(r"\d{1,2}[:.]\d{2}(?:[:.]\d{2}(?:[.,]\d{1,9})?)?(?:\s*[AaPp][Mm])?(?:Z|[+-]\d\d:?\d\d)?")


class Reading(NamedTuple):
    """How well one way reads some times: the share that it reads, and of their steps the share that go one way.

    `ordered` is 0.5 for times in no order, 1 for times in order; `descending` says that the newest comes first.
    `either_day` says that day and month could be the other way round in all of them.
    """

    pattern: str | None
    day_first: bool
    share: float
    ordered: float
    descending: bool
    zoneless: bool
    plausible: bool
    either_day: bool = False


def read_times(values: Sequence[str]) -> Reading | None:
    """The way that reads most of some texts as moments, in the best order; None where none reads half of them."""
    some = list(values[:_SAMPLE])
    if not some:
        return None
    ways = [_read(some, None, False), _read(some, None, True)]
    ways += [_read(some, pattern, False) for pattern in _PATTERNS if _reads_any(some, pattern)]
    first, second = ways[:2]
    if first.share == second.share == 1.0 and first.ordered == second.ordered and _slashed(some):
        ways[0] = first._replace(either_day=_differ(some))
    best = max(ways, key=lambda way: (round(way.share, 2), way.plausible, round(way.ordered, 2)))
    return best if best.share >= 0.5 else None


def _reads_any(values: Sequence[str], pattern: str) -> bool:
    """Whether a pattern reads any of some values throughout a column: one that reads half of all reads one of these."""
    reader = TimeReader(TimeForm(pattern=pattern))
    for value in values[:: max(1, len(values) // _TRIED)]:
        try:
            reader.read(value)
        except NoTime:
            continue
        return True
    return False


def _slashed(values: Sequence[str]) -> bool:
    return all(re.match(r"\d{1,2}[/-]\d{1,2}[/-]\d{2,4}\b", value) for value in values)


def _differ(values: Sequence[str]) -> bool:
    """Whether reading day first makes other moments of texts."""
    readers = (TimeReader(TimeForm()), TimeReader(TimeForm(day_first=True)))
    return any(readers[0].read(value) != readers[1].read(value) for value in values[:20])


def _read(values: Sequence[str], pattern: str | None, day_first: bool) -> Reading:
    reader = TimeReader(TimeForm(pattern=pattern, day_first=day_first))
    moments: list[datetime] = []
    for value in values:
        try:
            moments.append(reader.read(value))
        except NoTime:
            continue
    likely = [moment for moment in moments if 1990 < moment.year < 2100]
    steps = [late > early for early, late in pairwise(likely) if late != early]
    up = sum(steps) / len(steps) if steps else 0.5
    spread = max(likely) - min(likely) if likely else timedelta()
    return Reading(
        pattern=pattern,
        day_first=day_first,
        share=len(likely) / len(values),
        ordered=max(up, 1 - up),
        descending=up < 0.5,
        zoneless=reader.zoneless > 0,
        plausible=spread <= _LIFE,
    )
