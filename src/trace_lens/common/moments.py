"""Moments and durations: reading them as the standards write them, printing them one way.

Every moment inside the program is an aware `datetime` in UTC. No function here reads the clock.
"""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta, timezone, tzinfo

from trace_lens.common.expressions import expression
from trace_lens.common.sentences import Moment
from trace_lens.common.tuples import NamedTuple

_DATE_TIME = expression(
    r"(\d{4})-(\d\d)-(\d\d)[T ](\d\d):(\d\d):(\d\d)(?:[.,](\d+))?\s*(Z|z|[+-]\d\d:?\d\d)?", re.ASCII
)
_DATE = expression(r"(\d{4})-(\d\d)-(\d\d)", re.ASCII)
_DURATION_PART = expression(r"(?<![\d.])(\d++(?:\.\d++)?)\s*+(ms|s|m|h|d|w)", re.ASCII)
_UNIT_SECONDS = {"ms": 0.001, "s": 1, "m": 60, "h": 3600, "d": 86400, "w": 604800}
_XS_DURATION = expression(
    r"(-)?P(?:(\d+)Y)?(?:(\d+)M)?(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+(?:\.\d+)?)S)?)?", re.ASCII
)


class MomentError(ValueError):
    """The text is not a moment or duration of the expected form; the message says what is."""


def read_moment(text: str) -> tuple[datetime, bool]:
    """Read an RFC 3339 or xs:dateTime moment.

    Returns the moment in UTC and whether it was written in UTC (`Z` or a zero offset). A moment without any offset
    is taken as UTC and reported as not written so.

    Raises MomentError where the text has another form or names a moment that does not exist.
    """
    match = _DATE_TIME.fullmatch(text.strip())
    if match is None:
        raise MomentError(f"{text!r} is not a date and time like 2026-11-20T08:14:03Z")
    year, month, day, hour, minute, second, fraction, offset = match.groups()
    micro = int((fraction or "0")[:6].ljust(6, "0"))
    end_of_day = (hour, minute, second) == ("24", "00", "00") and micro == 0
    if offset in (None, "Z", "z"):
        zone: timezone = UTC
    else:
        sign = -1 if offset[0] == "-" else 1
        zone = timezone(sign * timedelta(hours=int(offset[1:3]), minutes=int(offset[-2:])))
    leap_second = second == "60"
    try:
        moment = datetime(
            int(year),
            int(month),
            int(day),
            0 if end_of_day else int(hour),
            int(minute),
            59 if leap_second else int(second),
            micro,
            zone,
        )
        if end_of_day:
            moment += timedelta(days=1)
        if leap_second:
            moment += timedelta(seconds=1)
        return moment.astimezone(UTC), offset is not None and zone.utcoffset(None) == timedelta(0)
    except (ValueError, OverflowError) as error:
        raise MomentError(f"{text!r} is no moment of the calendar: {error}") from None


def read_moment_or_date(text: str) -> datetime:
    """Read a moment, or a bare date as its first instant in UTC. Raises MomentError."""
    match = _DATE.fullmatch(text.strip())
    if match is None:
        return read_moment(text)[0]
    try:
        return datetime(*map(int, match.groups()), tzinfo=UTC)  # type: ignore[arg-type,misc]
    except ValueError as error:
        raise MomentError(f"{text!r} is no day of the calendar: {error}") from None


_WORDED = expression(r"(today|yesterday)(?:\s+(\d{1,2}):(\d\d)(?::(\d\d))?)?", re.IGNORECASE)
_LOOSE = expression(
    r"(\d{4}-\d\d-\d\d)(?:[T ](\d{1,2}):(\d\d)(?::(\d\d)(?:[.,](\d+))?)?)?\s*(Z|z|[+-]\d\d:?\d\d)?", re.ASCII
)


class SpokenMoment(NamedTuple):
    """A moment as people write it; `assumed` says in which zone it was read where it names none."""

    moment: datetime
    assumed: str | None


