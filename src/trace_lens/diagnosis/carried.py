"""The ids that the captures of a workspace carry, by which the lines of logs can be joined to them."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from functools import partial

from trace_lens.attempts.evidence import assemble, read_evidence
from trace_lens.common.guarding import Faults
from trace_lens.diagnosis.choosing import protocol_at
from trace_lens.diagnosis.judging import Options, case_of
from trace_lens.diagnosis.traces import seen_of
from trace_lens.workspace.records import Workspace
from trace_lens.workspace.sources import read_sources

FOLDER = "captures"


def carried_by_captures(workspace: Workspace, now: datetime) -> Mapping[str, str]:
    """Each id with the name of a capture in the folder `captures` that carries it.

    What cannot be read is passed over: it only fails to help. Raises SettingsError.
    """
    if workspace.root is None or not (workspace.root / FOLDER).is_dir():
        return {}
    options = Options(now=now)
    known = partial(protocol_at, workspace=workspace, app=None)
    faults = Faults()
    found: dict[str, str] = {}
    for source in read_sources((str(workspace.root / FOLDER),)):
        evidence = faults.attempt(source.name, "reading it", partial(read_evidence, source))
        if evidence is None:
            continue
        work = partial(assemble, (evidence,), protocol_at=known)
        for attempt in faults.attempt(source.name, "putting its messages together", work) or ():
            case = faults.attempt(source.name, "judging it", partial(case_of, attempt, workspace, options))
            for name in seen_of(case, source.name).ids if case else ():
                found.setdefault(name, f"{FOLDER}/{source.name.rpartition('/')[2]}")
    return found
