"""Whose log a file is, by what it covers: one application, all those of a provider, or hosts behind a gateway."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence

from trace_lens.common.tuples import NamedTuple
from trace_lens.logs.recognising.columns import Column
from trace_lens.logs.recognising.fields import GUESS, LIKELY, SURE, Recognised
from trace_lens.logs.recognising.known import Known

_MOSTLY = 0.8
_SAMPLE = 200


class Owner(NamedTuple):
    """The role of a log, and the application or provider that it belongs to, where it is of one; why, and how sure."""

    role: str
    app: str | None = None
    provider: str | None = None
    because: str = "nothing in it tells whose log it is"
    sure: str = GUESS


def owner_of(file: str, form: str, columns: Sequence[Column], found: Recognised, known: Known | None) -> Owner:
    """Whose log a file is; `file` is its name."""
    web = form in ("combined", "w3c")
    if known is None:
        return Owner("gateway" if web else "provider")
    named = _named(file, known)
    told = next((column for column in columns if column.name == found.column("app")), None)
    apps = _apps(told, known) if told else Counter()
    if len(apps) > 1 and told:
        return _of_several(told, apps, known, web)
    only = next(iter(apps), None) or named.app
    if only:
        where = f"{told.name} names no other application" if apps and told else f"the name of the file is {only}'s"
        return Owner("application", only, None, where, LIKELY)
    if named.provider:
        return named
    provider = _constant(columns, known)
    if provider:
        return Owner("provider", None, provider[1], f"{provider[0]} is {provider[1]} in every row", LIKELY)
    return Owner("gateway" if web else "provider")


def _of_several(told: Column, apps: Counter[str], known: Known, web: bool) -> Owner:
    """The log covers several applications: who else than their provider calls them by what it calls them?"""
    values = list(dict.fromkeys(told.values))[:_SAMPLE]
    hosts = sum("." in value and "/" not in value and "@" not in value for value in values) / len(values)
    covers = f"{told.name} names {len(apps):,} applications"
    if web or hosts >= _MOSTLY:
        return Owner("gateway", None, None, f"{covers} by their hosts", LIKELY)
    providers = {app.provider_id for app in map(known.workspace.apps.__getitem__, apps)} - {None}
    provider = next(iter(providers)) if len(providers) == 1 else None
    clients = sum(any(known.is_client_name(app, value) for app in known.apps(value)) for value in values) / len(values)
    if clients >= _MOSTLY:
        return Owner("provider", None, provider, f"{covers} by their entity IDs or client IDs", SURE)
    return Owner("provider", None, provider, f"{covers}; a platform of applications would do so too", GUESS)


def _apps(column: Column, known: Known) -> Counter[str]:
    """The applications that a column names, with their rows."""
    found: Counter[str] = Counter()
    for value, count in column.counts.items():
        meant = known.apps(value)
        if len(meant) == 1:
            found[next(iter(meant))] += count
    return found


def _named(file: str, known: Known) -> Owner:
    """What the name of a file tells: `crew-roster-2026-11.csv` is the log of crew-roster."""
    bare = file.rpartition("/")[2].casefold()
    for kind, names in (("app", known.workspace.apps), ("provider", known.workspace.providers)):
        for name in sorted(names, key=len, reverse=True):
            if re.search(rf"(?<![a-z0-9]){re.escape(name.casefold())}(?![a-z0-9])", bare):
                because = f"the name of the file is {name}'s"
                return (
                    Owner("application", name, None, because, LIKELY)
                    if kind == "app"
                    else Owner("provider", None, name, because, LIKELY)
                )
    return Owner("provider")


def _constant(columns: Sequence[Column], known: Known) -> tuple[str, str] | None:
    """A column that names one provider in every row."""
    for column in columns:
        provider = known.provider(column.values[0]) if column.distinct == 1 else None
        if provider:
            return column.name, provider
    return None
