"""The two sides laid beside each other: every value that both must share, and what the capture shows of it.

Each row knows which side the value comes from; the other side has to copy it.
"""

from __future__ import annotations

from collections.abc import Iterable

from trace_lens.agreement.rows import Copy, Row
from trace_lens.agreement.saml_sides import SamlSides
from trace_lens.checks.case import Case
from trace_lens.common.findings import Side
from trace_lens.workspace.records import App, Workspace


def rows(app: App, workspace: Workspace, case: Case | None = None) -> list[Row]:
    """All rows of one application. Raises SettingsError where a file of the workspace cannot be used."""
    if app.settings.protocol == "oidc":
        from trace_lens.agreement.oidc_sides import ClientSides

        return [row for row in ClientSides(app, workspace, case).rows() if row.cells]
    return [row for row in SamlSides(app, workspace, case).rows() if row.cells]


def copies(found: Iterable[Row]) -> list[Copy]:
    """What to copy where: each setting or message value that is not the one that counts, once."""
    made: list[Copy] = []
    for row in found:
        for cell in row.cells:
            wrong = cell.verdict in ("misplaced", "different", "near")
            if not wrong or cell.against is None or cell.column.endswith("_metadata"):
                continue
            receiving = Side.PROVIDER if row.owner is Side.APPLICATION else Side.APPLICATION
            sent_by_application = cell.column == "capture" and cell.value.asked
            side = receiving if cell.column == "capture" else Side(cell.column)
            if sent_by_application:
                side = Side.APPLICATION
            if any(copy.side is side and copy.item == row.item for copy in made):
                continue
            own = sent_by_application and row.owner is Side.APPLICATION
            made.append(Copy(item=row.item, side=side, value=cell.against, into=cell.value, of_itself=own))
    return made