def read_spoken_moment(text: str, now: datetime, zone: tzinfo) -> SpokenMoment:
    """A moment as people write it at a terminal: RFC 3339 and shorter, `2026-11-24 07:40`, `yesterday 07:40`, `-1h`.

    What names no zone is in `zone`, and the answer says so; `-1h` counts from `now`. Raises MomentError.
    """
    told = text.strip()
    if told.startswith("-"):
        return SpokenMoment(now - read_duration(told[1:]), None)
    if told.lower() == "now":
        return SpokenMoment(now, None)
    worded, loose = _WORDED.fullmatch(told), _LOOSE.fullmatch(told)
    if worded:
        word, *clock = worded.groups()
        day = now.astimezone(zone) - timedelta(days=word.lower() == "yesterday")
        hour, minute, second = (int(part or 0) for part in clock)
        local = _at(told, day.year, day.month, day.day, hour, minute, second, 0, zone)
        return SpokenMoment(local.astimezone(UTC), _zone_name(local))
    if loose is None:
        raise MomentError(
            f"{text!r} is no moment like 2026-11-20T08:14:03Z, 2026-11-20 08:14, yesterday 08:14, -1h or a date"
        )
    date, hours, minutes, seconds, fraction, offset = loose.groups()
    year, month, day_of_month = map(int, date.split("-"))
    micro = int((fraction or "0")[:6].ljust(6, "0"))
    if offset:
        written = f"{date}T{int(hours or 0):02}:{minutes or '00'}:{seconds or '00'}.{micro:06}{offset}"
        return SpokenMoment(read_moment(written)[0], None)
    local = _at(told, year, month, day_of_month, int(hours or 0), int(minutes or 0), int(seconds or 0), micro, zone)
    return SpokenMoment(local.astimezone(UTC), _zone_name(local))


def _at(
    text: str, year: int, month: int, day: int, hour: int, minute: int, second: int, micro: int, zone: tzinfo
) -> datetime:
    try:
        return datetime(year, month, day, hour, minute, second, micro, zone)
    except ValueError as error:
        raise MomentError(f"{text!r} is no moment of the calendar: {error}") from None


def _zone_name(local: datetime) -> str:
    offset = local.strftime("%z")
    return f"{local.tzname()}, UTC{offset[:3]}:{offset[3:]}" if local.utcoffset() else "UTC"


def show_moment(moment: datetime) -> str:
    """RFC 3339 in UTC, with a fraction of a second only where there is one."""
    moment = moment.astimezone(UTC)
    text = moment.strftime("%Y-%m-%dT%H:%M:%S")
    if len(text) < 20 and moment.year < 1000:
        text = f"{moment.year:04d}" + text[text.index("-") :]
    if moment.microsecond:
        text += f".{moment.microsecond:06d}".rstrip("0")
    return Moment(text + "Z")


def read_duration(text: str) -> timedelta:
    """Read a duration as settings write it: `3m`, `24h`, `30d`, `1h30m`. Raises MomentError."""
    compact = text.strip()
    parts = _DURATION_PART.findall(compact)
    if not parts or "".join(number + unit for number, unit in parts) != compact.replace(" ", ""):
        raise MomentError(f'{text!r} is not a duration like "90s", "3m", "24h" or "30d"')
    try:
        return timedelta(seconds=sum(float(number) * _UNIT_SECONDS[unit] for number, unit in parts))
    except OverflowError:
        raise MomentError(f"{text!r} is longer than any duration that can be counted") from None


def read_xs_duration(text: str) -> timedelta:
    """Read an xs:duration (XML Schema 1.0 Part 2 §3.2.6); a year counts 365 days, a month 30. Raises MomentError."""
    match = _XS_DURATION.fullmatch(text.strip())
    if match is None or text.strip() in ("P", "-P") or text.strip().endswith("T"):
        raise MomentError(f"{text!r} is not an xs:duration like PT1H")
    sign, years, months, days, hours, minutes, seconds = match.groups()
    try:
        span = timedelta(
            days=int(years or 0) * 365 + int(months or 0) * 30 + int(days or 0),
            hours=int(hours or 0),
            minutes=int(minutes or 0),
            seconds=float(seconds or 0),
        )
    except OverflowError:
        raise MomentError(f"{text!r} is longer than any duration that can be counted") from None
    return -span if sign else span


def show_duration(span: timedelta) -> str:
    """A duration in words, its two largest units: `9 minutes 12 seconds`, `3 days`."""
    seconds = abs(span.total_seconds())
    if seconds < 1:
        return Moment(f"{round(seconds * 1000)} ms" if seconds else "0 seconds")
    rest = round(seconds)
    words = []
    for unit, size in (("day", 86400), ("hour", 3600), ("minute", 60), ("second", 1)):
        count, rest = divmod(rest, size)
        if count:
            words.append(f"{count} {unit}{'' if count == 1 else 's'}")
        elif words:
            break
        if len(words) == 2:
            break
    return Moment(" ".join(words))
