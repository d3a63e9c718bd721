"""Events looked for: a statement over the parts, and the spellings of a person that count as one."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime

from trace_lens.common.expressions import expression
from trace_lens.common.tuples import NamedTuple
from trace_lens.logs.event import Event
from trace_lens.logs.kept_ids import KeptIds
from trace_lens.logs.store.engine import COLUMNS, quoted
from trace_lens.logs.store.manifest import Content
from trace_lens.logs.store.store import EVENT_COLUMNS, EventStore
from trace_lens.workspace.records import Workspace

_PART = expression(r"[A-Za-z0-9]{3,}")


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


def search(store: EventStore, wanted: Wanted, workspace: Workspace) -> list[Event]:
    """The events that are wanted, in the order of their times. Raises ValueError for an address that is none,
    StoreProblem.
    """
    conditions = ["e.same_content IS NULL", *_conditions(wanted, workspace, store.kept_ids)]
    said = ", ".join(f'e."{name}"' for name in COLUMNS if name not in ("line", "same_content", "same_line"))
    statement = (
        f"SELECT {EVENT_COLUMNS}, row_number() OVER (PARTITION BY {said} ORDER BY e.line) > 1 AS doubled FROM events e "
        f"WHERE {' AND '.join(conditions)}"
    )
    contents = [content for content in store.manifest if _may_hold(content, wanted)]
    found = store.events(store.ask(statement, contents))
    return sorted(found, key=lambda event: (event.time, event.source, event.file, event.line))


def _may_hold(content: Content, wanted: Wanted) -> bool:
    """Whether a content can have events that are wanted, going by its source and its times."""
    if wanted.source is not None and content.source.lower() != wanted.source.lower():
        return False
    if content.first is None or content.last is None:
        return False
    return not (wanted.since and content.last < wanted.since) and not (wanted.until and content.first >= wanted.until)


def _conditions(wanted: Wanted, workspace: Workspace, kept: KeptIds) -> Iterator[str]:
    """What the events that are wanted have, each as a condition of SQL."""
    if wanted.user is not None:
        yield _of_user(wanted.user, sorted(spellings(workspace, wanted.user)))
    if wanted.app is not None:
        yield f"lower(e.app) IN ({_listed(app_names(workspace, wanted.app))})"
    for name in ("source", "outcome", "code"):
        value = getattr(wanted, name)
        if value is not None:
            yield f"lower(e.{name}) = {quoted(value.lower())}"
    if wanted.ip is not None:
        yield _in_network(wanted.ip)
    if wanted.id is not None:
        held = (f"list_contains(e.ids, {quoted(value)})" for value in sorted(kept.both([wanted.id])))
        yield f"({' OR '.join(held)})"
    if wanted.text is not None:
        text = quoted(wanted.text.lower())
        columns = [f"coalesce(e.\"{name}\", '')" for name in ("user", "app", "code", "reason", "ip")]
        columns.append("array_to_string(e.ids, chr(10))")
        yield "(" + " OR ".join(f"contains(lower({column}), {text})" for column in columns) + ")"
    if wanted.since is not None:
        yield f"e.time >= {_moment(wanted.since)}"
    if wanted.until is not None:
        yield f"e.time < {_moment(wanted.until)}"


def _of_user(name: str, names: list[str]) -> str:
    """The person by any spelling; what nobody on record is called is also a login, and one word a part of names."""
    user = 'lower(e."user")'
    bare = f"regexp_replace({user}, '^.*[\\\\]', '')"
    listed = _listed(names)
    condition = f"{user} IN ({listed}) OR {bare} IN ({listed})"
    local = f"regexp_replace({bare}, '@.*$', '')"
    if names == [name.casefold()] and "@" not in name:
        condition += f" OR {local} = {quoted(names[0])}"
    if _PART.fullmatch(name) and names == [name.casefold()]:
        condition += f" OR regexp_matches({local}, {quoted(f'(^|[^a-z0-9]){names[0]}($|[^a-z0-9])')})"
    return f"({condition})"


def _listed(texts: Iterable[str]) -> str:
    return ", ".join(map(quoted, sorted(texts)))


def _moment(moment: datetime) -> str:
    return f"TIMESTAMP '{moment.astimezone(UTC).replace(tzinfo=None).isoformat(sep=' ')}'"


def _in_network(text: str) -> str:
    """Addresses equal to one, or inside a network whose prefix ends at a whole group."""
    network = ipaddress.ip_network(text, strict=False)
    if network.num_addresses == 1:
        return f"e.ip = {quoted(str(network.network_address))}"
    if network.version == 4 and network.prefixlen % 8 == 0:
        kept = str(network.network_address).split(".")[: network.prefixlen // 8]
        return f"starts_with(e.ip, {quoted('.'.join(kept) + '.')})" if kept else "e.ip IS NOT NULL"
    raise ValueError(f"{text}: a network ends at /8, /16 or /24 here")
