"""Dates as a calendar (iCalendar, RFC 5545): one whole-day event a date, the same UID each time it is written."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime, timedelta

from trace_lens.common.masking import visible
from trace_lens.fleet.dates import Ending

_WIDTH = 75
"""Octets of a line; what is longer goes on in the next one (RFC 5545 §3.1)."""


def write_calendar(found: Sequence[Ending], now: datetime) -> str:
    """The calendar."""
    lines = ["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:-//trace-lens//expiry//EN", "CALSCALE:GREGORIAN"]
    seen: set[str] = set()
    for ending in found:
        uid = _uid(ending)
        if uid not in seen:
            lines += _event(ending, uid, now)
        seen.add(uid)
    lines.append("END:VCALENDAR")
    return "".join(f"{folded}\r\n" for text in lines for folded in _folded(text))


def _event(ending: Ending, uid: str, now: datetime) -> list[str]:
    day = ending.at.astimezone(UTC).date()
    after = day + timedelta(days=1) if day.year < 9999 else day
    hit = ", ".join(f"{hit.app} ({hit.how})" for hit in ending.hits) or "no application on record"
    words = f"Hits: {hit}.\nReady for what comes after: {ending.ready}.\nIn {ending.file} {ending.where}".rstrip()
    return [
        "BEGIN:VEVENT",
        f"UID:{uid}",
        f"DTSTAMP:{now.astimezone(UTC):%Y%m%dT%H%M%SZ}",
        f"DTSTART;VALUE=DATE:{_day(day.year, day.month, day.day)}",
        *([f"DTEND;VALUE=DATE:{_day(after.year, after.month, after.day)}"] if after != day else []),
        f"SUMMARY:{_escaped(f'Ends: {ending.what}')}",
        f"DESCRIPTION:{_escaped(words)}",
        "TRANSP:TRANSPARENT",
        "END:VEVENT",
    ]


def _day(year: int, month: int, day: int) -> str:
    return f"{year:04}{month:02}{day:02}"


def _uid(ending: Ending) -> str:
    """The same for the same thing, so that a calendar that is read again moves an event and doubles none."""
    told = (ending.kind, ending.sha256 or ending.what, ending.purpose, ending.provider, ending.app, ending.file)
    digest = hashlib.sha256("\0".join(part or "" for part in told).encode("utf-8", "surrogatepass")).hexdigest()
    return f"{digest[:32]}@trace-lens"


def _escaped(text: str) -> str:
    """TEXT (RFC 5545 §3.3.11)."""
    shown = "\n".join(visible(line) for line in text.split("\n"))
    return shown.replace("\\", "\\\\").replace(";", "\\;").replace(",", "\\,").replace("\n", "\\n")


def _folded(text: str) -> Iterator[str]:
    """A line in pieces of at most 75 octets, none of which ends within a character."""
    line, size = "", 0
    for char in text:
        octets = len(char.encode("utf-8", "surrogatepass"))
        if size + octets > _WIDTH:
            yield line
            line, size = " ", 1
        line += char
        size += octets
    yield line
