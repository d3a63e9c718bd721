"""Does a description read a file well? A sample is read and told, column by column; bad rows are counted and shown."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator
from datetime import datetime
from itertools import chain, islice
from pathlib import Path
from typing import BinaryIO

from trace_lens.common.tuples import NamedTuple
from trace_lens.logs.event import FIELDS, Event
from trace_lens.logs.formats.events import events_of, field_paths, rows_of, text_of, time_at, time_form, time_paths
from trace_lens.logs.formats.records import unpacked
from trace_lens.logs.formats.rows import DAMAGED, BadRow, Record, Unreadable, value_at
from trace_lens.logs.formats.times import TimeReader, is_descending
from trace_lens.logs.recognising.columns import Column, columns_of
from trace_lens.logs.recognising.forms import form_of
from trace_lens.logs.recognising.known import Known
from trace_lens.logs.recognising.proposing import Proposal, as_toml, propose
from trace_lens.workspace.log_settings import LogSettings
from trace_lens.workspace.log_sources import LogSource, naming
from trace_lens.workspace.records import Workspace
from trace_lens.workspace.settings import read_table

SAMPLE = 5_000
_SHOWN_BAD = 5
_HEAD = 64 * 1024


class Sample(NamedTuple):
    """What was looked at: of the `rows`, `records` could be taken apart, and `bad` are of no use, with some of these as
    `examples`; `whole` says that the sample was the whole file.
    """

    rows: int
    records: int
    whole: bool
    bad: int
    examples: tuple[BadRow, ...]


class Times(NamedTuple):
    """The first and the last moment; how many times were ambiguous, and how many carried no zone."""

    first: datetime | None
    last: datetime | None
    ambiguous: int
    zoneless: int


class Checked(NamedTuple):
    """What came of a check.

    `lacking` is the share of records without each field, from 0 to 1; `columns` say what each column is read as;
    `outcomes` count the words and what they count as; `proposed` is the proposal as a description in TOML.
    """

    file: str
    source: str | None
    form: str
    sample: Sample
    times: Times
    lacking: dict[str, float]
    columns: tuple[tuple[Column, tuple[str, ...]], ...]
    outcomes: tuple[tuple[str, int, str], ...]
    proposal: Proposal | None
    proposed: str | None = None


def check(path: Path, source: LogSource | None, known: Known | None = None, sample: int = SAMPLE) -> Checked:
    """Read a sample of a file by a description, or by one that is proposed by what is known.

    Raises Unreadable, OSError.
    """
    proposal = None
    with path.open("rb") as stream:
        opened = unpacked(stream)
        if source is None:
            source, proposal = _proposed(path, known, sample)
        rows = list(islice(rows_of(opened, source), sample + 1))
    whole = len(rows) <= sample
    return _told(str(path), source, rows[:sample], whole, proposal)


def check_for(
    workspace: Workspace, path: Path, source: LogSource | None, known: Callable[[], Known | None], name: str | None
) -> Checked:
    """Check a file of a workspace, or one beside it: by a description, else by the one that names it, unless a new one
    is wanted under a name; what is proposed comes as TOML too. Raises Unreadable, OSError, SettingsError.
    """
    if source is None and name is None:
        source = naming(workspace, path)
    found = check(path, source, None if source else known())
    if found.proposal is None:
        return found
    place, root = path.resolve(), workspace.root.resolve() if workspace.root else None
    inside = root is not None and place.is_relative_to(root)
    named = place.relative_to(root) if root and inside else place
    proposed = as_toml(found.proposal, name or path.name.partition(".")[0], named.as_posix())
    if root is None or inside:
        return found._replace(proposed=proposed)
    remark = "this file is outside the workspace: copy it into logs/, or load it with --trust-workspace"
    proposal = found.proposal._replace(remarks=(*found.proposal.remarks, remark))
    return found._replace(proposed=proposed, proposal=proposal)


def _proposed(path: Path, known: Known | None, sample: int) -> tuple[LogSource, Proposal]:
    """A description made from a sample of the file."""
    with path.open("rb") as stream:
        head = _head(unpacked(stream))
    if not head.strip():
        raise Unreadable("it is empty")
    form = form_of(head)
    bare = LogSource("", "", read_table(LogSettings, {"role": "provider", **form._asdict()}))
    with path.open("rb") as stream:
        read = [row for row in islice(rows_of(unpacked(stream), bare), min(sample, 1_000)) if isinstance(row, Record)]
    if not read:
        raise Unreadable(f"no row of it can be read as {form.format}, which it seems to be")
    proposal = propose(form, read, path.name, known)
    settings = read_table(LogSettings, proposal.settings())
    return LogSource("", "", settings), proposal


def _head(stream: BinaryIO) -> bytes:
    try:
        return stream.read(_HEAD)
    except DAMAGED as error:
        raise Unreadable(f"it is damaged ({error})") from None


def _told(file: str, source: LogSource, rows: list[Record | BadRow], whole: bool, proposal: Proposal | None) -> Checked:
    records = [row for row in rows if isinstance(row, Record)]
    form = time_form(source)
    paths = field_paths(source)
    at = time_paths(source)
    times = (time_at(record.values, at) for record in records[:200]) if at else iter(())
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
    if len(at) > 1 and records:
        lacking["time"] = sum(time_at(record.values, at) is None for record in records) / len(records)
    named: dict[str, list[str]] = {}
    for field, path in (*paths.items(), *(("time", path) for path in at if len(at) > 1)):
        named.setdefault(path, []).append(field)
    for path in source.settings.fields.ids:
        named.setdefault(path, []).append("ids")
    columns = tuple((column, tuple(named.get(column.name, ()))) for column in columns_of(records))
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
        sample=Sample(len(rows), len(records), whole, len(bad), tuple(_examples(bad))),
        times=Times(
            first=min(moments, default=None),
            last=max(moments, default=None),
            ambiguous=reader.ambiguous,
            zoneless=reader.zoneless if source.settings.time_zone is None else 0,
        ),
        lacking=lacking,
        columns=columns,
        outcomes=tuple((word, count, outcome) for (word, outcome), count in words.most_common(20)),
        proposal=proposal,
    )


def _examples(bad: list[BadRow]) -> Iterator[BadRow]:
    """One bad row for each reason first, then others."""
    reasons: dict[str, BadRow] = {}
    for row in bad:
        reasons.setdefault(row.because[:24], row)
    rest = (row for row in bad if row not in reasons.values())
    return islice(chain(reasons.values(), rest), _SHOWN_BAD)
