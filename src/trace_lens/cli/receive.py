"""`trace-lens receive`."""

from __future__ import annotations

import os
import threading
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
    from trace_lens.live.receiving import Caught
    from trace_lens.workspace.records import App, Provider

_HOST = "127.0.0.1"
_SAML_PORT = 8399
"""Where the receiver of SAML is unless told otherwise: its addresses have to be registered."""
_FOLDER = "received"


@click.command(
    epilog="Examples:\n\n  trace-lens receive --provider northmere-id --client-id try-out\n\n"
    "  trace-lens receive --as crew-roster --write-metadata receiver.xml\n\n  trace-lens receive --as crew-roster",
)
@click.option(
    "--provider", shell_complete=completing.providers, metavar="NAME", help="The provider (default: that of --as)."
)
@click.option(
    "--as",
    "app",
    shell_complete=completing.apps,
    metavar="APP",
    help="Judge by the rules of this application; its identifiers and addresses are supposed to be the receiver's.",
)
@click.option("--client-id", metavar="ID", help="OpenID Connect: a public client with PKCE, registered for this.")
@click.option(
    "--port", type=click.IntRange(1, 65_535), metavar="N", help=f"Listen here (default: free; SAML {_SAML_PORT})."
)
@click.option(
    "--timeout", type=click.FloatRange(min=1), default=300.0, metavar="SECONDS", help="Wait so long (default: 300)."
)
@click.option("--once", is_flag=True, help="End after one sign-in (the default).")
@click.option("--keep", type=click.IntRange(1, 1000), default=1, metavar="N", help="End after N sign-ins (default: 1).")
@click.option("--har", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE", help="Write the capture here.")
@click.option(
    "--write-metadata",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="SAML: write the metadata that the provider has to register, and end.",
)
@click.option("--dry-run", is_flag=True, help="Only say which hosts would be asked.")
@with_session("text", "json", "markdown", verbose="Show every finding with its evidence and remedy.")
def command(
    session: Session,
    provider: str | None,
    app: str | None,
    client_id: str | None,
    port: int | None,
    timeout: float,
    once: bool,
    keep: int,
    har: Path | None,
    write_metadata: Path | None,
    dry_run: bool,
) -> int:
    """Catch a sign-in on this machine, and diagnose it: what the provider really sends.

    Prints the address to visit, or opens it through BROWSER, and waits. For OpenID Connect the provider needs a public
    client whose redirect URI is http://127.0.0.1/callback on any port; for SAML it needs what --write-metadata writes.
    Exit status: 0 nothing breaks, 1 something does, or nobody came, 2 wrong usage or settings, or the port is taken.
    """
    from trace_lens.live import receiving

    session.check_names(app, provider)
    _ = session.root
    chosen = session.app(app) if app else None
    party = _provider(session, provider, chosen)
    protocol = chosen.settings.protocol if chosen else ("oidc" if client_id or not _speaks_saml(party) else "saml")
    port = port or (_SAML_PORT if protocol == "saml" else _free_port())
    base = f"http://{_HOST}:{port}"
    if write_metadata:
        return _write_metadata(session, write_metadata, base)
    if protocol == "oidc" and not client_id:
        raise click.UsageError("--client-id is needed: the ID of a public client with PKCE at the provider.")
    if dry_run:
        click.echo(", ".join(_hosts(party)) or "nobody")
        return 0
    tell(f"Asking {', '.join(_hosts(party)) or 'nobody: no address is on record'}.")
    lacking: list[str] = []

    def lacks(words: str) -> None:
        tell(words)
        lacking.append(words)

    try:
        whole = receiving.with_documents(party, protocol, lacks)
        endpoints = receiving.endpoints_of(whole, protocol)
    except receiving.CannotReceive as error:
        tell(f"Error: {error}.")
        return 3
    identity = client_id if protocol == "oidc" and client_id else base + receiving.METADATA
    workspace, name = receiving.as_receiver(session.workspace, whole, chosen, protocol, base, identity)
    caught: list[Caught] = []
    enough = threading.Event()

    def take(item: Caught) -> None:
        caught.append(item)
        if len(caught) >= (1 if once else keep):
            enough.set()

    receiver = receiving.Receiver(
        base, protocol, identity, receiving.scopes_of(chosen), endpoints, take, lambda words: tell(words)
    )
    if not _served(receiver, port, enough, timeout):
        return 2
    if not caught:
        came = "A sign-in began here, but the provider sent nobody back" if receiver.begun else "Nobody came"
        tell(f"{came} within {timeout:.0f} seconds.")
    return _told(session, caught, workspace, name, har, lacking)


def _provider(session: Session, named: str | None, app: App | None) -> Provider:
    workspace = session.workspace
    if named:
        return workspace.providers[named]
    found = workspace.provider_of(app) if app else None
    if found is None and len(workspace.providers) == 1:
        found = next(iter(workspace.providers.values()))
    if found is None:
        raise click.UsageError("--provider is needed: which provider is to send a sign-in here?")
    return found


def _speaks_saml(provider: Provider) -> bool:
    told = provider.settings
    return bool(told.metadata or told.entity_id) and not (told.issuer or told.discovery)


def _hosts(provider: Provider) -> list[str]:
    from trace_lens.common.addresses import host_of

    told = provider.settings
    named = [told.metadata, told.discovery, told.key_set, told.issuer]
    listed = [value for value in provider.discovery.values() if isinstance(value, str)]
    urls = [url for url in (*named, *listed, *provider.sign_on_urls) if url and "://" in url]
    return sorted({host_of(url) for url in urls} - {""})


def _free_port() -> int:
    """A port that is free now."""
    from werkzeug.serving import make_server

    with make_server(_HOST, 0, lambda environ, start: []) as server:
        return int(server.server_port)


def _served(receiver: Any, port: int, enough: threading.Event, timeout: float) -> bool:
    """Serve until enough came or the time is over; False where the port is taken."""
    import logging

    from werkzeug.serving import make_server

    logging.getLogger("werkzeug").setLevel(logging.CRITICAL)
    try:
        server = make_server(_HOST, port, receiver, threaded=True)
    except (OSError, SystemExit):
        tell(f"Error: port {port} is taken. Name another one: --port N.")
        return False
    thread = threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.05}, daemon=True)
    thread.start()
    _open(f"{receiver.base}/")
    try:
        enough.wait(timeout)
    finally:
        server.shutdown()
        thread.join(5)
        server.server_close()
    return True


