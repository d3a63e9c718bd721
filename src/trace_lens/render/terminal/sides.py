"""The two sides in the terminal: a table of how each item compares, the values under each other, what to copy."""

from __future__ import annotations

from collections.abc import Iterator

from trace_lens.checks.sides import COLUMNS, Cell, Row
from trace_lens.common.difference import difference
from trace_lens.common.masking import visible
from trace_lens.diagnosis.comparing_sides import TwoSides
from trace_lens.render.terminal import pages
from trace_lens.render.terminal.pages import BLANK, Line, Span, line, prose

_VERDICTS = {
    "equal": "equal",
    "near": "NEAR MISS",
    "different": "DIFFERENT",
    "misplaced": "WRONG FIELD",
    "alone": "set",
}
_STYLES = {"near": "break", "different": "break", "misplaced": "break", "equal": "ok"}
_ORDER = ("misplaced", "different", "near", "equal", "alone")
_HEADS = {
    "application": "application",
    "provider": "provider",
    "application_metadata": "its metadata",
    "provider_metadata": "its metadata ",
    "capture": "capture",
}


def sides_pages(found: TwoSides) -> Iterator[Line]:
    """The whole comparison."""
    provider = found.provider.name if found.provider else "no provider on record"
    yield line(
        Span(found.app.name, "head"), f" and {visible(provider)}", f", with {found.capture}" if found.capture else ""
    )
    yield BLANK
    used = [one for one in COLUMNS if any(cell.column == one for row in found.rows for cell in row.cells)]
    yield from pages.table(
        ("", *(_HEADS[one].strip() for one in used)),
        [(row.words, *(_overview(row, column) for column in used)) for row in found.rows],
    )
    for row in sorted(found.rows, key=lambda one: _ORDER.index(one.verdict)):
        yield BLANK
        yield from _row(row)
    yield from _to_do(found)
    for source, because in found.failed:
        yield from prose(f"{source}: {because}.", 0, "break")


def _overview(row: Row, column: str) -> Span:
    verdicts = {cell.verdict for cell in row.cells if cell.column == column}
    worst = next((one for one in _ORDER if one in verdicts), None)
    return Span(_VERDICTS[worst], _STYLES.get(worst, "")) if worst else Span("-", "quiet")


def _row(row: Row) -> Iterator[Line]:
    """One item: each different value once, with the columns that hold it, and the differing place marked."""
    yield line(Span(row.words, "head"), f"  {_VERDICTS.get(row.verdict, '')}" if row.verdict in _STYLES else "")
    values: dict[str, list[Cell]] = {}
    for cell in row.cells:
        values.setdefault(cell.value.text, []).append(cell)
    for text, cells in values.items():
        holders = ", ".join(dict.fromkeys(f"{_holder(cell)}" for cell in cells))
        worst = min(cells, key=lambda one: _ORDER.index(one.verdict))
        bad = worst.verdict in ("misplaced", "different", "near")
        yield line("  ", Span("! " if bad else "  ", "break"), Span(pages.shown(text), "mark" if bad else ""))
        yield from prose(holders, 6, "quiet")
        if bad and worst.against:
            yield from _compared(worst, worst.against.text)


def _holder(cell: Cell) -> str:
    place = f"{cell.value.file}, {cell.value.where}" if cell.value.where else cell.value.file
    name = cell.column.replace("_", " ")
    return f"{name} ({cell.value.meant}: {place})"


def _compared(cell: Cell, wanted: str) -> Iterator[Line]:
    found = difference(wanted, cell.value.text)
    if cell.belongs:
        yield from prose(f"It stands in the wrong field: it is {cell.belongs}.", 6)
    elif found and cell.verdict == "near":
        yield from pages.compared(
            wanted, cell.value.text, (found.expected_span, found.actual_span), found.kind, indent=6
        )


def _to_do(found: TwoSides) -> Iterator[Line]:
    yield BLANK
    if not found.copies and not found.findings:
        yield line(Span("Nothing to copy: what is on record agrees.", "ok"))
        return
    if found.copies:
        yield line(Span("What to copy", "head"))
    for one in found.copies:
        yield from prose(
            f"At the {one.side}, {one.item}: from {one.value.file} ({one.value.meant}) to {one.into.meant}"
            f"{_into(one.into.file, one.into.where, found)}",
            2,
        )
        yield line("    ", Span(visible(one.value.text), "set"))
    for finding in found.findings:
        yield from prose(f"{finding.code}: {finding.detail}", 2, finding.severity)


def _into(file: str, where: str, found: TwoSides) -> str:
    return "" if file == found.capture else f" ({file}, {where})"
