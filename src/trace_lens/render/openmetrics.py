"""Dates as metrics (OpenMetrics 1.0): one gauge, the moment of each end in seconds since 1970."""

from __future__ import annotations

from collections.abc import Sequence

from trace_lens.common.masking import visible
from trace_lens.fleet.dates import Ending

_NAME = "trace_lens_expiry_timestamp_seconds"


def write_metrics(found: Sequence[Ending]) -> str:
    """The metrics; of several ends of the same labels the earliest."""
    lines: dict[str, str] = {}
    for ending in found:
        told = {"kind": ending.kind, "provider": ending.provider, "app": ending.app, "what": ending.what}
        labels = ",".join(f'{name}="{_escaped(value or "")}"' for name, value in told.items())
        lines.setdefault(labels, f"{_NAME}{{{labels}}} {int(ending.at.timestamp())}")
    head = (f"# TYPE {_NAME} gauge", f"# UNIT {_NAME} seconds", f"# HELP {_NAME} When something on record ends.")
    return "\n".join([*head, *lines.values(), "# EOF"]) + "\n"


def _escaped(text: str) -> str:
    """A label's value (OpenMetrics 1.0, "Escaping")."""
    return visible(text).replace("\\", "\\\\").replace('"', '\\"')
