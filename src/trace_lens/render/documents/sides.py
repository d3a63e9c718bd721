"""The two sides in the terminal: how many values agree, a table, those that do not agree in full, what to copy."""

from __future__ import annotations

from trace_lens.agreement.rows import Cell, Copy, Row
from trace_lens.common.difference import difference
from trace_lens.common.findings import Finding
from trace_lens.comparison.comparing_sides import TwoSides
from trace_lens.render.document import (
    BLANK,
    Copied,
    Document,
    Span,
    TwoValues,
    answer,
    heading,
    line,
    prose,
    shown,
    table,
)

_VERDICTS = {
    "equal": "equal",
    "near": "NEAR MISS",
    "different": "DIFFERENT",
    "misplaced": "WRONG FIELD",
    "alone": "set",
}
_STYLES = {"near": "break", "different": "break", "misplaced": "break", "equal": "ok"}
_ORDER = ("misplaced", "different", "near", "equal", "alone")
_WRONG = ("misplaced", "different", "near")
_HEADS = {
    "application": "application",
    "application_metadata": "its metadata",
    "provider": "provider",
    "provider_metadata": "its metadata",
    "capture": "capture",
}
_COPIED = ("settings-disagree", "setting-misplaced")


def sides_pages(found: TwoSides, *, verbose: bool = False) -> Document:
    """The whole comparison; `verbose` gives the place of each value that agrees, too."""
    yield from _headline(found)
    yield BLANK
    yield from sides_table(found)
    for row in sorted(found.rows, key=lambda item: _ORDER.index(item.verdict)):
        if row.verdict in _WRONG or verbose:
            yield BLANK
            yield from _row(row, _columns(found))
    yield from _to_do(found)
    if not verbose:
        yield from _agreeing([row for row in found.rows if row.verdict not in _WRONG], _columns(found))
    for source, because in found.failed:
        yield prose(f"{source}: {because}.", 0, "break")


def sides_table(found: TwoSides) -> Document:
    """Every value that both sides must share, a row each, with what is wrong marked."""
    used = [head for head in _HEADS if any(cell.column == head for row in found.rows for cell in row.cells)]
    heads = {**_HEADS, "provider_metadata": "discovery"} if found.app.settings.protocol == "oidc" else _HEADS
    yield table(
        ("", *(heads[text] for text in used)),
        [(row.words, *(_overview(row, column) for column in used)) for row in found.rows],
    )


def values_table(found: TwoSides) -> Document:
    """Every value that both sides must share, as each holds it, a row each, and what came of comparing them."""
    used = [head for head in _HEADS if any(cell.column == head for row in found.rows for cell in row.cells)]
    heads = {**_HEADS, "provider_metadata": "discovery"} if found.app.settings.protocol == "oidc" else _HEADS
    words = {"alone": "on one side only", "near": "nearly equal", "misplaced": "in the wrong field"}
    rows: list[tuple[Span | str, ...]] = []
    for row in found.rows:
        held = {
            column: [_shortened(cell.value.text) for cell in row.cells if cell.column == column and cell.value.text]
            for column in used
        }
        style = "break" if row.verdict in _WRONG else "ok" if row.verdict == "equal" else "quiet"
        cells = (", ".join(dict.fromkeys(held[column])) or "–" for column in used)
        rows.append((row.words, Span(words.get(row.verdict, row.verdict), style), *cells))
    yield table(("value", "compared", *(heads[text] for text in used)), rows)


def _headline(found: TwoSides) -> Document:
    wrong = [row.words for row in found.rows if row.verdict in _WRONG]
    provider = found.provider.name if found.provider else "its provider, which is not on record"
    names = f"{found.app.name} and {provider}"
    beside = f", with {found.capture}" if found.capture else ""
    if wrong:
        does = "does" if len(wrong) == 1 else "do"
        head = f"{len(wrong)} of {len(found.rows)} values {does} not agree"
        yield answer(head, "break", f": {', '.join(wrong)}.")
    else:
        yield answer(f"All {len(found.rows)} values agree, as far as they are on record.", "ok", "")
    yield prose(f"{names}{beside}", 2)
    if found.fits_other:
        yield prose(f"The capture is made out to {found.fits_other}, not to {found.app.name}.", 2, "risk")


