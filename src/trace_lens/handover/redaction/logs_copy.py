"""The lines of logs that belong to some attempts, redacted, with the descriptions that read them."""

from __future__ import annotations

import csv
import gzip
import io
from collections import defaultdict
from collections.abc import Iterable, Mapping
from pathlib import Path

from trace_lens.diagnosis.judging import Diagnosis
from trace_lens.diagnosis.logbook import keep_clocks
from trace_lens.handover.redaction.files import FileCopy
from trace_lens.logs.formats.delimited import sniffed
from trace_lens.logs.formats.records import unpacked
from trace_lens.logs.formats.rows import DAMAGED
from trace_lens.logs.store.loading import load_all
from trace_lens.logs.store.store import EventStore
from trace_lens.workspace.log_sources import FOLDER, LogSource, log_sources
from trace_lens.workspace.records import Workspace

_BY_LINE = ("csv", "jsonl", "syslog", "w3c", "combined", "pairs")


def write_logs(
    room: Path, workspace: Workspace, diagnoses: Iterable[Diagnosis], files: FileCopy
) -> tuple[list[str], list[str]]:
    """Write the lines that were matched, and the descriptions; names of the files, and of those that could not be.

    A log whose rows are no lines (an array in JSON, Parquet) is left out, and so is one that cannot be read any more.
    """
    if workspace.root is None:
        return [], []
    sources = log_sources(workspace)
    wanted: dict[tuple[str, str], set[int]] = defaultdict(set)
    for diagnosis in diagnoses:
        for matched in diagnosis.details.logs.events if diagnosis.details.logs else ():
            event = matched.event
            wanted[event.source, event.file].add(event.line)
    written, left_out = [], []
    for (name, file), lines in sorted(wanted.items()):
        source = sources.get(name)
        text = _lines_of(source, workspace.root / file, lines) if source else None
        if source is None or text is None:
            left_out.append(file)
            continue
        data = files.text(text, file.removesuffix(".gz"), source.settings.format).encode("utf-8", "surrogateescape")
        target = room / file
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(gzip.compress(data, mtime=0) if file.endswith(".gz") else data)
        written.append(file)
    for name in sorted({name for name, _ in wanted}):
        description = f"{FOLDER}/{name}.toml"
        text = (workspace.root / description).read_text("utf-8-sig")
        (room / FOLDER).mkdir(exist_ok=True)
        (room / description).write_text(files.settings(text), "utf-8")
        written.append(description)
    return written, left_out


def load_logs(room: Path, workspace: Workspace) -> None:
    """Load them into a store of their own. Raises StoreProblem."""
    sources: Mapping[str, LogSource] = log_sources(workspace)
    files = [file for source in sources.values() for file in source.files_in(room)]
    with EventStore(room, writing=True, files=files) as store:
        load_all(store, sources.values(), room)
        keep_clocks(workspace, store)


def _lines_of(source: LogSource, path: Path, lines: set[int]) -> str | None:
    """The lines of a log by their numbers, with what the format needs before them."""
    form = source.settings.format
    if form not in _BY_LINE:
        return None
    try:
        with path.open("rb") as stream:
            text = io.TextIOWrapper(unpacked(stream), source.settings.encoding or "utf-8-sig", "replace", newline="")
            if form == "csv":
                return _rows(text, lines, source.settings.delimiter)
            return "".join(
                line for number, line in enumerate(text, 1) if number in lines or (form == "w3c" and line[:1] == "#")
            )
    except (OSError, csv.Error, *DAMAGED):
        return None


def _rows(text: io.TextIOWrapper, lines: set[int], delimiter: str | None) -> str:
    """The header of a table, and the rows that begin or end in these lines."""
    sample = text.readline()
    sign = delimiter or sniffed(sample)
    reader = csv.reader(_and_then(sample, text), delimiter=sign)
    target = io.StringIO(newline="")
    writer = csv.writer(target, delimiter=sign, lineterminator="\n")
    begin = 1
    for number, row in enumerate(reader):
        if number == 0 or not lines.isdisjoint(range(begin, reader.line_num + 1)):
            writer.writerow(row)
        begin = reader.line_num + 1
    return target.getvalue()


def _and_then(first: str, others: Iterable[str]) -> Iterable[str]:
    yield first
    yield from others