def _open(address: str) -> None:
    """Say the address to visit; open it where BROWSER names a browser."""
    tell(f"Visit {address}")
    if os.environ.get("BROWSER"):
        import webbrowser

        webbrowser.open(address)


def _told(
    session: Session, caught: list[Caught], workspace: Any, name: str, har: Path | None, lacking: list[str]
) -> int:
    """The diagnosis of what was caught, and the exit status."""
    from trace_lens.diagnosis.diagnosing import diagnose_sources
    from trace_lens.diagnosis.judging import Options
    from trace_lens.live.receiving import as_received
    from trace_lens.live.recording import as_har
    from trace_lens.render import as_json
    from trace_lens.workspace.sources import SourceFile

    sources, files = [], []
    for number, item in enumerate(caught, 1):
        data = as_har(item.passed)
        files.append(_write(session, data, har, number if len(caught) > 1 else 0))
        sources.append(SourceFile(str(files[-1] or "the sign-in"), data))
    result: Result = diagnose_sources(sources, workspace, Options(now=datetime.now(UTC), app=name, prove=True))
    result = result._replace(diagnoses=tuple(as_received(item, lacking) for item in result.diagnoses))

    def pages() -> Iterable[Any]:
        from trace_lens.render.documents.diagnosis import diagnosis_pages

        return diagnosis_pages(result, full=session.verbose)

    unreadable = [as_json.unreadable(source, because) for source, because in result.unreadable]
    if caught or session.format == "json":
        session.emit(
            pages,
            lambda: (
                as_json.diagnoses(result.diagnoses, unreadable, session.masks, result.unplaced)
                | {"har": str(files[-1]) if files and files[-1] else None}
            ),
        )
    return max(result.exit_status(strict=False), 0 if caught else 1)


def _write(session: Session, data: bytes, har: Path | None, number: int) -> Path | None:
    """Write a capture, for the user only; its absolute path, None where that failed."""
    from trace_lens.workspace.own_files import own_folder, write_privately

    try:
        if har is not None:
            path = har if number < 2 else har.with_stem(f"{har.stem}-{number}")
        else:
            folder = own_folder(session.root) / _FOLDER
            folder.mkdir(mode=0o700, exist_ok=True)
            path = folder / f"{datetime.now(UTC):%Y%m%dT%H%M%S.%fZ}.har"
        write_privately(path, data)
    except OSError as error:
        tell(f"The capture could not be written: {error.strerror or error}.")
        return None
    return path.resolve()


def _write_metadata(session: Session, file: Path, base: str) -> int:
    """Write the metadata of the receiver; its key is made once and kept."""
    from trace_lens.live.receiver_keys import metadata_of, receiver_key

    try:
        _, certificate = receiver_key(session.root)
        file.write_bytes(metadata_of(base, certificate))
    except OSError as error:
        tell(f"Error: {file} cannot be written: {error.strerror or error}.")
        return 2
    tell(f"Written: {file}. Register it at the provider, then run trace-lens receive on the same port.")
    return 0
