"""What an application's record lacks and its provider's record tells: identifier, sign-on address, certificate."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from trace_lens.workspace import trust
from trace_lens.workspace.records import Workspace


def proposed_by_provider(raw: Mapping[str, Any], workspace: Workspace) -> list[str]:
    """`KEY=VALUE` for each value that the provider publishes and the application's file does not hold.

    They are proposals: what is set in the application may be something else, and that is what the record is for. Raises
    SettingsError where the provider's files cannot be read.
    """
    provider = workspace.providers.get(str(raw.get("provider", "")))
    if provider is None:
        return []
    oidc = raw.get("protocol") == "oidc"
    held = raw.get("application", {})
    endpoint = provider.discovery.get("authorization_endpoint") if oidc else None
    keys = [key.certificate for key in trust.published(provider, workspace) if key.certificate]
    told = {
        "provider_issuer" if oidc else "provider_entity_id": provider.issuer if oidc else provider.entity_id,
        "provider_sso_url": endpoint if oidc else next(iter(provider.sign_on_urls), None),
        "trusted_certificates": str(keys[0].sha256) if keys and not oidc else None,
    }
    return [f"application.{key}={value}" for key, value in told.items() if value and not held.get(key)]
