"""Which application a message belongs to: by audience, destination and issuer, and how that was told."""

from __future__ import annotations

from typing import NamedTuple

from trace_lens.attempts.assembly import Attempt
from trace_lens.common.difference import is_near
from trace_lens.workspace.loading import App, Provider, Workspace


class Choice(NamedTuple):
    """The application and provider chosen. `by` is option, audience, destination or issuer; `candidates` name the
    applications between which nothing decides.
    """

    app: App | None
    provider: Provider | None
    by: str | None
    candidates: tuple[str, ...] = ()


def choose(attempt: Attempt, workspace: Workspace, app: str | None = None, provider: str | None = None) -> Choice:
    """Choose the application of an attempt; `app` and `provider` name those that the user has told.

    Raises KeyError where a name that was told is not on record.
    """
    told = workspace.providers[provider] if provider else None
    if app:
        chosen = workspace.apps[app]
        return Choice(chosen, told or workspace.provider_of(chosen), "option")
    clues = _Clues(attempt)
    scored = []
    for one in workspace.apps.values():
        if one.settings.protocol != "saml" or (told and one.provider_id != told.id):
            continue
        score, by = clues.score(one, workspace.provider_of(one))
        if score:
            scored.append((score, by, one))
    scored.sort(key=lambda item: -item[0])
    by_issuer = told or clues.provider(workspace)
    if not scored:
        return Choice(None, by_issuer, None)
    best = [item for item in scored if item[0] == scored[0][0]]
    if len(best) > 1:
        return Choice(None, by_issuer, None, tuple(item[2].id for item in best))
    _, by, found = best[0]
    return Choice(found, told or workspace.provider_of(found), by)


class _Clues:
    """What a message says of where it belongs, before anything in it is trusted."""

    def __init__(self, attempt: Attempt) -> None:
        response = attempt.response
        assertions = response.assertions if response else (attempt.assertion,) if attempt.assertion else ()
        self.audiences = {
            audience.value for one in assertions if one and one.conditions for audience in one.conditions.audiences
        }
        self.destinations = {response.destination.value} if response and response.destination else set()
        for one in assertions:
            for confirmation in one.subject.confirmations if one and one.subject else ():
                if confirmation.data and confirmation.data.recipient:
                    self.destinations.add(confirmation.data.recipient.value)
        self.issuers = {one.issuer.value for one in assertions if one and one.issuer}
        if response and response.issuer:
            self.issuers.add(response.issuer.value)

    def score(self, app: App, provider: Provider | None) -> tuple[int, str]:
        """How well an application fits, and by which clue first of all; 0 where nothing speaks for it."""
        entity_id, acs_urls = app.entity_id, app.acs_urls
        issuers = {app.settings.application.provider_entity_id, *(provider.identifiers if provider else ())}
        total, by = 0, ""
        for points, name, fits in (
            (32, "audience", entity_id in self.audiences),
            (8, "audience", bool(entity_id) and any(is_near(entity_id or "", one) for one in self.audiences)),
            (16, "destination", bool(self.destinations & set(acs_urls))),
            (4, "destination", any(is_near(url, one) for url in acs_urls for one in self.destinations)),
            (2, "issuer", bool(self.issuers & issuers)),
        ):
            if fits:
                total += points
                by = by or name
        return total, by

    def provider(self, workspace: Workspace) -> Provider | None:
        """The provider on record that the message's issuer names."""
        for provider in workspace.providers.values():
            if self.issuers & set(provider.identifiers):
                return provider
        return None
