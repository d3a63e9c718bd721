"""What the commands of `logs` give as JSON."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from trace_lens.common.moments import show_moment

if TYPE_CHECKING:
    from trace_lens.logs.event import Event
    from trace_lens.logs.recognising.checking import Checked
    from trace_lens.logs.recognising.columns import Column
    from trace_lens.logs.store.loading import Loaded
    from trace_lens.logs.store.store import LoadedFile


from trace_lens.render.as_json import Json


def checked_log(found: Checked) -> Json:
    """`trace-lens/log-check/1`."""
    return {
        "schema": "trace-lens/log-check/1",
        "file": found.file,
        "source": found.source,
        "format": found.form,
        "rows": found.sample.rows,
        "whole": found.sample.whole,
        "bad": found.sample.bad,
        "bad_rows": [
            {"line": example.line, "because": example.because, "text": example.text}
            for example in found.sample.examples
        ],
        "first": show_moment(found.times.first) if found.times.first else None,
        "last": show_moment(found.times.last) if found.times.last else None,
        "ambiguous": found.times.ambiguous,
        "zoneless": found.times.zoneless,
        "lacking": {name: round(share, 4) for name, share in found.lacking.items()},
        "columns": [_column(found, column, fields) for column, fields in found.columns],
        "outcomes": [{"word": word, "count": count, "outcome": outcome} for word, count, outcome in found.outcomes],
        "owner": _owner(found),
        "remarks": list(found.proposal.remarks) if found.proposal else [],
        "proposal": found.proposed,
    }


def _column(found: Checked, column: Column, fields: tuple[str, ...]) -> Json:
    """A column, and why it is taken for what it is, where that is proposed."""
    matches = found.proposal.found.matches if found.proposal else ()
    match = next((match for match in matches if column.name in match.columns), None)
    return {
        "column": column.name,
        "field": fields[0] if fields else None,
        "fields": list(fields),
        "filled": column.filled,
        "distinct": column.distinct,
        "examples": list(column.examples),
        "because": match.because if match else None,
        "sure": match.sure if match else None,
    }


def _owner(found: Checked) -> Json | None:
    """Whose log it seems to be, where that is proposed."""
    return found.proposal.owner._asdict() if found.proposal else None


def loaded_logs(loaded: Iterable[Loaded]) -> Json:
    """`trace-lens/log-load/1`."""
    return {
        "schema": "trace-lens/log-load/1",
        "files": [
            {
                "source": loading.source,
                "file": loading.file,
                "state": loading.state,
                "rows": loading.rows,
                "bad": loading.bad,
                "bad_rows": [{"line": bad.line, "because": bad.because, "text": bad.text} for bad in loading.examples],
                "again": loading.again,
                "again_in": list(loading.again_in),
                "ambiguous": loading.ambiguous,
                "problem": loading.problem,
            }
            for loading in loaded
        ],
    }


def log_files(files: Iterable[LoadedFile]) -> Json:
    """`trace-lens/log-files/1`."""
    return {
        "schema": "trace-lens/log-files/1",
        "files": [
            {
                "source": file.source,
                "file": file.file,
                "octets": file.octets,
                "sha256": file.digest,
                "rows": file.rows,
                "bad": file.bad,
                "again": file.again,
                "generation": file.generation,
                "loaded_at": show_moment(file.loaded_at),
            }
            for file in files
        ],
    }


def found_events(found: Iterable[Event]) -> Json:
    """`trace-lens/events/1`."""
    return {
        "schema": "trace-lens/events/1",
        "events": [
            {
                "source": event.source,
                "file": event.file,
                "line": event.line,
                "time": show_moment(event.time),
                "user": event.user,
                "app": event.app,
                "outcome": event.outcome,
                "code": event.code,
                "reason": event.reason,
                "ip": event.ip,
                "ids": list(event.ids),
                "doubled": event.doubled,
                "generation": event.generation,
                "also": [{"file": place.file, "line": place.line} for place in event.also],
            }
            for event in found
        ],
    }
