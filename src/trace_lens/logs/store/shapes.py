"""What the form of a log file, and of the part that was made of it, tells a load."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from pathlib import Path
from typing import Any

from trace_lens.logs.formats.events import rows_of, time_at, time_form, time_paths
from trace_lens.logs.formats.records import unpacked
from trace_lens.logs.formats.rows import Record
from trace_lens.logs.formats.times import is_descending
from trace_lens.logs.store.bulk import HEADERS, Bulk
from trace_lens.logs.store.facts import Facts
from trace_lens.logs.store.manifest import Content
from trace_lens.logs.store.writing import Written
from trace_lens.workspace.log_sources import LogSource

_LOOKED_AT = 300


def that_meet(contents: Sequence[Content], fresh: Collection[str]) -> list[Content]:
    """The contents whose times meet those of another, one of the two being fresh."""
    import numpy as np

    timed = [content for content in contents if content.first and content.last]
    first, last = (
        np.array([moment.timestamp() for content in timed if (moment := getattr(content, end))])
        for end in ("first", "last")
    )
    near = np.zeros(len(timed), dtype=bool)
    for number, content in enumerate(timed):
        if content.id in fresh:
            meeting = (first <= last[number]) & (first[number] <= last)
            meeting[number] = False
            near |= meeting
            near[number] |= meeting.any()
    return [timed[number] for number in np.flatnonzero(near)]


def is_whole(source: LogSource, facts: Facts, written: Written) -> bool:
    """Whether a part has an event for each line of its file."""
    return written.rows == facts.file.lines - HEADERS[source.settings.format] + (0 if facts.ends else 1)


def steady_in(bulk: Bulk, written: Written) -> bool:
    """Whether the clocks of a zone did not change between the times of a part."""
    if bulk.first is None or bulk.last is None:
        return True
    return bool(written.first and written.last and bulk.first <= written.first <= written.last <= bulk.last)


def is_packed(path: Path) -> bool:
    """Whether a file begins as one packed by gzip or Zstandard."""
    with path.open("rb") as stream:
        head = stream.read(4)
    return head[:2] == b"\x1f\x8b" or head == b"\x28\xb5\x2f\xfd"


def named_as_packed(path: Path) -> bool:
    """Whether the database, which goes by the name, unpacks a file where it must."""
    with path.open("rb") as stream:
        head = stream.read(4)
    kind = ".gz" if head[:2] == b"\x1f\x8b" else ".zst" if head == b"\x28\xb5\x2f\xfd" else ""
    return path.suffix == kind if kind else path.suffix not in (".gz", ".zst")


def descending(source: LogSource, path: Path) -> bool:
    """Whether the file stands newest first; only a zone whose clocks change makes that matter."""
    paths = time_paths(source)
    if source.zone is None or not paths:
        return False
    values: list[Any] = []
    with path.open("rb") as stream:
        for row in rows_of(unpacked(stream), source):
            if isinstance(row, Record):
                values.append(time_at(row.values, paths))
            if len(values) >= _LOOKED_AT:
                break
    return is_descending(values, time_form(source))
