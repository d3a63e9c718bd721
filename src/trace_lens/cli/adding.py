"""`trace-lens apps add`."""

from __future__ import annotations

import shlex
from typing import TYPE_CHECKING, Any

import click

from trace_lens.cli import completing
from trace_lens.cli.options import say, sources_of, tell
from trace_lens.cli.session import Session, with_session
from trace_lens.estate.additions import (
    copied,
    joined,
    name_of,
    only_seen,
    speaks_saml,
    told_by_options,
    with_seen_documents,
    with_settings,
)

if TYPE_CHECKING:
    from pathlib import Path

    from trace_lens.attempts.evidence import SourceEvidence
    from trace_lens.estate.documents import Told
    from trace_lens.estate.plans import Plan, Planned, Wanted
    from trace_lens.workspace.records import Workspace
    from trace_lens.workspace.trial_settings import TrialSetting

_NOTHING = "no capture of a sign-in, no SAML metadata, no discovery document and no client registration is there"
_EXAMPLE = "example-provider"
"""The provider of `trace-lens init`: an example, which no application trusts by itself."""
_LISTED = 12
"""How many files are told one by one."""


@click.command(
    "add",
    epilog="Examples:\n\n  trace-lens apps add --from network.har\n\n"
    "  trace-lens apps add --from captures/ --dry-run\n\n"
    "  trace-lens apps add --from sp.xml --provider northmere-id\n\n"
    "  trace-lens apps add tide-tables --provider northmere-id --entity-id https://tides.northmere.example/saml "
    "--acs-url https://tides.northmere.example/saml/acs\n\n  trace-lens apps add tide-tables --client-id tides-web "
    "--redirect-uri https://tides.northmere.example/callback\n\n  trace-lens apps add --from idp.xml",
)
@click.argument("name", required=False, metavar="[NAME]")
@click.option(
    "--from",
    "sources",
    multiple=True,
    metavar="SOURCE",
    help="Read a capture, metadata, a discovery document, a key set, a client registration, a certificate, or a list "
    "of accounts, groups or assignments; a folder counts for what is in it; may be repeated.",
)
@click.option(
    "--provider",
    shell_complete=completing.providers,
    metavar="NAME",
    help="Set the provider that the application trusts.",
)
@click.option(
    "--as",
    "kind",
    type=click.Choice(["app", "provider"]),
    help="Add it as this (default: by its role in the metadata).",
)
@click.option(
    "--held-by",
    type=click.Choice(["application", "provider"]),
    default="application",
    show_default=True,
    help="Whose copy of the application's metadata, or whose list of people, it is: the provider's fills "
    "provider_setup.",
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
    help="Trust this certificate; a file is copied into the workspace; may be repeated.",
)
@click.option("--display-name", metavar="TEXT", help="Set the name that people use.")
@click.option("--owner", metavar="ADDRESS", help="Set who looks after it.")
@click.option(
    "--set",
    "told",
    multiple=True,
    shell_complete=completing.keys,
    metavar="KEY=VALUE",
    help="Set any other setting; may be repeated.",
)
@click.option(
    "--trust-seen",
    is_flag=True,
    help="Trust the signing certificate that a capture shows. Compare its fingerprint first.",
)
@click.option("--update", is_flag=True, help="Merge into existing files; comments and order stay.")
@click.option("--overwrite", is_flag=True, help="Replace existing files.")
@click.option("--dry-run", is_flag=True, help="Show what would be written, without writing it.")
@with_session()
def command(session: Session, **options: Any) -> int:
    """Add applications and providers: from captures, documents, or by options.

    What is on record already is merged: the differences are shown, and written only with --update. Where there is no
    workspace, one is made here. Exit status: 0, 2 wrong usage or settings, 3 a source could not be read.
    """
    from trace_lens.saml.parsing import XMLDamaged
    from trace_lens.workspace.adding import CannotAdd
    from trace_lens.workspace.trial_settings import read_supposed

    try:
        settings = [read_supposed(text) for text in options.pop("told")]
    except ValueError as error:
        raise click.UsageError(f"--set: {error}.") from None
    workspace = _with_root(session.workspace)
    try:
        plan = _plan(session, workspace, settings, options)
        return _finish(workspace, plan, options)
    except CannotAdd as error:
        raise click.UsageError(f"{error}.") from None
    except XMLDamaged as error:
        tell(f"{' '.join(options['sources'])}: it cannot be read: {error.reason}.")
        return 3
    except OSError as error:
        raise click.UsageError(f"{error.filename} cannot be written: {error.strerror}.") from None


def _with_root(workspace: Workspace) -> Workspace:
    """The workspace; where there is none, the one that would be made in the current folder."""
    if workspace.root is not None:
        return workspace
    from dataclasses import replace
    from pathlib import Path

    return replace(workspace, root=Path.cwd())


def _made_here(root: Path) -> None:
    """Make the folder a workspace, where it is none yet."""
    from trace_lens.workspace.loading import ROOT_FILE

    if not (root / ROOT_FILE).exists():
        (root / ROOT_FILE).touch()
        tell(f"There was no workspace; {ROOT_FILE} was made here.")


