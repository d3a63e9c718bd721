"""What the shell offers while a command is typed: applications, providers, codes, keys of settings.

Names come from the files in the workspace, which are not validated for it: completing must be quick, and never fails.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import click


def _root(context: click.Context) -> Path | None:
    from trace_lens.workspace.loading import find_workspace

    told = context.params.get("workspace_dir") or os.environ.get("TRACE_LENS_WORKSPACE")
    return Path(told) if told else find_workspace(Path.cwd())


def _names(context: click.Context, folder: str) -> list[str]:
    root = _root(context)
    return sorted(path.stem for path in (root / folder).glob("*.toml")) if root else []


def apps(context: click.Context, _: click.Parameter, incomplete: str) -> list[str]:
    """The applications on record."""
    return [name for name in _names(context, "apps") if name.startswith(incomplete)]


def providers(context: click.Context, _: click.Parameter, incomplete: str) -> list[str]:
    """The providers on record."""
    return [name for name in _names(context, "providers") if name.startswith(incomplete)]


def codes(_: click.Context, __: click.Parameter, incomplete: str) -> list[str]:
    """The codes of findings."""
    from trace_lens.common import catalogue

    return [entry.code for entry in catalogue.everything() if entry.code.startswith(incomplete)]


def keys(_: click.Context, __: click.Parameter, incomplete: str) -> list[str]:
    """The keys that --set takes, each with its equals sign."""
    from trace_lens.workspace.settings import AppSettings, ProviderSettings

    found = [*_keys_of(AppSettings, ""), *_keys_of(ProviderSettings, "provider.")]
    return [f"{key}=" for key in found if key.startswith(incomplete)]


def _keys_of(record: Any, before: str) -> Iterator[str]:
    from trace_lens.workspace.settings import fields_of

    for field in fields_of(record):
        if field.record and not field.many:
            yield from _keys_of(field.record, f"{before}{field.key}.")
        else:
            yield before + field.key
