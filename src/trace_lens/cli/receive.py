"""`trace-lens receive`."""

from __future__ import annotations

import os
from collections.abc import Iterable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from queue import Empty, SimpleQueue
from typing import TYPE_CHECKING, Any

import click

from trace_lens.cli import completing
from trace_lens.cli.options import tell
from trace_lens.cli.session import Session, with_session
from trace_lens.common.moments import show_duration

if TYPE_CHECKING:
    from trace_lens.diagnosis.diagnosing import Result
    from trace_lens.live.listening import Place
    from trace_lens.live.receiving import Caught
    from trace_lens.workspace.records import App, Provider
    from trace_lens.workspace.sources import SourceFile

_REGISTERED_PORT = 8399
"""Where the receiver is unless told otherwise, if its addresses have to be registered to the letter."""
_FOLDER = "received"
_INTERRUPTED = 130


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
    "--port",
    type=click.IntRange(1, 65_535),
    metavar="N",
    help=f"Listen at this port (default: a free one; {_REGISTERED_PORT} for SAML and with --listen).",
)
@click.option(
    "--timeout", type=click.FloatRange(min=1), default=300.0, metavar="SECONDS", help="Wait so long (default: 300)."
)
@click.option(
    "--listen",
    metavar="ADDRESS",
    help="Listen at this address of the machine for a user elsewhere, over TLS, by a link that works once (default: "
    "only this machine).",
)
@click.option(
    "--certificate",
    type=click.Path(path_type=Path, exists=True, dir_okay=False),
    metavar="FILE",
    help="With --listen: the TLS certificate with its chain, as PEM (default: one made for this run).",
)
@click.option(
    "--key",
    type=click.Path(path_type=Path, exists=True, dir_okay=False),
    metavar="FILE",
    help="With --certificate: its private key, as PEM (default: in the same file).",
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
    listen: str | None,
    certificate: Path | None,
    key: Path | None,
    once: bool,
    keep: int,
    har: Path | None,
    write_metadata: Path | None,
    dry_run: bool,
) -> int:
    """Catch a sign-in on this machine, and diagnose it: what the provider really sends.

    Prints the address to visit, or opens it through BROWSER, and waits. For OpenID Connect the provider needs a public
    client whose redirect URI is http://127.0.0.1/callback on any port; for SAML it needs what --write-metadata writes.
    With --listen ADDRESS both are https://ADDRESS:PORT, and whoever has the link signs in from another machine; the
    visitor sees only that the sign-in was received. The capture lies in the workspace, redacted unless --reveal is
    given. Exit status: 0 nothing breaks, 1 something does, or nobody came, 2 wrong usage or settings, or the port is
    taken, 130 interrupted.
    """
    from trace_lens.live import receiving
    from trace_lens.live.listening import held, place_for

    session.check_names(app, provider)
    _ = session.root
    if (certificate and not listen) or (key and not certificate):
        raise click.UsageError("--certificate is for --listen, and --key for --certificate.")
    chosen = session.app(app) if app else None
    party = _provider(session, provider, chosen)
    protocol = chosen.settings.protocol if chosen else ("oidc" if client_id or not _speaks_saml(party) else "saml")
    if protocol == "oidc" and not client_id and not write_metadata:
        raise click.UsageError("--client-id is needed: the ID of a public client with PKCE at the provider.")
    if dry_run:
        click.echo(", ".join(_hosts(party)) or "nobody")
        return 0
    try:
        place = place_for(listen, port or (_REGISTERED_PORT if listen or protocol == "saml" else 0))
        if write_metadata:
            return _write_metadata(session, write_metadata, place.base)
        place = held(place, certificate, key)
    except receiving.CannotReceive as error:
        tell(f"Error: {error}.")
        return 2
    tell(f"Asking {', '.join(_hosts(party)) or 'nobody: no address is on record'}.")
    catch = _Catch(session, place, har, {})
    try:
        catch.prepare(party, protocol, client_id, chosen)
    except receiving.CannotReceive as error:
        tell(f"Error: {error}.")
        return 3
    finally:
        if not catch.endpoints and place.socket:
            place.socket.close()
    return catch.wait(1 if once else keep, timeout)


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
    from trace_lens.live.transport import said_host

    told = provider.settings
    named = [told.metadata, told.discovery, told.key_set, told.issuer]
    listed = [value for value in provider.discovery.values() if isinstance(value, str)]
    urls = [url for url in (*named, *listed, *provider.sign_on_urls) if url and "://" in url]
    return sorted({said_host(url) for url in urls})