def _plan(session: Session, workspace: Workspace, settings: list[TrialSetting], options: dict[str, Any]) -> Plan:
    """What is to be written: of the documents first, then of the captures, then of the options."""
    from trace_lens.attempts.evidence import read_evidence
    from trace_lens.estate.documents import Told, documents_in
    from trace_lens.estate.plans import plan_captures, with_planned

    name, provider = options["name"], options["provider"]
    if provider and options["kind"] != "provider" and not options["sources"]:
        session.check_names(None, provider)
    if not options["sources"]:
        return _of_options(workspace, settings, options)
    evidence = [read_evidence(source) for named in options["sources"] for source in sources_of((named,))]
    told = Told(name, provider, options["kind"], options["entity_id"], options["held_by"])
    documents = [(held, found) for held in evidence for found in documents_in(held)]
    rest = [held for held in evidence if not documents_in(held)]
    plan = _of_documents(documents, workspace, told, settings, options)
    lists = [held for held in rest if not held.found and _is_list(held)]
    if lists and not name:
        names = ", ".join(held.source for held in lists)
        command = f"apps add NAME --from {lists[0].source}"
        tell(f"{names}: a list of people; add it with the NAME of its application: {command}")
        rest, lists = [held for held in rest if held not in lists], []
    plan = _with_lists(plan, lists, workspace, name, of_provider=options["held_by"] == "provider")
    captures = [held for held in rest if held not in lists]
    if captures:
        known = with_planned(workspace, plan)
        shown = plan_captures(
            captures, known, session.now, name=name, provider=provider, trust_seen=options["trust_seen"]
        )
        plan = shown._replace(files=(*plan.files, *shown.files), beside=plan.beside)
        plan = with_seen_documents(plan, captures, workspace, trust_seen=options["trust_seen"])
    return plan


def _of_options(workspace: Workspace, settings: list[TrialSetting], options: dict[str, Any]) -> Plan:
    from trace_lens.estate.plans import Plan, Wanted, planned

    kind = options["kind"] or "app"
    table: dict[str, Any] = {"protocol": "oidc"} if options["client_id"] or options["redirect_uris"] else {}
    table |= told_by_options(options, kind)
    name = options["name"] or name_of(table)
    if name is None:
        raise click.UsageError("NAME is needed: nothing tells what to call it.")
    beside = copied(table, name, workspace)
    table = with_settings(table, settings, kind)
    wanted = _with_provider(Wanted(kind, name, table, {}, ()), options["provider"], workspace)
    return Plan((planned(wanted, workspace),), beside)


def _of_documents(
    documents: list[tuple[SourceEvidence, Any]],
    workspace: Workspace,
    told: Told,
    settings: list[TrialSetting],
    options: dict[str, Any],
) -> Plan:
    from trace_lens.estate.documents import read_document
    from trace_lens.estate.plans import Plan, planned, with_planned

    plan = Plan((), {})
    made = []
    for _, found in documents:
        known = with_planned(workspace, plan)
        for document in read_document(found, known, told):
            made.append(document)
            wanted = document.wanted
            if wanted.kind == "app":
                wanted = _with_provider(wanted, told.provider, known)
            plan = joined(plan, planned(wanted, known), document.beside)
    if len(made) == 1 and (extra := told_by_options({**options, "entity_id": None}, made[0].wanted.kind)):
        settings_of = made[0].wanted._replace(settings={**made[0].wanted.settings, **extra})
        wanted = settings_of._replace(settings=with_settings(settings_of.settings, settings, settings_of.kind))
    elif len(made) == 1 and settings:
        wanted = made[0].wanted
        wanted = wanted._replace(settings=with_settings(wanted.settings, settings, wanted.kind))
    else:
        return plan
    wanted = _with_provider(wanted, told.provider, workspace) if wanted.kind == "app" else wanted
    return Plan((planned(wanted, workspace),), plan.beside)


def _with_provider(wanted: Wanted, provider: str | None, workspace: Workspace) -> Wanted:
    """An application with its provider named; the only one on record where none is told."""
    if wanted.kind != "app" or "provider" in wanted.settings or (wanted.id in workspace.apps and provider is None):
        return wanted
    real = [name for name in workspace.providers if name != _EXAMPLE]
    if provider is None and len(real) == 1:
        provider = real[0]
        tell(f"--provider is not told; {provider} is the only one on record and is taken.")
    if provider is None:
        return wanted
    if provider not in workspace.providers:
        from trace_lens.workspace.problems import Problem, SettingsError

        known = ", ".join(sorted(workspace.providers)) or "none"
        reason = f"names {provider}, which is not on record (there: {known})"
        raise SettingsError([Problem(f"apps/{wanted.id}.toml", 0, "provider", reason)])
    head = {key: value for key, value in wanted.settings.items() if key in ("name", "protocol")}
    rest = {key: value for key, value in wanted.settings.items() if key not in head}
    return wanted._replace(settings={**head, "provider": provider, **rest})


