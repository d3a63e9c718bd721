"""`trace-lens certs`."""

from __future__ import annotations

import sys
from collections.abc import Iterable
from datetime import datetime
from typing import TYPE_CHECKING, Any

import click

from trace_lens.cli.options import Moment
from trace_lens.cli.session import Session, with_session

if TYPE_CHECKING:
    from trace_lens.workspace.sources import SourceFile


@click.command(
    epilog="Examples:\n\n  trace-lens certs provider.pem metadata.xml\n\n"
    '  trace-lens certs response.txt --expect "3F:A2:77:…"',
)
@click.argument("sources", nargs=-1, metavar="[SOURCE]...")
@click.option("--expect", metavar="FINGERPRINT", help="Compare with this fingerprint, or with its ending.")
@click.option(
    "--at", type=Moment(), metavar="TIME", help="Judge validity at this moment (default: when the message was issued)."
)
@with_session("text", "json", "jsonl", "csv", "markdown", now=True, verbose="")
def command(session: Session, sources: tuple[str, ...], expect: str | None, at: datetime | None) -> int:
    """Show the certificates in any source, and which applications pin them.

    A SOURCE may be PEM, DER, PKCS#7, PKCS#12, metadata, a captured message or a key set; with none, all that the
    workspace holds. A password is read from TRACE_LENS_KEY_PASSWORD, or asked for.

    Exit status: 0, 1 where --expect fits none of them or one breaks sign-ins, 3 where a source holds none.
    """
    from trace_lens.diagnosis.certificates import certificates_of, read_expected
    from trace_lens.render import json_sides

    try:
        expected = read_expected(expect) if expect is not None else None
    except ValueError as error:
        raise click.UsageError(f"--expect: {error}.") from None
    found = certificates_of(_sources(session, sources), session.workspace, session.now, expected, at)

    def pages() -> Iterable[Any]:
        from trace_lens.render.documents import certificates as shown

        return shown.certificates(found, expected, session.now)

    session.emit(
        pages,
        lambda: json_sides.certificates(found.certificates, found.failed, session.masks, session.now),
        "certificates",
    )
    if found.failed:
        return 3
    if any(problem.breaks for certificate in found.certificates for problem in certificate.findings):
        return 1
    return int(expected is not None and not any(certificate.matches for certificate in found.certificates))


def _sources(session: Session, names: tuple[str, ...]) -> Iterable[SourceFile]:
    """The sources named; with none, what is piped in, else everything on record that may hold a certificate."""
    root = session.workspace.root
    if names or root is None:
        return session.sources(names)
    from trace_lens.workspace.sources import bounded, read_sources
    from trace_lens.workspace.trust import files_on_record

    if not sys.stdin.isatty():
        piped = bounded("-", sys.stdin.buffer)
        if piped.data:
            return [piped]
    files = files_on_record(session.workspace)
    named = (source for name in files for source in read_sources((str(root / name),)))
    return (source._replace(name=name) for source, name in zip(named, files, strict=True))
