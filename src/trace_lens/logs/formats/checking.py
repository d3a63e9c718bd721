"""Does a description read a file well? A sample is read and told, column by column; bad rows are counted and shown."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from datetime import datetime
from itertools import chain, islice
from pathlib import Path
from typing import BinaryIO, NamedTuple

from trace_lens.logs.event import FIELDS, Event
from trace_lens.logs.formats.events import events_of, field_paths, text_of, time_form
from trace_lens.logs.formats.proposing import Column, Proposal, columns_of, form_of, propose
from trace_lens.logs.formats.records import DAMAGED, BadRow, Record, Unreadable, records_of, unpacked, value_at
from trace_lens.logs.formats.times import TimeReader, is_descending
from trace_lens.workspace.log_sources import LogSettings, LogSource

SAMPLE = 5_000
_SHOWN_BAD = 5
_HEAD = 64 * 1024


class Checked(NamedTuple):
    """What came of a check: of the `rows` looked at, `records` could be taken apart, and `bad` are of no use.

    `lacking` is the share of records without each field, from 0 to 1; `columns` say what each column was taken for;
    `outcomes` count the words and what they count as; `whole` says that the sample was the whole file.
    """

    file: str
    source: str | None
    form: str
    rows: int
    records: int
    whole: bool
    bad: int
    examples: tuple[BadRow, ...]
    lacking: dict[str, float]
    columns: tuple[tuple[Column, str | None], ...]
    outcomes: tuple[tuple[str, int, str], ...]
    first: datetime | None
    last: datetime | None
    ambiguous: int
    zoneless: int
    proposal: Proposal | None


def check(path: Path, source: LogSource | None, sample: int = SAMPLE) -> Checked:
    """Read a sample of a file by a description, or by one that is proposed. Raises Unreadable, OSError."""
    proposal = None
    with path.open("rb") as stream:
        opened = unpacked(stream)
        if source is None:
            source, proposal = _proposed(path, sample)
        rows = list(islice(rows_of(opened, source), sample + 1))
    whole = len(rows) <= sample
    return _told(str(path), source, rows[:sample], whole, proposal)


def _proposed(path: Path, sample: int) -> tuple[LogSource, Proposal]:
    """A description made from a sample of the file."""
    with path.open("rb") as stream:
        head = _head(unpacked(stream))
    if not head.strip():
        raise Unreadable("it is empty")
    form, delimiter, rows = form_of(head)
    bare = LogSource("", "", LogSettings(role="provider", format=form, delimiter=delimiter, rows=rows))  # type: ignore[arg-type]
    with path.open("rb") as stream:
        read = [row for row in islice(rows_of(unpacked(stream), bare), min(sample, 500)) if isinstance(row, Record)]
    if not read:
        raise Unreadable(f"no row of it can be read as {form}, which it seems to be")
    proposal = propose(form, delimiter, rows, read)
    settings = LogSettings.model_validate(
        {
            "role": "provider",
            "format": form,
            "delimiter": delimiter,
            "rows": rows,
            "fields": {**proposal.fields, "ids": list(proposal.ids)},
            "outcomes": {"success": list(proposal.success), "failure": list(proposal.failure)},
        }
    )
    return LogSource("", "", settings), proposal


def _head(stream: BinaryIO) -> bytes:
    try:
        return stream.read(_HEAD)
    except DAMAGED as error:
        raise Unreadable(f"it is damaged ({error})") from None


def rows_of(stream: BinaryIO, source: LogSource) -> Iterator[Record | BadRow]:
    """The records of a decompressed stream, read as a source is described. Raises Unreadable."""
    told = source.settings
    return records_of(stream, told.format, delimiter=told.delimiter, encoding=told.encoding, rows=told.rows)


def _told(file: str, source: LogSource, rows: list[Record | BadRow], whole: bool, proposal: Proposal | None) -> Checked:
    records = [row for row in rows if isinstance(row, Record)]
    form = time_form(source)
    paths = field_paths(source)
    times = (value_at(record.values, paths["time"]) for record in records[:200]) if "time" in paths else iter(())
    reader = TimeReader(form, descending=is_descending(times, form))
    read = list(events_of(source, file, iter(rows), reader))
    events = [row for row in read if isinstance(row, Event)]
    bad = [row for row in read if isinstance(row, BadRow)]
    lacking = {
        name: sum(value_at(record.values, paths[name]) in (None, "", "-") for record in records) / len(records)
        if name in paths and records
        else 1.0
        for name in FIELDS
    }
    named = {path: name for name, path in paths.items()} | dict.fromkeys(source.settings.fields.ids, "ids")
    columns = tuple((column, named.get(column.name)) for column in columns_of(records))
    outcomes = {event.line: event.outcome for event in events}
    words = Counter(
        (text_of(value_at(record.values, paths["outcome"])) or "(none)", outcomes[record.line])
        for record in records
        if "outcome" in paths and record.line in outcomes
    )
    moments = [event.time for event in events]
    return Checked(
        file=file,
        source=source.id or None,
        form=source.settings.format,
        rows=len(rows),
        records=len(records),
        whole=whole,
        bad=len(bad),
        examples=tuple(_examples(bad)),
        lacking=lacking,
        columns=columns,
        outcomes=tuple((word, count, outcome) for (word, outcome), count in words.most_common(20)),
        first=min(moments, default=None),
        last=max(moments, default=None),
        ambiguous=reader.ambiguous,
        zoneless=reader.zoneless if source.settings.time_zone is None else 0,
        proposal=proposal,
    )


def _examples(bad: list[BadRow]) -> Iterator[BadRow]:
    """One bad row for each reason first, then others."""
    reasons: dict[str, BadRow] = {}
    for row in bad:
        reasons.setdefault(row.because[:24], row)
    rest = (row for row in bad if row not in reasons.values())
    return islice(chain(reasons.values(), rest), _SHOWN_BAD)
