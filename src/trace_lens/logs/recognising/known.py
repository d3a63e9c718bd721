"""What a workspace knows that the cells of an unknown log can be held against."""

from __future__ import annotations

from collections.abc import Mapping

from trace_lens.common.addresses import host_of
from trace_lens.common.tuples import NamedTuple
from trace_lens.people.spellings import Names, People
from trace_lens.workspace.records import Workspace


class Known(NamedTuple):
    """The people, applications and providers on record; `carried` are ids that captures carry, with the capture."""

    workspace: Workspace
    people: People
    names: Names
    carried: Mapping[str, str] = {}

    def person(self, text: str) -> float:
        """How likely a text names somebody on record, from 0 to 1."""
        return min(1.0, sum(self.people.read(text).values()))

    def apps(self, text: str) -> frozenset[str]:
        """The applications that a text may mean."""
        return self.names.read(text)

    def provider(self, text: str) -> str | None:
        """The provider that a text names: by its file, name, entity ID, issuer or host."""
        wanted = text.strip().casefold().rstrip("/")
        for provider in self.workspace.providers.values():
            addresses = [name for name in (provider.entity_id, provider.issuer) if name]
            told = {name.casefold().rstrip("/") for name in (provider.id, provider.name, *addresses)}
            if wanted in told or wanted in {host_of(address) for address in addresses if "://" in address}:
                return provider.id
        return None

    def is_client_name(self, app: str, text: str) -> bool:
        """Whether a text is what only a provider calls an application: its entity ID, audience or client ID."""
        known = self.workspace.apps[app]
        told, there = known.settings.application, known.settings.provider_setup
        names = {known.entity_id, told.oidc.client_id, there.client_id, there.audience} - {None, known.id, known.name}
        return text.strip() in names


def known_to(workspace: Workspace, carried: Mapping[str, str] | None = None) -> Known:
    """What a workspace knows; `carried` are the ids in its captures, where they were read. Raises SettingsError."""
    return Known(workspace, People(workspace), Names(workspace), carried or {})
