"""Logs in the terminal: what a check of a file shows."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from trace_lens.common.masking import visible
from trace_lens.common.moments import show_moment
from trace_lens.logs.event import Event
from trace_lens.logs.recognising.checking import Checked
from trace_lens.logs.store.loading import Loaded
from trace_lens.logs.store.store import LoadedFile
from trace_lens.render.document import BLANK, Document, Drawing, Fact, Span, Spans, heading, line, prose, shown, table

_WIDTH = 40
_WORTH_A_RATE = 1_000


def _count(number: int, what: str) -> str:
    return f"{number:,} {what}{'' if number == 1 else 's'}"


def checked_pages(found: Checked) -> Document:
    """A check: the answer, the columns, the outcomes, the bad rows, and the description that is proposed."""
    good = found.sample.rows - found.sample.bad
    word = "unknown to the workspace" if found.proposal else f"read as {found.source}"
    head = f"{good:,} of {found.sample.rows:,} rows of {found.form} can be read"
    yield line(Span(head, "ok" if not found.sample.bad else "risk"), f"; {visible(found.file)} is {word}.")
    if not found.sample.whole:
        yield prose(f"The first {found.sample.rows:,} rows were read; the file holds more.", 2, "quiet")
    if found.times.first and found.times.last:
        yield Fact("from", f"{show_moment(found.times.first)} to {show_moment(found.times.last)}")
    if found.times.zoneless and not found.proposal:
        told = f"{found.times.zoneless:,} times carry no zone and were read as UTC; set time_zone"
        yield Fact("zone", told)
    if found.times.ambiguous:
        yield Fact(
            "zone",
            f"{found.times.ambiguous:,} times lie in an hour that came twice, and nothing decides; "
            "they were taken as the first",
        )
    yield Fact("missing", _missing(found))
    yield BLANK
    yield from _columns(found)
    if found.outcomes:
        yield BLANK
        yield heading(Span("Outcomes", "head"))
        style = {"success": "ok", "failure": "break"}
        yield table(
            ("", "", "rows"),
            [
                (word, Span(outcome, style.get(outcome, "risk")), f"{count:,}")
                for word, count, outcome in found.outcomes
            ],
        )
    if found.sample.bad:
        yield BLANK
        yield heading(Span(f"Bad rows, {found.sample.bad:,} in all", "break"))
        for bad in found.sample.examples:
            yield prose(f"line {bad.line}: {bad.because}", 2)
            if bad.text:
                yield Drawing(partial(_cut, bad.text))
    if found.proposed is not None:
        for remark in found.proposal.remarks if found.proposal else ():
            yield prose(f"Mind: {remark}.", 0, "risk")
        yield BLANK
        yield heading(Span("Proposed description", "head"), "; --write NAME saves it as logs/NAME.toml")
        for text in found.proposed.splitlines():
            yield line("  ", visible(text))


def _missing(found: Checked) -> str:
    lacking = [f"{name} in {share:.0%}" for name, share in found.lacking.items() if 0 < share < 1]
    never = [name for name, share in found.lacking.items() if share == 1]
    parts = (
        ", ".join(lacking) + " of the rows" if lacking else "",
        f"never told: {', '.join(never)}" if never else "",
    )
    return "; ".join(filter(None, parts)) or "nothing"


def _columns(found: Checked) -> Document:
    yield heading(Span("Columns", "head"))
    rows = []
    told = {name: match for match in (found.proposal.found.matches if found.proposal else ()) for name in match.columns}
    for column, fields in found.columns:
        field = ", ".join(fields)
        filled = f"{column.filled / found.sample.records:.0%}" if found.sample.records else ""
        examples = ", ".join(
            example if len(example) <= _WIDTH else example[: _WIDTH - 1] + "…" for example in column.examples[:2]
        )
        rows.append((column.name, Span(field or "not used", "head" if field else "quiet"), filled, examples))
    yield table(("column", "read as", "filled", "for example"), rows)
    if told:
        yield BLANK
        yield heading(Span("Why", "head"))
        style = {"sure": "ok", "likely": "note", "guess": "risk"}
        found_as = found.proposal.found.matches if found.proposal else ()
        yield table(
            ("", "", "", ""),
            [
                (match.field, " ".join(match.columns), Span(match.sure, style[match.sure]), match.because)
                for match in found_as
            ],
        )


def _cut(text: str, width: int) -> list[Spans]:
    """A row of a log, as far as it fits on a line."""
    return [(Span(f"    {shown(text)[: width - 6]}", "quiet"),)]


def loaded_pages(loaded: Sequence[Loaded], seconds: float) -> Document:
    """What was loaded: counted first, then file by file, then the bad rows."""
    rows = sum(loading.rows - loading.again for loading in loaded)
    rate = f", {rows / seconds:,.0f} a second" if rows > _WORTH_A_RATE and seconds > 0 else ""
    yield heading(Span(_count(rows, "new event"), "head"), f" from {_count(len(loaded), 'file')}{rate}.")
    words = {"new": "loaded", "grown": "its new rows loaded", "same": "nothing new"}
    yield table(
        ("", "", "", "events", "bad"),
        [
            (
                loading.source,
                loading.file,
                Span(loading.problem or words[loading.state], "break" if loading.problem else ""),
                f"{loading.rows:,}",
                f"{loading.bad:,}" if loading.bad else "",
            )
            for loading in loaded
        ],
    )
    for loading in loaded:
        if loading.again:
            told = f"{_count(loading.again, 'event')} of it stand{'s' if loading.again == 1 else ''} in"
            yield prose(f"{loading.file}: {told} {', '.join(loading.again_in)} too; they count once.", 2, "quiet")
        if loading.ambiguous:
            told = f"{loading.ambiguous:,} times lie in an hour that came twice, and nothing decides"
            yield prose(f"{loading.file}: {told}; they were taken as the first.", 2, "risk")
        for bad in loading.examples:
            yield prose(f"{loading.file}, line {bad.line}: {bad.because}", 2, "quiet")


def file_pages(files: Sequence[LoadedFile]) -> Document:
    """The files that were loaded."""
    if not files:
        yield line("No logs are loaded yet; load them with: trace-lens logs load")
        return
    contents = {(file.source, file.digest): file for file in files}
    events = sum(file.rows - file.again for file in contents.values())
    yield line(Span(_count(events, "event"), "head"), f" of {_count(len(files), 'file')}.")
    overlapping = any(file.again for file in files)
    yield table(
        ("source", "file", "events", *(["in another file too"] if overlapping else []), "bad", "loaded"),
        [
            (
                file.source,
                file.file + (f" (content {file.generation}, replaced since)" if file.generation else ""),
                f"{file.rows:,}",
                *([f"{file.again:,}" if file.again else ""] if overlapping else []),
                f"{file.bad:,}",
                show_moment(file.loaded_at.replace(microsecond=0)),
            )
            for file in files
        ],
    )


def _also(event: Event) -> str:
    """Where an event stands besides."""
    if not event.also:
        return ""
    return f" (also {', '.join(f'{place.file} line {place.line}' for place in event.also)})"


def event_pages(found: Sequence[Event]) -> Document:
    """Events, a line each."""
    yield line(Span(_count(len(found), "event"), "head"), "." if found else " fit.")
    if not found:
        return
    style = {"success": "ok", "failure": "break"}
    yield table(
        ("time", "source", "user", "application", "", "code", "reason"),
        [
            (
                show_moment(event.time.replace(microsecond=0)),
                event.source,
                event.user or "",
                event.app or "",
                Span(event.outcome, style.get(event.outcome, "")),
                event.code or "",
                (event.reason or "") + (" (doubled)" if event.doubled else "") + _also(event),
            )
            for event in found
        ],
    )
