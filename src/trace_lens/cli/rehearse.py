"""`trace-lens rehearse`."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from trace_lens.cli import completing
from trace_lens.cli.options import tell
from trace_lens.cli.session import Session, with_session

if TYPE_CHECKING:
    from trace_lens.diagnosis.diagnosing import Result
    from trace_lens.live.rehearsing import Account, Rehearsed
    from trace_lens.workspace.records import App
    from trace_lens.workspace.sources import SourceFile

USER, PASSWORD = "TRACE_LENS_USER", "TRACE_LENS_PASSWORD"
_FOLDER = "rehearsed"
_INTERRUPTED = 130


@click.command(
    epilog="Examples:\n\n  TRACE_LENS_PASSWORD=… trace-lens rehearse crew-roster --user try.out\n\n"
    "  trace-lens rehearse crew-roster --user try.out --compare user.har",
)
@click.argument("app", shell_complete=completing.apps)
@click.option("--user", metavar="NAME", help=f"The test account (default: {USER}, or a prompt).")
@click.option(
    "--password-fd",
    type=click.IntRange(0),
    metavar="N",
    help=f"Read the password from this file descriptor (default: {PASSWORD}, or a prompt).",
)
@click.option(
    "--from",
    "begin",
    type=click.Choice(["application", "provider"]),
    default="application",
    help="Where the sign-in begins (default: application).",
)
@click.option("--start", metavar="ADDRESS", help="The address to begin at (default: sign_in_url of the application).")
@click.option("--also", multiple=True, metavar="HOST", help="Speak to this host, too; may be repeated.")
@click.option(
    "--expect", type=click.Choice(["ok"]), help="Exit status 1 unless the sign-in is sound, for a nightly job."
)
@click.option("--compare", "user_har", metavar="FILE", help="Show where a user's capture parts from this way.")
@click.option("--har", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE", help="Write the capture here.")
@click.option("--dry-run", is_flag=True, help="Only say which hosts may be asked.")
@with_session("text", "json", "markdown", verbose="Show every finding with its evidence and remedy.")
def command(
    session: Session,
    app: str,
    user: str | None,
    password_fd: int | None,
    begin: str,
    start: str | None,
    also: tuple[str, ...],
    expect: str | None,
    user_har: str | None,
    har: Path | None,
    dry_run: bool,
) -> int:
    """Sign in with a test account, over plain HTML forms, and diagnose the way.

    No script is run: where a page needs one, it says so, and the way so far is diagnosed. The password is sent once,
    never again. Only hosts on record are asked. The capture lies in the workspace, redacted unless --reveal is given.
    Exit status: 0 nothing breaks, 1 something does, 2 wrong usage or settings, 130 interrupted.
    """
    from trace_lens.live.rehearsing import hosts_on_record
    from trace_lens.live.transport import said_host

    chosen = session.app(app)
    _ = session.root
    provider = session.workspace.provider_of(chosen)
    hosts = hosts_on_record(chosen, provider) | {host.lower() for host in also}
    first = start or chosen.settings.application.sign_in_url
    if dry_run:
        click.echo("\n".join(sorted(hosts)))
        return 0
    if begin == "provider" and not start:
        raise click.UsageError("--start is needed: the address at the provider that starts the sign-in.")
    if not first:
        raise click.UsageError(
            f"No address to begin at is on record: set application.sign_in_url of {app}, or --start."
        )
    account = _account(user, password_fd)
    tell(f"Asking {', '.join(said_host(f'https://{host}/', host) for host in sorted(hosts))}.")
    rehearsed, interrupted = _rehearsed(session, first, account, chosen, hosts)
    return _told(session, rehearsed, account, chosen, har, user_har, sound=expect == "ok", interrupted=interrupted)


def _account(user: str | None, password_fd: int | None) -> Account:
    """The test account. Without a terminal nothing is waited for: what is missing ends the command."""
    from trace_lens.live.rehearsing import Account

    name = user or os.environ.get(USER)
    password = os.environ.get(PASSWORD)
    if password_fd is not None:
        with os.fdopen(os.dup(password_fd), "r", encoding="utf-8") as stream:
            password = stream.readline().rstrip("\r\n")
    watched = sys.stdin.isatty()
    if not name:
        if not watched:
            raise click.UsageError(f"--user is needed, or {USER}.")
        name = click.prompt("Test account", err=True)
    if not password:
        if not watched:
            raise click.UsageError(f"A password is needed: {PASSWORD}, --password-fd N, or a terminal to ask at.")
        password = click.prompt(f"Password of {name}", hide_input=True, err=True)
    return Account(name, password)


def _rehearsed(session: Session, first: str, account: Account, app: App, hosts: set[str]) -> tuple[Rehearsed, bool]:
    """The way; and whether Ctrl-C ended it."""
    from trace_lens.live.browsing import Browser
    from trace_lens.live.rehearsing import INTERRUPTED, Ended, Rehearsed, go_from
    from trace_lens.live.transport import Transport

    def allowed(host: str) -> bool:
        if host in hosts:
            return True
        if sys.stdin.isatty() and click.confirm(
            f"The way leads to {host}, which is not on record. Go there?", err=True
        ):
            hosts.add(host)
            return True
        return False

    with Transport() as transport:
        browser = Browser(transport, allowed)
        try:
            ended: Ended = go_from(first, browser, account, app)
            interrupted = False
        except KeyboardInterrupt:
            ended, interrupted = Ended(INTERRUPTED, "it was interrupted"), True
    return Rehearsed(tuple(browser.passed), *ended), interrupted


def _told(
    session: Session,
    rehearsed: Rehearsed,
    account: Account,
    app: App,
    har: Path | None,
    user_har: str | None,
    *,
    sound: bool,
    interrupted: bool,
) -> int:
    """The diagnosis of the way, and the exit status."""
    from trace_lens.diagnosis.diagnosing import diagnose_sources
    from trace_lens.diagnosis.judging import Options
    from trace_lens.live.recording import as_har
    from trace_lens.live.rehearsing import as_rehearsed, without_password
    from trace_lens.render import as_json
    from trace_lens.workspace.sources import SourceFile

    source = SourceFile("sign-in.har", as_har(without_password(rehearsed.passed, account)))
    options = Options(now=datetime.now(UTC), app=app.id, prove=True)
    file = _write(session, source, options, har)
    named = source._replace(name=str(file or source.name))
    result: Result = diagnose_sources([named], session.workspace, options)
    result = result._replace(diagnoses=tuple(as_rehearsed(item, rehearsed) for item in result.diagnoses))
    tell(f"Ended: {rehearsed.words}.")
    compared = _compared(session, named, user_har, options) if user_har else None

    def pages() -> Iterable[Any]:
        from trace_lens.render.documents.compared import compared_pages
        from trace_lens.render.documents.diagnosis import diagnosis_pages

        yield from diagnosis_pages(result, full=session.verbose)
        if compared is not None:
            yield from compared_pages(compared)

    def document() -> Any:
        from trace_lens.render import json_sides

        unreadable = [as_json.unreadable(name, because) for name, because in result.unreadable]
        told = as_json.diagnoses(result.diagnoses, unreadable, session.masks, result.unplaced)
        told["har"] = str(file) if file else None
        told["ended"] = rehearsed.ended
        if compared is not None:
            told["comparison"] = json_sides.comparison(compared, session.masks)
        return told

    session.emit(pages, document)
    if interrupted:
        return _INTERRUPTED
    wanted = sound and not (result.diagnoses and all(item.outcome == "sound" for item in result.diagnoses))
    return max(min(result.exit_status(strict=False), 1), int(wanted or not result.diagnoses))


def _write(session: Session, source: SourceFile, options: Any, har: Path | None) -> Path | None:
    """Write the capture into the workspace; its path, None where that cannot be."""
    from trace_lens.live.keeping import NotKept, keep_capture

    try:
        return keep_capture(source, _FOLDER, session.workspace, options, har, whole=session.reveal)
    except NotKept as error:
        tell(str(error))
        return None


def _compared(session: Session, mine: SourceFile, name: str, options: Any) -> Any:
    """The user's capture beside this one; None, with the reason told, where that cannot be."""
    from trace_lens.comparison.compared import CannotCompare
    from trace_lens.comparison.comparing import compare

    found = list(session.sources((name,)))
    if len(found) != 1 or found[0].data is None:
        tell(f"--compare: {name} cannot be read.")
        return None
    try:
        return compare(found[0], mine, session.workspace, options)
    except CannotCompare as error:
        tell(f"--compare: these cannot be compared: {error}.")
        return None
