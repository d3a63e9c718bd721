"""`trace-lens apps add`."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

import click

from trace_lens.cli.options import say, sources_of, tell
from trace_lens.cli.session import Session, with_session

if TYPE_CHECKING:
    from trace_lens.intake.found import FoundMessage
    from trace_lens.workspace.records import Workspace

_METADATA, _DISCOVERY, _REGISTRATION = "saml-metadata", "discovery-document", "client-registration"
_KEYS = {
    "entity_id": "application.entity_id",
    "acs_urls": "application.acs_urls",
    "sign_in_url": "application.sign_in_url",
    "client_id": "application.client_id",
    "redirect_uris": "application.redirect_uris",
    "certificates": "application.trusted_certificates",
    "display_name": "name",
    "owner": "owner",
}


@click.command(
    "add",
    epilog="Examples:\n\n  trace-lens apps add --from sp.xml --provider northmere-id\n\n"
    "  trace-lens apps add tide-tables --provider northmere-id --entity-id https://tides.northmere.example/saml "
    "--acs-url https://tides.northmere.example/saml/acs\n\n  trace-lens apps add tide-tables --client-id tides-web "
    "--redirect-uri https://tides.northmere.example/callback\n\n  trace-lens apps add --from idp.xml",
)
@click.argument("name", required=False, metavar="[NAME]")
@click.option(
    "--from", "source", metavar="SOURCE", help="Read metadata, a discovery document or a client registration."
)
@click.option("--provider", metavar="NAME", help="Set the provider that the application trusts.")
@click.option(
    "--as",
    "kind",
    type=click.Choice(["app", "provider"]),
    help="Add it as this (default: by its role in the metadata).",
)
@click.option("--entity-id", metavar="ID", help="Set its entity ID; with metadata of several entities, take this one.")
@click.option("--acs-url", "acs_urls", multiple=True, metavar="URL", help="Add an ACS URL; may be repeated.")
@click.option("--client-id", metavar="ID", help="Set its client_id; it then uses OpenID Connect.")
@click.option(
    "--redirect-uri", "redirect_uris", multiple=True, metavar="URL", help="Add a redirect URI; may be repeated."
)
@click.option("--sign-in-url", metavar="URL", help="Set the address where users start.")
@click.option(
    "--certificate",
    "certificates",
    multiple=True,
    metavar="FILE|FINGERPRINT",
    help="Trust this certificate; may be repeated.",
)
@click.option("--display-name", metavar="TEXT", help="Set the name that people use.")
@click.option("--owner", metavar="ADDRESS", help="Set who looks after it.")
@click.option("--set", "told", multiple=True, metavar="KEY=VALUE", help="Set any other setting; may be repeated.")
@click.option("--overwrite", is_flag=True, help="Replace existing files.")
@click.option("--dry-run", is_flag=True, help="Show what would be written, without writing it.")
@with_session()
def command(
    session: Session,
    name: str | None,
    source: str | None,
    provider: str | None,
    kind: str | None,
    overwrite: bool,
    dry_run: bool,
    told: tuple[str, ...],
    **values: Any,
) -> int:
    """Add an application or a provider: from its metadata, or by options.

    Nothing that exists is overwritten without --overwrite. Exit status: 0, 2 wrong usage or settings, 3 the metadata
    could not be read.
    """
    from trace_lens.saml.parsing import XMLDamaged
    from trace_lens.workspace import adding
    from trace_lens.workspace.trial_settings import read_supposed

    workspace = session.workspace
    session.check_names(None, provider)
    try:
        settings = [read_supposed(text) for text in told]
    except ValueError as error:
        raise click.UsageError(f"--set: {error}.") from None
    try:
        found = _read(source) if source else None
        entity = adding.entity_for(found.data, values["entity_id"]) if found and found.kind == _METADATA else None
        if found and entity is None:
            becomes, table = adding.of_document(found.kind, json.loads(found.data), kind)
        else:
            becomes = adding.kind_of(entity, kind) if entity else kind or adding.APP
            table = adding.table_of(entity, becomes, "") if entity else {}
        if values["client_id"] or values["redirect_uris"]:
            table["protocol"] = "oidc"
        _fill(table, values, becomes)
        name = name or adding.name_for(entity, table)
        if name is None:
            raise click.UsageError("NAME is needed: nothing tells what to call it.")
        metadata = None
        if found and found.kind == _DISCOVERY:
            metadata = (f"discovery/{name}.json", found.data.strip() + b"\n")
            table["discovery"] = metadata[0]
        if found and entity:
            metadata = (f"metadata/{name}.xml", adding.cut_out(found.data, entity))
            holder = table if becomes == adding.PROVIDER else table["application"]
            holder["metadata"] = metadata[0]
        if becomes == adding.APP:
            table = _with_provider(table, provider, workspace)
        addition = adding.make_addition(workspace, becomes, name, table, settings, metadata)
        if not dry_run and workspace.root:
            adding.write_addition(workspace.root, addition, overwrite=overwrite)
    except adding.CannotAdd as error:
        raise click.UsageError(f"{error}.") from None
    except XMLDamaged as error:
        tell(f"{source}: it cannot be read: {error.reason}.")
        return 3
    except OSError as error:
        raise click.UsageError(f"{error.filename} cannot be written: {error.strerror}.") from None
    _report(addition, dry_run=dry_run)
    return 0


def _read(source: str) -> FoundMessage:
    from trace_lens.intake.peeling import peel

    (found,) = list(sources_of((source,)))[:1]
    if found.data is None:
        tell(f"{source}: {found.problem}.")
        raise click.exceptions.Exit(3)
    held = next(
        (message for message in peel(found.data).found if message.kind in (_METADATA, _DISCOVERY, _REGISTRATION)), None
    )
    if held is None:
        words = "it holds no SAML metadata, no discovery document and no client registration"
        tell(f"{source}: {words}.")
        raise click.exceptions.Exit(3)
    return held


def _fill(table: dict[str, Any], values: dict[str, Any], kind: str) -> None:
    """Lay what the options say over what the metadata says."""
    for option, key in _KEYS.items():
        value = values[option]
        if not value:
            continue
        if kind == "provider":
            key = {"application.trusted_certificates": "certificates"}.get(key, key.removeprefix("application."))
        *section, last = key.split(".")
        holder = table.setdefault(section[0], {}) if section else table
        holder[last] = list(value) if isinstance(value, tuple) else value


def _with_provider(table: dict[str, Any], provider: str | None, workspace: Workspace) -> dict[str, Any]:
    """The table with its provider named, before the tables in it; the only one on record where none is told."""
    if provider is None and len(workspace.providers) == 1 and "provider" not in table:
        provider = next(iter(workspace.providers))
        tell(f"--provider is not told; {provider} is the only one on record and is taken.")
    head = {key: value for key, value in table.items() if not isinstance(value, dict | list)}
    named = {"provider": provider} if provider else {}
    return {**head, **named, **{key: value for key, value in table.items() if key not in head}}


def _report(addition: Any, *, dry_run: bool) -> None:
    for name, data in addition.files.items():
        lines = len(data.splitlines())
        words = "would be written" if dry_run else "written"
        say(f"{name}: {words}, {lines} {'line' if lines == 1 else 'lines'}")
    if dry_run:
        click.echo()
        say(addition.files[addition.settings_file].decode().rstrip())
    if addition.unknown:
        click.echo()
        say("Not on record yet, and needed for a full judgement:")
        for key, words in addition.unknown:
            say(f"  {key.ljust(34)} {words}")
    click.echo()
    if dry_run:
        say("Next: the same command without --dry-run")
        return
    following = f"check {addition.id}" if addition.kind == "app" else f"add --from sp.xml --provider {addition.id}"
    say(f"Next: trace-lens apps {following}")
