"""What was tried live, as plain data."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from trace_lens.common.masking import Masks
from trace_lens.common.moments import show_moment
from trace_lens.live.probing import Probe, overall
from trace_lens.live.steps import Tried
from trace_lens.render.as_json import finding

Json = dict[str, Any]


def probe(runs: Sequence[Probe], masks: Masks) -> Json:
    """`trace-lens/probe/1`, ; of several runs each step is as it was at its worst, with what came of it each time."""
    last = overall(runs)
    return {
        "schema": "trace-lens/probe/1",
        "at": show_moment(last.at.replace(microsecond=0)),
        "steps": [_step(tried, runs, masks) for tried in last.steps],
    }


def _step(tried: Tried, runs: Sequence[Probe], masks: Masks) -> Json:
    step, outcome = tried.step, tried.outcome
    told: Json = {
        "id": step.id,
        "after": list(step.after),
        "target": step.target,
        "what": step.what,
        "status": outcome.status,
        "blocked_by": list(tried.blocked_by),
        "seconds": round(tried.seconds, 3),
        "detail": str(outcome.detail),
        "evidence": [{"label": label, "value": value} for label, value in outcome.evidence],
        "finding": finding(outcome.finding, masks) if outcome.finding else None,
        "apps": list(step.apps),
    }
    if len(runs) > 1:
        told["repeats"] = [
            {"at": show_moment(other.at), "status": other.outcome.status, "seconds": round(other.seconds, 3)}
            for run in runs
            for other in run.steps
            if other.step.id == step.id
        ]
    return told
