"""Events looked for: an expression over the store, and the spellings of a person that count as one."""

from __future__ import annotations

import ipaddress
import re
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any, NamedTuple

from trace_lens.logs.event import Event
from trace_lens.logs.kept_ids import KeptIds
from trace_lens.workspace.records import Workspace

if TYPE_CHECKING:
    import ibis.expr.types as ir
    import pyarrow as pa


_PART = re.compile(r"[A-Za-z0-9]{3,}")


class Wanted(NamedTuple):
    """What is looked for; what is None does not matter. `since` is included, `until` is not.

    A `user` that nobody on record is called, and that is one word, is looked for as a part of names too, before the at
    sign.
    """

    user: str | None = None
    app: str | None = None
    source: str | None = None
    outcome: str | None = None
    code: str | None = None
    ip: str | None = None
    id: str | None = None
    text: str | None = None
    since: datetime | None = None
    until: datetime | None = None


def spellings(workspace: Workspace, name: str) -> set[str]:
    """The spellings, in small letters, that a person goes by: those of every account that has the name as one."""
    found = {name.casefold(), *_bare(name)}
    for app in workspace.apps.values():
        for row in app.accounts or ():
            mine = {spelling.casefold() for spelling in row.spellings}
            if mine & found:
                found |= mine
    return found


def _bare(name: str) -> set[str]:
    r"""The login of DOMAIN\login."""
    _, slash, login = name.rpartition("\\")
    return {login.casefold()} if slash and login else set()


def app_names(workspace: Workspace, name: str) -> set[str]:
    """The names, in small letters, that an application goes by: its file, its name, its identifiers."""
    found = {name.casefold()}
    for app in workspace.apps.values():
        told = app.settings.application
        mine = {text.casefold() for text in (app.id, app.name, app.entity_id, told.oidc.client_id) if text}
        if mine & found:
            found |= mine
    return found


def matching(table: ir.Table, wanted: Wanted, workspace: Workspace, kept: KeptIds | None = None) -> ir.Table:
    """The events that are wanted, in the order of their times. Raises ValueError for an address that is none."""
    conditions: list[Any] = []
    if wanted.user is not None:
        names = sorted(spellings(workspace, wanted.user))
        user = table["user"].lower()
        bare = user.re_replace(r"^.*\\", "")
        found_names = user.isin(names) | bare.isin(names)
        if _PART.fullmatch(wanted.user) and names == [wanted.user.casefold()]:
            found_names |= bare.re_replace("@.*$", "").re_search(f"(^|[^a-z0-9]){names[0]}($|[^a-z0-9])")
        conditions.append(found_names)
    if wanted.app is not None:
        conditions.append(table["app"].lower().isin(sorted(app_names(workspace, wanted.app))))
    for name in ("source", "outcome", "code"):
        value = getattr(wanted, name)
        if value is not None:
            conditions.append(table[name].lower() == value.lower())
    if wanted.ip is not None:
        conditions.append(_in_network(table, wanted.ip))
    if wanted.id is not None:
        asked = [table["ids"].contains(value) for value in sorted((kept or KeptIds()).both([wanted.id]))]
        conditions.append(asked[0] | asked[-1])
    if wanted.text is not None:
        text = wanted.text.lower()
        columns = [table[name].fill_null("").lower() for name in ("user", "app", "code", "reason", "ip")]
        anywhere = columns[0].contains(text)
        for column in columns[1:]:
            anywhere |= column.contains(text)
        conditions.append(anywhere | table["ids"].join("\n").lower().contains(text))
    if wanted.since is not None:
        conditions.append(table["time"] >= wanted.since.replace(tzinfo=None))
    if wanted.until is not None:
        conditions.append(table["time"] < wanted.until.replace(tzinfo=None))
    found = table.filter(*conditions) if conditions else table
    return found.order_by(["time", "source", "file", "line"])


def _in_network(table: ir.Table, text: str) -> Any:
    """Addresses equal to one, or inside a network whose prefix ends at a whole group."""
    network = ipaddress.ip_network(text, strict=False)
    if network.num_addresses == 1:
        return table["ip"] == str(network.network_address)
    if network.version == 4 and network.prefixlen % 8 == 0:
        kept = str(network.network_address).split(".")[: network.prefixlen // 8]
        return table["ip"].startswith(".".join(kept) + ".") if kept else table["ip"].notnull()
    raise ValueError(f"{text}: a network ends at /8, /16 or /24 here")


def search(table: ir.Table, wanted: Wanted, workspace: Workspace, kept: KeptIds | None = None) -> list[Event]:
    """The events that are wanted; `kept` is how the store keeps ids. Raises ValueError for an address that is none."""
    return events_in(matching(table, wanted, workspace, kept).to_pyarrow())


def events_in(rows: pa.Table) -> list[Event]:
    """The rows of an Arrow table with the store's columns as events."""
    return [
        Event(**{**row, "time": row["time"].replace(tzinfo=UTC), "ids": tuple(row["ids"] or ())})
        for row in rows.to_pylist()
    ]