def _overview(row: Row, column: str) -> Span:
    verdicts = {cell.verdict for cell in row.cells if cell.column == column}
    worst = next((text for text in _ORDER if text in verdicts), None)
    return Span(_VERDICTS[worst], _STYLES.get(worst, "")) if worst else Span("-", "quiet")


def _values(row: Row) -> dict[str, list[Cell]]:
    """Each different value of a row once, with the cells that hold it."""
    values: dict[str, list[Cell]] = {}
    for cell in row.cells:
        values.setdefault(cell.value.text, []).append(cell)
    return values


def _columns(found: TwoSides) -> dict[str, str]:
    """What a line calls each column."""
    names = {head: head.replace("_", " ") for head in _HEADS}
    return {**names, "provider_metadata": "discovery"} if found.app.settings.protocol == "oidc" else names


def _row(row: Row, columns: dict[str, str]) -> Document:
    """One item: each different value with the columns that hold it, and the differing place marked."""
    yield heading(Span(row.words, "head"), f"  {_VERDICTS.get(row.verdict, '')}" if row.verdict in _STYLES else "")
    for text, cells in _values(row).items():
        worst = min(cells, key=lambda item: _ORDER.index(item.verdict))
        bad = worst.verdict in _WRONG
        yield line("  ", Span("! " if bad else "  ", "break"), Span(shown(text), "mark" if bad else ""))
        for cell in cells:
            yield prose(_holder(cell, columns), 6, "quiet", first="")
        if bad and worst.against:
            yield from _compared(worst, worst.against.text)


def _holder(cell: Cell, columns: dict[str, str]) -> str:
    place = f"{cell.value.file}, {cell.value.where}" if cell.value.where else cell.value.file
    return f"{columns[cell.column]}, {cell.value.meant}: {place}"


def _compared(cell: Cell, wanted: str) -> Document:
    found = difference(wanted, cell.value.text)
    if cell.belongs:
        yield prose(f"It is in the wrong field: it is {cell.belongs}.", 6)
    elif found and cell.verdict == "near":
        yield TwoValues(
            ("counts", "here"),
            (wanted, cell.value.text),
            (found.expected_span, found.actual_span),
            found.kind,
            indent=6,
        )


def _agreeing(rows: list[Row], columns: dict[str, str]) -> Document:
    """The values that agree, one a line, with who holds each."""
    if not rows:
        return
    yield BLANK
    yield heading(Span("What agrees, or is on one side only", "head"))
    listed = []
    for row in rows:
        for number, (text, cells) in enumerate(_values(row).items()):
            holders = ", ".join(dict.fromkeys(columns[cell.column] for cell in cells))
            listed.append(("" if number else row.words, holders, text))
    yield table(("", "", ""), [(words, Span(holders, "quiet"), _shortened(text)) for words, holders, text in listed])


def _shortened(text: str) -> str:
    """A fingerprint with its middle left out: people compare beginnings and endings."""
    return f"{text[:28]}…{text[-20:]}" if text.startswith(("sha256:", "sha1:")) and len(text) > 60 else text


def _to_do(found: TwoSides) -> Document:
    findings = [finding for finding in found.findings if not _is_copied(finding, found.copies)]
    if found.copies:
        yield BLANK
        yield heading(Span("What to copy", "head"))
    for copy in found.copies:
        whose = "on record for it" if copy.of_itself else "of the other side"
        yield prose(f"At the {copy.side}, set {copy.into.meant} to the {copy.value.meant} {whose}:", 2)
        yield Copied(copy.value.text)
        yield prose(f"{copy.value.file}, {copy.value.where}", 6, "quiet", first="from ")
        yield prose(f"{copy.into.file}, {copy.into.where}", 6, "quiet", first="into ")
    if findings:
        yield BLANK
        yield heading(Span("Worth knowing", "head"))
    for finding in findings:
        yield prose(f"{finding.code}: {finding.detail}", 2, finding.severity)


def _is_copied(finding: Finding, copies: list[Copy]) -> bool:
    """Whether a finding says no more than what is to be copied."""
    return finding.code in _COPIED and any(
        copy.value.text == finding.value_to_set and copy.side is finding.side for copy in copies
    )
