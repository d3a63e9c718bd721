"""The times of log records: every form that systems write them in, as moments in UTC.

A time without a zone is read in the zone of its source. The hour that happens twice when clocks go back is told by the
order of the file where that decides, else taken as the first; an hour that clocks jump over never was, and is refused.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from datetime import UTC, datetime, timedelta, tzinfo

from trace_lens.common.expressions import expression
from trace_lens.common.tuples import NamedTuple

_NUMBER = expression(r"-?\d{1,20}(?:[.,]\d+)?")
_ISO = expression(
    r"(\d{4})-?(\d\d)-?(\d\d)[T _](\d\d):?(\d\d)(?::?(\d\d)(?:[.,](\d{1,9}))?)?\s*"
    r"(Z|z|UTC|GMT|[+-]\d\d:?\d\d|[+-]\d\d)?"
)
_WEB = expression(r"(\d\d)/([A-Za-z]{3})/(\d{4}):(\d\d):(\d\d):(\d\d)\s*([+-]\d{4})?")
_WRITTEN = expression(
    r"(\d{1,4})[./-](\d{1,2})[./-](\d{2,4})[T ,]+(\d{1,2}):(\d\d)(?::(\d\d)(?:[.,](\d{1,9}))?)?\s*([AaPp][Mm])?\s*"
    r"(Z|UTC|GMT|[+-]\d\d:?\d\d)?"
)
_MONTHS = {
    name: number
    for number, name in enumerate(
        ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"), 1
    )
}
_UNITS = {"s": 1, "ms": 1_000, "us": 1_000_000, "ns": 1_000_000_000}
_LARGEST = (("s", 1e11), ("ms", 1e14), ("us", 1e17))
_JITTER = timedelta(minutes=1)
"""How far lines may stand out of order before it is taken for an hour that came twice."""


class NoTime(ValueError):
    """A text that is no moment; says why."""


class TimeForm(NamedTuple):
    """How a source writes its times: a pattern of strptime, the unit of numbers, the zone where none is written."""

    pattern: str | None = None
    unit: str | None = None
    zone: tzinfo | None = None
    day_first: bool = False


class TimeReader:
    """Reads the times of one file, in the order of its lines, which is newest first where it is `descending`.

    `ambiguous` counts the times in an hour that came twice that the order could not decide; `zoneless` those without a
    zone of their own.
    """

    def __init__(self, form: TimeForm, *, descending: bool = False) -> None:
        self._form = form
        self._descending = descending
        self._before: datetime | None = None
        self.ambiguous = 0
        self.zoneless = 0

    def read(self, value: object) -> datetime:
        """The moment in UTC. Raises NoTime."""
        moment = self._read(value)
        self._before = moment
        return moment

    def _read(self, value: object) -> datetime:
        if isinstance(value, datetime):
            return self._placed(value)
        if isinstance(value, bool) or value is None:
            raise NoTime("there is no time")
        if isinstance(value, int | float):
            return _epoch(float(value), self._form.unit)
        text = str(value).strip().strip("[]")
        if not text or text == "-":
            raise NoTime("there is no time")
        if self._form.pattern:
            try:
                return self._placed(datetime.strptime(text, self._form.pattern))
            except ValueError:
                raise NoTime(f"{text!r} is not written as {self._form.pattern}") from None
        plain = text.replace(",", ".") if _NUMBER.fullmatch(text) else ""
        if plain and (self._form.unit or len(plain.partition(".")[0]) >= 9):
            return _epoch(float(plain), self._form.unit)
        return self._placed(_written(text, day_first=self._form.day_first))

    def _placed(self, moment: datetime) -> datetime:
        """A moment with its zone: its own, else that of the source, else UTC."""
        try:
            if moment.tzinfo is not None:
                return moment.astimezone(UTC)
            self.zoneless += 1
            if self._form.zone is None:
                return moment.replace(tzinfo=UTC)
            return self._local(moment, self._form.zone)
        except (OverflowError, ValueError) as error:
            raise NoTime(f"{moment} is no moment of the calendar: {error}") from None

    def _local(self, wall: datetime, zone: tzinfo) -> datetime:
        first, second = (wall.replace(tzinfo=zone, fold=fold).astimezone(UTC) for fold in (0, 1))
        if first == second:
            return first
        if second < first:
            raise NoTime(f"{wall:%Y-%m-%d %H:%M:%S} never was in {zone}: the clocks went forward over it")
        if self._before is None or not first - timedelta(hours=12) < self._before < second + timedelta(hours=12):
            self.ambiguous += 1
            return first
        if self._descending:
            return second if second <= self._before + _JITTER else first
        return first if self._before <= first + _JITTER else second


def is_descending(values: Iterable[object], form: TimeForm) -> bool:
    """Whether times stand newest first, told by most of their steps."""
    reader = TimeReader(form)
    steps = 0
    before: datetime | None = None
    for value in values:
        try:
            moment = reader.read(value)
        except NoTime:
            continue
        if before is not None and moment != before:
            steps += 1 if moment > before else -1
        before = moment
    return steps < 0


def _epoch(number: float, unit: str | None) -> datetime:
    """Seconds or parts of them since 1970; without a unit the size tells which."""
    if unit is None:
        unit = next((name for name, largest in _LARGEST if abs(number) < largest), "ns")
    try:
        return datetime(1970, 1, 1, tzinfo=UTC) + timedelta(microseconds=round(number * 1_000_000 / _UNITS[unit]))
    except (OverflowError, ValueError):
        raise NoTime(f"{number:g} is no moment of the calendar") from None


def _written(text: str, *, day_first: bool) -> datetime:
    """A time in one of the usual forms."""
    for pattern, make in _FORMS:
        match = pattern.fullmatch(text)
        if match:
            try:
                return make(match, day_first)
            except (ValueError, KeyError, OverflowError) as error:
                raise NoTime(f"{text!r} is no moment of the calendar: {error}") from None
    raise NoTime(f"{text!r} is in no form of time that is known; time_format can tell it")


def _iso(match: re.Match[str], day_first: bool) -> datetime:
    year, month, day, hour, minute, second, fraction, zone = match.groups()
    return _made(int(year), int(month), int(day), int(hour), int(minute), second, fraction, zone)


def _web(match: re.Match[str], day_first: bool) -> datetime:
    day, month, year, hour, minute, second, zone = match.groups()
    return _made(int(year), _MONTHS[month.lower()], int(day), int(hour), int(minute), second, None, zone)


def _dotted(match: re.Match[str], day_first: bool) -> datetime:
    """Day, month and year in one order or another: a first part of four digits is the year; dots say day first."""
    text, two, three, hour, minute, second, fraction, half, zone = match.groups()
    if len(text) == 4:
        year, month, day = int(text), int(two), int(three)
    else:
        days = day_first or "." in match[0][:6]
        if not days and int(text) > 12:
            raise ValueError("the day comes first, which day_first = true tells")
        day, month = (int(text), int(two)) if days else (int(two), int(text))
        year = int(three) + (2000 if len(three) == 2 else 0)
    hours = int(hour)
    if half:
        hours = hours % 12 + (12 if half.lower() == "pm" else 0)
    return _made(year, month, day, hours, int(minute), second, fraction, zone)


def _made(
    year: int, month: int, day: int, hour: int, minute: int, second: str | None, fraction: str | None, zone: str | None
) -> datetime:
    micro = int((fraction or "0")[:6].ljust(6, "0"))
    made = datetime(year, month, day, hour, minute, int(second or 0), micro)
    if zone is None:
        return made
    if zone.upper() in ("Z", "UTC", "GMT"):
        return made.replace(tzinfo=UTC)
    sign = -1 if zone[0] == "-" else 1
    digits = zone[1:].replace(":", "").ljust(4, "0")
    offset = sign * timedelta(hours=int(digits[:2]), minutes=int(digits[2:]))
    return (made - offset).replace(tzinfo=UTC)


_FORMS: tuple[tuple[re.Pattern[str], Callable[[re.Match[str], bool], datetime]], ...] = (
    (_ISO, _iso),
    (_WEB, _web),
    (_WRITTEN, _dotted),
)
