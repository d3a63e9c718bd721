"""What is said where a document of a provider is on record by its address, and was never fetched."""

from __future__ import annotations

from trace_lens.common.sentences import say
from trace_lens.workspace.records import Provider


def not_fetched(provider: Provider | None, protocol: str) -> str:
    """The words behind what is missing, with the command that fetches; empty where nothing is to be fetched."""
    missing = provider.not_fetched(protocol) if provider else ()
    if not missing:
        return ""
    return say("; {address} was not fetched yet (trace-lens drift does that)", address=missing[0][1])
