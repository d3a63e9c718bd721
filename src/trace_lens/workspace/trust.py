"""Which keys are on record, where, and which of them an application trusts."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from trace_lens.common.locations import Location
from trace_lens.common.sentences import FileName, say
from trace_lens.common.tuples import NamedTuple
from trace_lens.pki.certificates import Certificate, CertificateError, read_certificate
from trace_lens.pki.fingerprints import Fingerprint, is_fingerprint, read_fingerprint
from trace_lens.pki.pem import PastedCertificate
from trace_lens.saml.metadata import find_entity
from trace_lens.saml.names import IDP_ROLE
from trace_lens.saml.parsing import XMLDamaged
from trace_lens.workspace.records import App, Provider, Workspace


class RecordedKey(NamedTuple):
    """A certificate, or a fingerprint of one, on record.

    `held_by` says who has it there: `pinned` by an application, `published` by a provider, `retired` by one (in an
    older snapshot of its metadata), only `seen` in a capture, or a file `on file` only. `until` is the moment of the
    first snapshot without a retired key.
    `problem` says why it cannot be used, `repairs` what was mended so that it can.
    """

    held_by: str
    owner: str
    file: str
    where: Location
    certificate: Certificate | None = None
    fingerprint: Fingerprint | None = None
    repairs: tuple[str, ...] = ()
    problem: str | None = None
    until: datetime | None = None

    @property
    def words(self) -> str:
        """How a sentence names it."""
        match self.held_by:
            case "pinned":
                return say("the certificate in {file}, which {owner} pins", file=FileName(self.file), owner=self.owner)
            case "published":
                return say(
                    "the certificate in {file}, which {owner} publishes", file=FileName(self.file), owner=self.owner
                )
            case "retired":
                return say(
                    "a key that {owner} retired on {until} or shortly before",
                    owner=self.owner,
                    until=f"{self.until:%Y-%m-%d}" if self.until else "a day that is not known",
                )
            case _:
                return say("the certificate in {file}", file=FileName(self.file))


def pinned(app: App, workspace: Workspace) -> tuple[RecordedKey, ...]:
    """What the application itself holds: certificates and fingerprints, damaged ones among them."""
    return workspace.once(f"pinned {app.id}", lambda: _held(app, workspace, "trusted_certificates", "pinned"))


def _held(app: App, workspace: Workspace, key: str, held_by: str) -> tuple[RecordedKey, ...]:
    found: list[RecordedKey] = []
    for position, name in enumerate(getattr(app.settings.application.saml, key)):
        if is_fingerprint(name):
            where = app.source.where("application", key, position)
            found.append(RecordedKey(held_by, app.name, app.source.file, where, fingerprint=read_fingerprint(name)))
        else:
            found += _from_file(workspace, name, held_by, app.name)
    return tuple(found)


def seen(app: App, workspace: Workspace) -> tuple[RecordedKey, ...]:
    """Certificates and fingerprints that were only seen in a capture: compared and named, never trusted."""
    return workspace.once(f"seen {app.id}", lambda: _held(app, workspace, "seen_certificates", "seen"))


def published(provider: Provider, workspace: Workspace) -> tuple[RecordedKey, ...]:
    """The signing keys of a provider: those of its metadata, and those of `certificates`."""
    return workspace.once(f"published {provider.id}", lambda: _published(provider, workspace))


def _published(provider: Provider, workspace: Workspace) -> tuple[RecordedKey, ...]:
    found: list[RecordedKey] = []
    for key in provider.role.signing_keys if provider.role else ():
        found.append(_record(key.certificate, "published", provider.name, provider.settings.metadata or "", key.where))
    for name in provider.settings.certificates:
        found += _from_file(workspace, name, "published", provider.name)
    return tuple(found)


def retired(provider: Provider, workspace: Workspace) -> tuple[RecordedKey, ...]:
    """The signing keys that a provider once published: those of older snapshots of its metadata, and not of now."""
    return workspace.once(f"retired {provider.id}", lambda: tuple(_retired(provider, workspace)))


def _retired(provider: Provider, workspace: Workspace) -> Iterator[RecordedKey]:
    from trace_lens.workspace.snapshots import earlier

    name = provider.settings.metadata
    if not name or workspace.root is None:
        return
    now = {key.certificate for key in published(provider, workspace)}
    gone: dict[Certificate, RecordedKey] = {}
    for snapshot in earlier(workspace.root, name):
        try:
            entity, _ = find_entity(snapshot.read(), provider.entity_id, IDP_ROLE)
        except (OSError, XMLDamaged):
            continue
        role = entity.role(IDP_ROLE) if entity else None
        keys = role.signing_keys if role else ()
        held = [_record(key.certificate, "retired", provider.name, name, key.where) for key in keys]
        there = {key.certificate for key in held}
        gone = {
            certificate: key if certificate in there or key.until else key._replace(until=snapshot.at)
            for certificate, key in gone.items()
        }
        for key in held:
            if key.certificate and key.certificate not in now:
                gone[key.certificate] = key
    yield from gone.values()


def own_keys(app: App, workspace: Workspace) -> tuple[RecordedKey, ...]:
    """The keys with which an application signs what it sends: those of its metadata. Raises SettingsError."""
    return workspace.once(f"own keys {app.id}", lambda: _own_keys(app))


def _own_keys(app: App) -> tuple[RecordedKey, ...]:
    role = app.role
    file = app.settings.application.saml.metadata or ""
    return tuple(
        _record(key.certificate, "published", app.name, file, key.where) for key in (role.signing_keys if role else ())
    )


def pins(held: tuple[RecordedKey, ...], certificate: Certificate) -> bool:
    """Whether any of the pins is this certificate, whole or as a fingerprint."""
    return any(
        (pin.fingerprint and certificate.matches(pin.fingerprint)) or pin.certificate == certificate for pin in held
    )


def everything(workspace: Workspace) -> tuple[RecordedKey, ...]:
    """Every key on record anywhere in the workspace, those with an owner first."""
    return workspace.once("everything", lambda: _everything(workspace))


def _everything(workspace: Workspace) -> tuple[RecordedKey, ...]:
    found: list[RecordedKey] = []
    for provider in workspace.providers.values():
        found += published(provider, workspace)
    for provider in workspace.providers.values():
        found += retired(provider, workspace)
    for app in workspace.apps.values():
        found += pinned(app, workspace)
    for name in workspace.files_in("certs"):
        found += _from_file(workspace, name, "on file", "")
    return tuple(key for key in found if key.certificate)


def files_on_record(workspace: Workspace) -> list[str]:
    """Every file of the workspace that may hold certificates or keys of a provider or an application, each once."""
    names: list[str | None] = []
    for provider in workspace.providers.values():
        told = provider.settings
        names += [told.metadata, told.key_set, *told.certificates]
    for app in workspace.apps.values():
        saml = app.settings.application.saml
        names += [saml.metadata, *saml.trusted_certificates, *saml.seen_certificates]
    names += workspace.files_in("certs")
    return list(dict.fromkeys(name for name in names if name and "://" not in name and not is_fingerprint(name)))


def _from_file(workspace: Workspace, name: str, held_by: str, owner: str) -> list[RecordedKey]:
    pasted = workspace.read_certificates(name)
    if not pasted:
        return [RecordedKey(held_by, owner, name, Location(line=1), problem="there is no certificate in it")]
    return [_record(certificate, held_by, owner, name, Location(line=certificate.line)) for certificate in pasted]


def _record(pasted: PastedCertificate, held_by: str, owner: str, file: str, where: Location) -> RecordedKey:
    if pasted.der is None:
        return RecordedKey(held_by, owner, file, where, repairs=pasted.repairs, problem=pasted.problem)
    try:
        certificate = read_certificate(pasted.der)
    except CertificateError as error:
        return RecordedKey(held_by, owner, file, where, repairs=pasted.repairs, problem=str(error))
    return RecordedKey(
        held_by=held_by, owner=owner, file=file, where=where, certificate=certificate, repairs=pasted.repairs
    )
