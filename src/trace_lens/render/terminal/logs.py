"""Logs in the terminal: what a check of a file shows."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from trace_lens.common.masking import visible
from trace_lens.common.moments import show_moment
from trace_lens.logs.event import Event
from trace_lens.logs.formats.checking import Checked
from trace_lens.logs.store.loading import Loaded
from trace_lens.logs.store.store import LoadedFile
from trace_lens.render.terminal import pages
from trace_lens.render.terminal.pages import BLANK, Line, Span, line, prose

_WIDTH = 40
_WORTH_A_RATE = 1_000


def _count(number: int, what: str) -> str:
    return f"{number:,} {what}{'' if number == 1 else 's'}"


def checked_pages(found: Checked, proposed: str | None) -> Iterator[Line]:
    """A check: the answer, the columns, the outcomes, the bad rows, and the description that is proposed."""
    good = found.rows - found.bad
    word = "unknown to the workspace" if found.proposal else f"read as {found.source}"
    head = f"{good:,} of {found.rows:,} rows of {found.form} can be read"
    yield line(Span(head, "ok" if not found.bad else "risk"), f"; {visible(found.file)} is {word}.")
    if not found.whole:
        yield from prose(f"The first {found.rows:,} rows were read; the file holds more.", 2, "quiet")
    if found.first and found.last:
        yield from pages.row("from", f"{show_moment(found.first)} to {show_moment(found.last)}")
    if found.zoneless and not found.proposal:
        told = f"{found.zoneless:,} times carry no zone and were read as UTC; set time_zone"
        yield from pages.row("zone", told)
    if found.ambiguous:
        yield from pages.row(
            "zone",
            f"{found.ambiguous:,} times lie in an hour that came twice, and nothing decides; "
            "they were taken as the first",
        )
    lacking = [f"{name} in {share:.0%}" for name, share in found.lacking.items() if 0 < share < 1]
    never = [name for name, share in found.lacking.items() if share == 1]
    yield from pages.row(
        "lacking",
        "; ".join(
            filter(
                None,
                (
                    ", ".join(lacking) + " of the rows" if lacking else "",
                    f"never told: {', '.join(never)}" if never else "",
                ),
            )
        )
        or "nothing",
    )
    yield BLANK
    yield line(Span("Columns", "head"))
    rows = []
    for column, field in found.columns:
        filled = f"{column.filled / found.records:.0%}" if found.records else ""
        examples = ", ".join(
            example if len(example) <= _WIDTH else example[: _WIDTH - 1] + "…" for example in column.examples[:2]
        )
        rows.append((column.name, Span(field or "not used", "head" if field else "quiet"), filled, examples))
    yield from pages.table(("column", "read as", "filled", "for example"), rows)
    if found.outcomes:
        yield BLANK
        yield line(Span("Outcomes", "head"))
        style = {"success": "ok", "failure": "break"}
        yield from pages.table(
            ("", "", "rows"),
            [
                (word, Span(outcome, style.get(outcome, "risk")), f"{count:,}")
                for word, count, outcome in found.outcomes
            ],
        )
    if found.bad:
        yield BLANK
        yield line(Span(f"Bad rows, {found.bad:,} in all", "break"))
        for bad in found.examples:
            yield from prose(f"line {bad.line}: {bad.because}", 2)
            if bad.text:
                yield line("    ", Span(pages.shown(bad.text)[: pages.width() - 6], "quiet"))
    if proposed is not None:
        for remark in found.proposal.remarks if found.proposal else ():
            yield from prose(f"Mind: {remark}.", 0, "risk")
        yield BLANK
        yield line(Span("Proposed description", "head"), "; --write NAME saves it as logs/NAME.toml")
        for text in proposed.splitlines():
            yield line("  ", visible(text))


def loaded_pages(loaded: Sequence[Loaded], seconds: float) -> Iterator[Line]:
    """What was loaded: counted first, then file by file, then the bad rows."""
    rows = sum(loading.rows for loading in loaded)
    rate = f", {rows / seconds:,.0f} a second" if rows > _WORTH_A_RATE and seconds > 0 else ""
    yield line(Span(_count(rows, "new event"), "head"), f" from {_count(len(loaded), 'file')}{rate}.")
    words = {"new": "loaded", "grown": "its new rows loaded", "same": "nothing new"}
    yield from pages.table(
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
        if loading.ambiguous:
            told = f"{loading.ambiguous:,} times lie in an hour that came twice, and nothing decides"
            yield from prose(f"{loading.file}: {told}; they were taken as the first.", 2, "risk")
        for bad in loading.examples:
            yield from prose(f"{loading.file}, line {bad.line}: {bad.because}", 2, "quiet")


def file_pages(files: Sequence[LoadedFile]) -> Iterator[Line]:
    """The files that were loaded."""
    if not files:
        yield line("No logs are loaded yet; load them with: trace-lens logs load")
        return
    yield line(Span(_count(sum(file.rows for file in files), "event"), "head"), f" of {_count(len(files), 'file')}.")
    yield from pages.table(
        ("source", "file", "events", "bad", "loaded"),
        [
            (
                file.source,
                file.file,
                f"{file.rows:,}",
                f"{file.bad:,}",
                show_moment(file.loaded_at.replace(microsecond=0)),
            )
            for file in files
        ],
    )


def event_pages(found: Sequence[Event]) -> Iterator[Line]:
    """Events, a line each."""
    yield line(Span(_count(len(found), "event"), "head"), "." if found else " fit.")
    if not found:
        return
    style = {"success": "ok", "failure": "break"}
    yield from pages.table(
        ("time", "source", "user", "application", "", "code", "reason"),
        [
            (
                show_moment(event.time.replace(microsecond=0)),
                event.source,
                event.user or "",
                event.app or "",
                Span(event.outcome, style.get(event.outcome, "")),
                event.code or "",
                (event.reason or "") + (" (doubled)" if event.doubled else ""),
            )
            for event in found
        ],
    )
