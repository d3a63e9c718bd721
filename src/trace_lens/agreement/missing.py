"""Documents of a provider that are on record by their address, and were never fetched."""

from __future__ import annotations

from collections.abc import Iterator

from trace_lens.common.findings import Evidence, Finding, Side
from trace_lens.common.locations import Location
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.workspace.records import App, Provider


def not_fetched_yet(app: App, provider: Provider | None) -> Iterator[Finding]:
    """One finding for each document that the application's protocol needs."""
    for key, address in provider.not_fetched(app.settings.protocol) if provider else ():
        assert provider is not None
        yield finding(
            "setting-missing",
            say("{app_name}: {address} was not fetched yet.", app_name=app.name, address=address),
            side=Side.PROVIDER,
            expected=key,
            remedy="Fetch the provider's documents: trace-lens drift",
            evidence=(Evidence(key, address, provider.source.file, Location(path=key)),),
        )
