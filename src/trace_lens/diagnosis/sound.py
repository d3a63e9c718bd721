"""What is known of a sound message, and the comparisons that the strict paths of both protocols make."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import datetime

from trace_lens.common.tuples import NamedTuple
from trace_lens.people.accounts import account_index
from trace_lens.people.rewriting import result
from trace_lens.workspace.records import App, Provider, Workspace
from trace_lens.workspace.settings import Claim


class Sound(NamedTuple):
    """A message that the full judge would call sound, and what is known of it: who signs in, who began, and the moment
    at which it was issued. `wanted` and `offered` are what it looks for in other sources and has for them.
    """

    app: App
    provider: Provider
    subject: str
    started_by: str
    at: datetime
    wanted: frozenset[str]
    offered: frozenset[str]
    protocol: str = "saml"


def knows(app: App, workspace: Workspace) -> Callable[[str], bool]:
    """Whether the account rule leads from a name to one account that may sign in; always where no list is declared."""
    steps, rows = app.settings.account.rewrite, app.accounts
    if rows is None:
        return lambda name: True
    index = account_index(app, rows, workspace)

    def knows(name: str) -> bool:
        found = index.find(result(name, steps))
        return len(found) == 1 and found[0].active and found[0].federated

    return knows


def serves(claim: Claim, values: Mapping[str, Sequence[str]]) -> bool:
    """Whether what was sent for a claim cannot break a sign-in."""
    sent = next((name for name in (claim.name, *claim.also_as) if name in values), None)
    filled = [value for value in values[sent] if value.strip()] if sent else []
    if not filled:
        return claim.need != "must"
    if not (claim.maps or claim.one_of or claim.elevated):
        return True
    known = (*claim.one_of, *claim.elevated, claim.default_role) if claim.one_of or claim.elevated else ()
    mapped = any(value in claim.maps for value in filled)
    if claim.means == "groups":
        return mapped
    if claim.means == "role" and claim.maps and not mapped and not any(value in known for value in filled):
        return False
    return any(claim.maps.get(value, value) in known for value in filled) if known else mapped or not claim.maps