class _Catch:
    """The waiting, and what came of it."""

    def __init__(self, session: Session, place: Place, har: Path | None, endpoints: dict[str, str]) -> None:
        self.session, self.place, self.har, self.endpoints = session, place, har, endpoints
        self.lacking: list[str] = []
        self.file: Path | None = None
        self.sources: list[SourceFile] = []
        self.queue: SimpleQueue[Caught] = SimpleQueue()

    def prepare(self, party: Provider, protocol: str, client_id: str | None, chosen: App | None) -> None:
        """What is needed of the provider, and by which rules it is judged. Raises CannotReceive."""
        from trace_lens.live import receiving

        def lacks(words: str) -> None:
            tell(words)
            self.lacking.append(words)

        base = self.place.base
        whole = receiving.with_documents(party, protocol, lacks)
        identity = client_id if protocol == "oidc" and client_id else base + receiving.METADATA
        endpoints = receiving.endpoints_of(whole, chosen, protocol)
        self.workspace, self.name = receiving.as_receiver(
            self.session.workspace, whole, chosen, protocol, base, identity
        )
        self.receiver = receiving.Receiver(
            base, protocol, identity, receiving.scopes_of(chosen), endpoints, self.queue.put, tell
        )
        self.endpoints = endpoints

    def wait(self, wanted: int, seconds: float) -> int:
        """Wait for sign-ins, and tell what they were; the exit status."""
        from trace_lens.live.listening import Invitations, serving

        ends = datetime.now(UTC) + timedelta(seconds=seconds)
        assert self.place.socket is not None
        invitations = Invitations(self.receiver, ends, self._tell_link, wanted)
        served = invitations if self.place.is_open else self.receiver
        interrupted = False
        with serving(served, self.place.socket, self.place.shown):
            self._announce(invitations, ends)
            try:
                while len(self.sources) < wanted:
                    self._take(self.queue.get(timeout=max((ends - datetime.now(UTC)).total_seconds(), 0.01)), wanted)
            except Empty:
                came = (
                    "A sign-in began here, but the provider sent nobody back" if self.receiver.begun else "Nobody came"
                )
                if not self.sources:
                    tell(f"{came} within {show_duration(timedelta(seconds=seconds))}.")
            except KeyboardInterrupt:
                if not self.sources:
                    raise
                interrupted = True
        if invitations.turned_away:
            tell(f"Requests without an open link, which found nothing: {invitations.turned_away:,}.")
        return max(self._told(), _INTERRUPTED if interrupted else 0)

    def _announce(self, invitations: Any, ends: datetime) -> None:
        """Say the address to visit; on loopback open it where BROWSER names a browser."""
        tell(f"The provider has to know {self.receiver.registered}.")
        if not self.place.is_open:
            tell(f"Visit {self.receiver.base}/")
            if os.environ.get("BROWSER"):
                import webbrowser

                webbrowser.open(f"{self.receiver.base}/")
            return
        tell(
            f"Listening at {self.place.base} until {ends:%H:%M:%S}Z. SHA-256 fingerprint of its TLS certificate, to "
            f"compare where the browser warns: {self.place.fingerprint}"
        )
        invitations.invite()

    def _tell_link(self, link: str) -> None:
        tell(f"Give this link to one visitor; it works for one sign-in: {link}")

    def _take(self, caught: Caught, wanted: int) -> None:
        """Judge a sign-in, and keep its capture."""
        from trace_lens.diagnosis.judging import Options
        from trace_lens.live.keeping import NotKept, keep_capture
        from trace_lens.live.receiving import with_keys_now
        from trace_lens.live.recording import as_har
        from trace_lens.workspace.sources import SourceFile

        self.workspace = with_keys_now(self.workspace, self.name)
        options = Options(now=datetime.now(UTC), app=self.name, prove=True)
        source = SourceFile("sign-in.har", as_har(caught.passed))
        number = len(self.sources) + 1
        har = self.har.with_stem(f"{self.har.stem}-{number}") if self.har and number > 1 else self.har
        try:
            self.file = keep_capture(source, _FOLDER, self.workspace, options, har, whole=self.session.reveal)
        except NotKept as error:
            tell(str(error))
            self.file = None
        self.sources.append(source._replace(name=str(self.file or f"sign-in {number}")))
        if wanted > 1:
            for item in self._judged(self.sources[-1:]).diagnoses:
                tell(f"{number} of {wanted}: {item.outcome}. {item.cause}")

    def _judged(self, sources: list[SourceFile]) -> Result:
        from trace_lens.diagnosis.diagnosing import diagnose_sources
        from trace_lens.diagnosis.judging import Options
        from trace_lens.live.receiving import as_received

        options = Options(now=datetime.now(UTC), app=self.name, prove=True)
        result = diagnose_sources(sources, self.workspace, options)
        return result._replace(diagnoses=tuple(as_received(item, self.lacking) for item in result.diagnoses))

    def _told(self) -> int:
        """The diagnosis of what was caught, and the exit status."""
        from trace_lens.render import as_json

        result = self._judged(self.sources)

        def pages() -> Iterable[Any]:
            from trace_lens.render.documents.diagnosis import diagnosis_pages

            return diagnosis_pages(result, full=self.session.verbose)

        def document() -> Any:
            unreadable = [as_json.unreadable(source, because) for source, because in result.unreadable]
            told = as_json.diagnoses(result.diagnoses, unreadable, self.session.masks, result.unplaced)
            return told | {"har": str(self.file) if self.file else None}

        if self.sources or self.session.format == "json":
            self.session.emit(pages, document)
        return max(result.exit_status(strict=False), 0 if self.sources else 1)


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
