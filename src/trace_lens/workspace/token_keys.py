"""Which keys for tokens are on record, where, and since when: key sets of providers, of other files, certificates."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime

from trace_lens.common.sentences import FileName, say
from trace_lens.common.tuples import NamedTuple
from trace_lens.oidc.jwk import Jwk, read_key_set, thumbprint
from trace_lens.oidc.strict_json import JsonDamaged, read_json
from trace_lens.workspace import trust
from trace_lens.workspace.records import Provider, Workspace

_FOLDERS = ("discovery", "keys", "certs")


class TokenKey(NamedTuple):
    """A key that tokens may be signed with. `held_by` is `published` by a provider, `retired` by one (in an older
    snapshot of its key set; `until` is the moment of the first snapshot without it), or a file `on file` only.
    """

    held_by: str
    owner: str
    file: str
    key: Jwk
    until: datetime | None = None

    @property
    def words(self) -> str:
        """How a sentence names it."""
        if self.held_by == "retired":
            return say(
                "the key {words}, which {owner} retired on {until} or shortly before",
                words=self.key.words,
                owner=self.owner,
                until=f"{self.until:%Y-%m-%d}" if self.until else "a day that is not known",
            )
        whose = f", which {self.owner} publishes" if self.held_by == "published" else ""
        return say("the key {words} in {file}{whose}", words=self.key.words, file=FileName(self.file), whose=whose)


def published(provider: Provider, workspace: Workspace) -> tuple[TokenKey, ...]:
    """The signing keys of a provider: its key set's, else those of its certificates. Raises SettingsError."""
    return workspace.once(f"token keys {provider.id}", lambda: tuple(_published(provider, workspace)))


def _published(provider: Provider, workspace: Workspace) -> Iterator[TokenKey]:
    file = provider.settings.key_set
    if file:
        for key in provider.key_set:
            yield TokenKey("published", provider.name, file, key)
        return
    for label in trust.published(provider, workspace):
        yield from _of_certificate(label, "published", provider.name)


def elsewhere(workspace: Workspace, provider: Provider | None) -> tuple[TokenKey, ...]:
    """Every key on record that is not this provider's published one: other providers', retired and next ones."""
    name = provider.id if provider else ""
    return workspace.once(f"token keys but {name}", lambda: tuple(_elsewhere(workspace, provider)))


def _elsewhere(workspace: Workspace, provider: Provider | None) -> Iterator[TokenKey]:
    for owner in workspace.providers.values():
        yield from _retired(owner, workspace)
    read = {provider.settings.key_set} if provider else set()
    for other_provider in workspace.providers.values():
        if other_provider is not provider:
            yield from published(other_provider, workspace)
            read.add(other_provider.settings.key_set)
    for folder in _FOLDERS:
        for file in workspace.files_in(folder):
            if file.endswith((".json", ".jwks", ".jwk")) and file not in read and workspace.root:
                try:
                    document = read_json((workspace.root / file).read_bytes()).value
                except (OSError, JsonDamaged):
                    continue
                yield from (TokenKey("on file", "", file, key) for key in read_key_set(document))
    for pinned in trust.everything(workspace):
        yield from _of_certificate(pinned, pinned.held_by, pinned.owner)


def _retired(provider: Provider, workspace: Workspace) -> Iterator[TokenKey]:
    """The keys that a provider once published: those of older snapshots of its key set, and not of now."""
    from trace_lens.workspace.snapshots import earlier

    name = provider.settings.key_set
    if not name or workspace.root is None:
        return
    now = {thumbprint(key) for key in provider.key_set}
    gone: dict[str, TokenKey] = {}
    for snapshot in earlier(workspace.root, name):
        try:
            keys = read_key_set(read_json(snapshot.read()).value)
        except (OSError, JsonDamaged):
            continue
        there = {print_: key for key in keys if (print_ := thumbprint(key))}
        gone = {
            print_: key if print_ in there or key.until else key._replace(until=snapshot.at)
            for print_, key in gone.items()
        }
        gone |= {
            print_: TokenKey("retired", provider.name, name, key) for print_, key in there.items() if print_ not in now
        }
    yield from gone.values()


def _of_certificate(key: trust.RecordedKey, held_by: str, owner: str) -> Iterator[TokenKey]:
    if key.certificate:
        name = key.certificate.subject
        yield TokenKey(held_by, owner, key.file, Jwk({"kid": name}, str(key.where), public=key.certificate.public_key))


def had_at(provider: Provider, workspace: Workspace) -> datetime | None:
    """When the provider's key set was had from its address: by this run, else as its newest snapshot says."""
    if provider.key_set_had:
        return provider.key_set_had
    name = provider.settings.key_set
    if name is None or workspace.root is None or "://" not in name:
        return None
    from trace_lens.workspace.snapshots import newest

    held = newest(workspace.root, name)
    return held.at if held else None


def saved_at(provider: Provider, workspace: Workspace) -> datetime | None:
    """How old the provider's key set is: when it was had from its address, or its file last written."""
    name = provider.settings.key_set
    if name is None or workspace.root is None or "://" in name or provider.key_set_had:
        return had_at(provider, workspace)
    try:
        return datetime.fromtimestamp((workspace.root / name).stat().st_mtime, UTC)
    except OSError:
        return None
