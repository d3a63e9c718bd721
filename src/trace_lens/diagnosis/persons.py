"""What the checks see of a person in a message that is sound but for the two sides that it names.

Of two people whom they see the same of, they say the same, but for the values that they show. Why what is told here is
all that they see: the strict paths hold that account and assignment allow the person in, by the name itself, and that
every claim is served. What the checks of a name and of claims then still look at is

- whether the name is a guest's, and of whom; the domain of the name that the account is found by;
- of each claim, how many values it has, which of them are blank or have white space around them, and the values
  themselves where the application knows values by name and not every one of these.

A test asks who reads names and claims of a case, and knows of no other reader.
"""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Mapping, Sequence

from trace_lens.checks.entitled import known_values
from trace_lens.checks.identified import domain_of, guest
from trace_lens.people.accounts import account_index
from trace_lens.workspace.records import App, Provider, Workspace
from trace_lens.workspace.settings import Claim

Values = tuple[str, ...]


class Seeing:
    """What the checks see of those who sign in at one application by one provider."""

    def __init__(self, app: App, provider: Provider, workspace: Workspace) -> None:
        rows = app.accounts
        self._index = account_index(app, rows, workspace) if rows is not None else None
        self._provider, self._workspace = provider, workspace
        known = ((claim, known_values(claim)) for claim in app.settings.claims)
        self._by_value = [
            (claim, values, (claim.name, *claim.also_as)) for claim, values in known if claim.maps or values
        ]

    def seen(self, names: tuple[str, str], claims: Mapping[str, Values]) -> Hashable:
        """What they see of a person. `names` are the one that may be a guest's, and the one that the account is found
        by; `claims` are all that the message says of the person, by name.
        """
        told = []
        for claim, known, called in self._by_value:
            sent = next((name for name in called if name in claims), None)
            told.append(_of(claim, known, claims[sent]) if sent else None)
        found = guest(names[0], self._provider, self._workspace, self._index)
        return (found, domain_of(names[1]), *claims, *map(_white, claims.values()), *told)


def seeing(app: App, provider: Provider, workspace: Workspace) -> Seeing:
    """What the checks see of those who sign in at an application, made ready once."""
    return workspace.once(f"seeing {app.id} {provider.id}", lambda: Seeing(app, provider, workspace))


def read_by(claims: Iterable[Claim], sent: Iterable[str]) -> dict[str, list[Claim]]:
    """The claims that an application reads, by the name under which each was sent."""
    read: dict[str, list[Claim]] = {name: [] for name in sent}
    for claim in claims:
        name = next((name for name in (claim.name, *claim.also_as) if name in read), None)
        if name is not None:
            read[name].append(claim)
    return read


def _white(values: Values) -> tuple[int, ...]:
    """How much white space stands around each value; -1 where it is nothing else."""
    return tuple([len(value) - len(bare) if (bare := value.strip()) else -1 for value in values])


def _of(claim: Claim, known: Sequence[str], values: Values) -> Values | None:
    """The values of a claim as far as it matters which they are; None where it does not. `known` are those that the
    application knows.
    """
    filled = [value for value in values if value.strip()]
    if claim.means == "groups":
        return None if any(value in (claim.maps or known) for value in filled) else values
    if claim.means == "role" and claim.maps and not any(value in claim.maps or value in known for value in filled):
        return values
    if known:
        right = all(claim.maps.get(value, value) in known for value in filled)
    else:
        right = all(value in claim.maps or value in claim.maps.values() for value in filled)
    return None if right else values
