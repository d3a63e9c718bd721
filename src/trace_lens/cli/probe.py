"""`trace-lens probe`."""

from __future__ import annotations

import time
from collections.abc import Iterable
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

import click

from trace_lens.cli import completing
from trace_lens.cli.options import tell
from trace_lens.cli.session import Session, with_session

if TYPE_CHECKING:
    from trace_lens.live.probing import Probe
    from trace_lens.workspace.records import App

_PAUSE = 1.0
"""Seconds between two runs of `--repeat`."""


@click.command(
    epilog="Examples:\n\n  trace-lens probe crew-roster\n\n  trace-lens probe --all-apps --format json\n\n"
    "  trace-lens probe slip-booking --repeat 20",
)
@click.argument("apps", nargs=-1, metavar="[APP]...", shell_complete=completing.apps)
@click.option("--all-apps", is_flag=True, help="Try all applications; what they share is asked once.")
@click.option("--repeat", type=click.IntRange(1, 1000), default=1, metavar="N", help="Try N times (default: 1).")
@click.option(
    "--insecure",
    is_flag=True,
    help="Only look at names, ports and certificates, and show each certificate, trusted or not; nothing is sent.",
)
@click.option("--dry-run", is_flag=True, help="Only say which hosts would be asked.")
@with_session("text", "json", "markdown", now=False, verbose="Show the evidence of every step.")
def command(session: Session, apps: tuple[str, ...], all_apps: bool, repeat: int, insecure: bool, dry_run: bool) -> int:
    """Try what applications need, live: names, ports, TLS, documents, keys, endpoints, clocks, a real request.

    Everything that can be tried is tried; what depends on something that failed is named with what blocks it. Nobody
    is signed in, and no password is sent. Exit status: 0, 1 where a step failed, 2 wrong usage or settings.
    """
    from trace_lens.live.probing import hosts_of, probe

    chosen = _chosen(session, apps, all_apps=all_apps)
    now = datetime.now(UTC)
    hosts = hosts_of(chosen, session.workspace, now)
    if dry_run:
        for host in hosts:
            click.echo(host)
        return 0
    tell(f"Asking {', '.join(hosts) or 'nobody: no address is on record'}.")
    runs: list[Probe] = []
    try:
        for number in range(repeat):
            if number:
                time.sleep(_PAUSE)
            runs.append(probe(chosen, session.workspace, datetime.now(UTC), shows_only=insecure))
    except KeyboardInterrupt:
        if not runs:
            raise
        tell(f"Stopped after {len(runs)} of {repeat} times.")
    for run in runs:
        _keep(session, run)

    def pages() -> Iterable[Any]:
        from trace_lens.render.documents.probe import probe_pages

        return probe_pages(runs, session.workspace, full=session.verbose or insecure)

    from trace_lens.render import json_live

    session.emit(pages, lambda: json_live.probe(runs, session.masks))
    return int(any(tried.outcome.status == "failed" for run in runs for tried in run.steps))


def _chosen(session: Session, names: tuple[str, ...], *, all_apps: bool) -> list[App]:
    """The applications that are named, or all. Without either the command ends."""
    if names and all_apps:
        raise click.UsageError("Name applications, or use --all-apps, not both.")
    if not names and not all_apps:
        raise click.UsageError("Name an application, or use --all-apps.")
    _ = session.root
    return [session.app(name) for name in names or session.workspace.apps]


def _keep(session: Session, found: Probe) -> None:
    """Keep the TLS certificates that were seen, for `expiry`."""
    from trace_lens.pki.certificates import Certificate
    from trace_lens.workspace.seen_tls import SeenTls, keep_seen

    seen = [
        SeenTls(tried.step.target, str(made.sha256), made.not_after, found.at, tried.step.apps)
        for tried in found.steps
        if isinstance(made := tried.outcome.made, Certificate)
    ]
    try:
        keep_seen(session.root, seen)
    except OSError as error:
        tell(f"The TLS certificates were not kept for expiry: {error.strerror or error}.")
