"""`trace-lens drift`."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from trace_lens.cli.options import Moment, tell
from trace_lens.cli.session import Session, with_session

if TYPE_CHECKING:
    from trace_lens.fleet.documents import OnRecord
    from trace_lens.fleet.drifting import Drift
    from trace_lens.live.transport import Transport


@click.command(
    epilog="Examples:\n\n  trace-lens drift\n\n  trace-lens drift --since 2026-11-16 --no-keep\n\n"
    "  trace-lens drift metadata/northmere-id.xml --format json",
)
@click.argument("documents", nargs=-1, metavar="[DOCUMENT]...")
@click.option(
    "--since",
    type=Moment(),
    metavar="TIME",
    help="Compare with the snapshot of this moment (default: the newest one).",
)
@click.option("--keep/--no-keep", default=True, help="Keep a snapshot of what changed (default: yes).")
@click.option("--dry-run", is_flag=True, help="Only say which documents would be read, and which hosts asked.")
@with_session("text", "json", "markdown", now=True)
def command(session: Session, documents: tuple[str, ...], since: datetime | None, keep: bool, dry_run: bool) -> int:
    """Show what changed in metadata, discovery documents and key sets, and whom it hits.

    A DOCUMENT is a file or address on record, or the name of a provider or an application (default: all on record).
    Each is held against its last snapshot, which lies in the workspace. Addresses are asked over the network; TLS is
    verified. Exit status: 0, 1 where a change hits an application, 2 wrong usage or settings, 3 where a document could
    not be had.
    """
    from trace_lens.fleet.documents import on_record

    workspace = session.workspace
    chosen = _chosen(documents, on_record(workspace), session.root)
    hosts = _hosts(chosen)
    if dry_run:
        for document in chosen:
            click.echo(f"{document.name} ({document.kind} of {document.whose})")
        click.echo(f"Hosts that would be asked: {', '.join(hosts) or 'none'}")
        return 0
    if hosts:
        tell(f"Asking {', '.join(hosts)}.")
    found = _drifts(session, chosen, since, keep=keep)

    def pages() -> Iterable[Any]:
        from trace_lens.render.documents.drift import drift_pages

        return drift_pages(found, workspace, session.now, kept=keep)

    from trace_lens.render import json_fleet

    session.emit(pages, lambda: json_fleet.drift(found))
    failed = any(item.because for item in found)
    return 3 if failed else int(any(item.hits for item in found))


def _chosen(names: Sequence[str], known: Sequence[OnRecord], root: Path) -> list[OnRecord]:
    """The documents that are named. One that is not on record ends the command."""
    if not names:
        return list(known)
    chosen: list[OnRecord] = []
    for name in names:
        found = [
            item
            for item in known
            if name in (item.name, item.whose)
            or ("://" not in name and Path(name).resolve() == (root / item.name).resolve())
        ]
        if not found:
            listed = ", ".join(dict.fromkeys(item.name for item in known)) or "none"
            raise click.UsageError(f"{name} is no document on record. On record: {listed}.")
        chosen += [item for item in found if all(item is not other for other in chosen)]
    return chosen


def _hosts(chosen: Sequence[OnRecord]) -> list[str]:
    from trace_lens.live.transport import said_host

    return list(dict.fromkeys(said_host(item.name) for item in chosen if "://" in item.name))


def _drifts(session: Session, chosen: Sequence[OnRecord], since: datetime | None, *, keep: bool) -> list[Drift]:
    from contextlib import ExitStack

    from trace_lens.fleet.drifting import drift_of

    found = []
    with ExitStack() as stack:
        transport: Transport | None = None
        for document in chosen:
            if transport is None and "://" in document.name:
                from trace_lens.live.transport import Transport

                transport = stack.enter_context(Transport())
            had = _had(document, session.root, transport)
            if isinstance(had, bytes):
                found.append(drift_of(document, had, session.workspace, session.now, since, kept=keep))
            else:
                found.append(had)
    return found


def _had(document: OnRecord, root: Path, transport: Transport | None) -> bytes | Drift:
    """The octets of a document, or what is to be told of one that could not be had."""
    from trace_lens.fleet.drifting import UNREACHABLE, Drift
    from trace_lens.live.transport import Unreachable

    def gone(code: str, because: str) -> Drift:
        return Drift(document, UNREACHABLE, None, None, because=because, code=code)

    if "://" not in document.name or transport is None:
        try:
            return (root / document.name).read_bytes()
        except OSError as error:
            return gone("document-not-fetched", f"cannot be read: {error.strerror}")
    try:
        answer = transport.fetch(document.name)
    except Unreachable as error:
        return gone(error.code, error.because)
    if answer.status != 200:
        return gone("unexpected-answer", f"{answer.url} answers with status {answer.status}")
    return answer.data
