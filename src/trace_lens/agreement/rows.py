"""Rows of values that both sides must share, one column a place."""

from __future__ import annotations

from trace_lens.agreement.pairs import Value
from trace_lens.agreement.settings import misplaced
from trace_lens.common.difference import Difference, difference, is_near, skeleton
from trace_lens.common.findings import Side
from trace_lens.common.tuples import NamedTuple
from trace_lens.workspace.records import App, Workspace

COLUMNS = ("application", "provider", "application_metadata", "provider_metadata", "capture")
"""Where a value of a row may stand."""


class Cell(NamedTuple):
    """One value of a row: the column that it stands in, what it is held against, and how it compares.

    `verdict` is `equal`, `near`, `different`, `misplaced` or `alone`; `belongs` says what a misplaced value is.
    """

    column: str
    value: Value
    verdict: str = "alone"
    against: Value | None = None
    difference: Difference | None = None
    belongs: str | None = None


class Row(NamedTuple):
    """One item: its cells, whose value it is (`owner`), and the value that counts, where one does."""

    item: str
    words: str
    owner: Side
    cells: tuple[Cell, ...]
    counts: Value | None

    @property
    def verdict(self) -> str:
        """The worst verdict of its cells; `missing` where there is no value at all."""
        found = {cell.verdict for cell in self.cells}
        return next(
            (literal for literal in ("misplaced", "different", "near", "equal", "alone") if literal in found), "missing"
        )


class Copy(NamedTuple):
    """What to copy from where to where."""

    item: str
    side: Side
    value: Value
    into: Value
    of_itself: bool = False
    """Whether the value is the side's own, and only what it sends is another."""


class Sides:
    """Gathers the values of each item: what the protocols share."""

    def __init__(self, app: App, workspace: Workspace) -> None:
        self.app = app
        self.workspace = workspace
        self.provider = workspace.provider_of(app)
        self.mine = app.settings.application
        self.setup = app.settings.provider_setup

    def _in_app(self, key: str, *texts: str | None) -> list[tuple[str, Value]]:
        place = self.app.source.where("application", key)
        return [("application", Value(key, text, self.app.source.file, place)) for text in texts if text]

    def _at_provider(self, key: str, text: str | None) -> list[tuple[str, Value]]:
        place = self.app.source.where("provider_setup", key)
        return [("provider", Value(key, text, self.app.source.file, place))] if text else []

    def _of_provider(self, key: str, *texts: str | None) -> list[tuple[str, Value]]:
        if self.provider is None:
            return []
        source = self.provider.source
        return [("provider", Value(key, text, source.file, source.where(key))) for text in texts if text]

    def _row(
        self,
        item: str,
        words: str,
        owner: Side,
        cells: list[tuple[str, Value]],
        *,
        counts: Value | None = None,
        some_of: bool = False,
    ) -> Row:
        """A row with each cell held against the value that counts: the owner's own, its settings before its metadata.

        With `some_of` the owner may hold several, and another cell has to be one of them.
        """
        own = [value for column, value in cells if column == owner.value]
        published = [value for column, value in cells if column == f"{owner.value}_metadata"]
        accepted = own or published
        if counts is None and accepted:
            counts = accepted[0]
        judged = []
        for column, value in cells:
            if counts is None or (value in accepted and (some_of or value is counts)):
                judged.append(Cell(column, value))
                continue
            options = [counts] if not some_of else accepted
            judged.append(self._cell(item, column, value, options))
        if sum(1 for item in judged) > 1 and all(cell.verdict in ("alone", "equal") for cell in judged):
            held = any(cell.verdict == "equal" for cell in judged)
            judged = [cell._replace(verdict="equal") if held else cell for cell in judged]
        return Row(item=item, words=words, owner=owner, cells=tuple(judged), counts=counts)

    def _cell(self, item: str, column: str, value: Value, options: list[Value]) -> Cell:
        same = next((option for option in options if option.text == value.text), None)
        if same:
            return Cell(column, value, "equal", same)
        near = [option for option in options if is_near(option.text, value.text) or _alike(option.text, value.text)]
        against = near[0] if near else options[0]
        belongs = misplaced(self.app, self.workspace, item, value.text)
        found = difference(against.text, value.text)
        if belongs:
            return Cell(
                column=column, value=value, verdict="misplaced", against=against, difference=found, belongs=belongs
            )
        return Cell(
            column=column, value=value, verdict="near" if near else "different", against=against, difference=found
        )

    def _domains(self) -> Row:
        theirs = self.provider.settings.email_domains if self.provider else ()
        cells = [
            *self._in_app("email_domains", ", ".join(self.mine.email_domains)),
            *self._of_provider("email_domains", ", ".join(theirs)),
        ]
        known = {their.casefold() for their in theirs}
        if self.mine.email_domains and theirs and {domain.casefold() for domain in self.mine.email_domains} <= known:
            alike = tuple(Cell(column, value, "equal") for column, value in cells)
            return Row(item="email_domains", words="e-mail domains", owner=Side.PROVIDER, cells=alike, counts=None)
        return self._row("email_domains", "e-mail domains", Side.PROVIDER, cells)


def _alike(left: str, right: str) -> bool:
    return skeleton(left).casefold() == skeleton(right).casefold()