def _is_list(held: SourceEvidence) -> bool:
    from trace_lens.estate.account_lists import is_list

    return is_list(held.source)


def _with_lists(
    plan: Plan, lists: list[SourceEvidence], workspace: Workspace, name: str | None, *, of_provider: bool
) -> Plan:
    from trace_lens.estate.account_lists import list_document
    from trace_lens.estate.plans import planned, with_planned

    for held in lists:
        wanted, beside, told = list_document(held.source, name or "", of_provider=of_provider)
        tell(told)
        plan = joined(plan, planned(wanted, with_planned(workspace, plan)), beside)
    return plan


def _finish(workspace: Workspace, plan: Plan, options: dict[str, Any]) -> int:
    """Write the plan, or show it; the exit status."""
    from trace_lens.estate import plans
    from trace_lens.workspace.adding import CannotAdd

    assert workspace.root is not None
    for source, because in (*plan.unread, *plan.unused):
        tell(f"{source}: {because}.")
    if not plan.files:
        tell(f"Nothing was put on record: {_NOTHING}.")
        return 3
    plans.check_files(plan, workspace.root)
    held = [item for item in plan.files if not item.is_new and item.differences]
    if options["overwrite"]:
        plan = plan._replace(files=tuple(plans.anew(item) for item in plan.files))
    elif held and not options["update"] and not options["sources"]:
        raise CannotAdd(f"{held[0].file} exists already; --update merges into it, --overwrite replaces it")
    writes = not options["dry_run"]
    kept = plan if options["update"] or options["overwrite"] else plans.only_new(plan, workspace.root)
    if writes:
        _made_here(workspace.root)
        plans.write(kept, workspace.root)
    _report(workspace, plan, kept, dry_run=not writes, update=options["update"] or options["overwrite"])
    return 3 if plan.unread else 0


def _report(workspace: Workspace, plan: Plan, kept: Plan, *, dry_run: bool, update: bool) -> None:
    """What was written, what differs, what is left to do."""
    from pathlib import Path

    from trace_lens.estate import plans

    word = "would be written" if dry_run else "written"
    for name, data in plan.beside.items():
        if name in kept.beside:
            say(f"{name}: {word}, {_lines(data)}")
        elif plans.differs(workspace.root or Path(), name, data):
            say(f"{name}: on record, and differs")
    for item in plan.files:
        if item.is_new:
            say(f"{item.file}: {word}, {_lines(item.text.encode())}")
        elif not item.differences:
            say(f"{item.file}: on record already, nothing differs")
        else:
            say(f"{item.file}: {'changed' if update and not dry_run else 'on record, and differs'}")
            for difference in item.differences:
                before = f"{difference.before} → " if difference.before is not None else "not set → "
                say(f"  {difference.key}: {before}{difference.after}")
        for note in item.notes:
            say(f"  {note}")
    fresh = [item for item in kept.files if item.changes]
    if dry_run and 0 < len(fresh) <= _LISTED:
        for item in fresh:
            click.echo()
            say(f"# {item.file}")
            say(item.text.rstrip())
    apps = [item for item in plan.files if item.kind == "app"]
    if len(plan.files) == 1 and apps:
        _tell_unknown(apps[0], workspace)
    _next(plan, kept, apps, dry_run=dry_run, update=update)


def _tell_unknown(item: Planned, workspace: Workspace) -> None:
    """What is not on record yet, and what of it the provider's record proposes."""
    import tomli

    from trace_lens.estate.proposals import proposed_by_provider
    from trace_lens.workspace.adding import unknown

    raw = tomli.loads(item.text)
    lacking = unknown(raw)
    if lacking:
        click.echo()
        say("Not on record yet, and needed for a full judgement:")
        for key, words in lacking:
            say(f"  {key.ljust(34)} {words}")
    proposals = proposed_by_provider(raw, workspace)
    if proposals:
        click.echo()
        say("The provider on record has these values; where the application has them too, they can be set so:")
        for proposal in proposals:
            say(f"  trace-lens apps set {item.id} {shlex.quote(proposal)}")


def _next(plan: Plan, kept: Plan, apps: list[Planned], *, dry_run: bool, update: bool) -> None:
    """The command that goes on from here."""
    click.echo()
    if any(only_seen(item) for item in apps if item.changes):
        say(
            "The signing certificates were only seen. Compare their fingerprints with what the provider publishes; "
            "--trust-seen puts them on record as trusted."
        )
    if dry_run:
        say("Next: the same command without --dry-run")
    elif not update and (
        any(not item.is_new and item.differences for item in plan.files) or set(plan.beside) - set(kept.beside)
    ):
        say("Next: the same command with --update writes the differences")
    elif apps:
        say(f"Next: trace-lens apps check {apps[0].id if len(apps) == 1 else ''}".rstrip())
    else:
        source = "sp.xml" if speaks_saml(plan.files[0]) else "client.json"
        say(f"Next: trace-lens apps add --from {source} --provider {plan.files[0].id}")


def _lines(data: bytes) -> str:
    count = len(data.splitlines())
    return f"{count} {'line' if count == 1 else 'lines'}"
