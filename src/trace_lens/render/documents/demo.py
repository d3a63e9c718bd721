"""What the demo shows: what was written, all sign-ins at a glance, one that breaks and one that works, what to try."""

from __future__ import annotations

from pathlib import Path

from trace_lens.diagnosis.diagnosing import Result
from trace_lens.diagnosis.timelines import of_diagnoses
from trace_lens.render.document import BLANK, Copied, Document, Rule, prose
from trace_lens.render.documents.diagnosis import one, overview
from trace_lens.render.documents.timeline import timeline_pages

_ON_THE_AXIS = "51-"
"""The capture whose timeline is shown."""


def demo_pages(folder: Path, files: int, apps: int, events: int, result: Result, report: str) -> Document:
    """The pages of the demo."""
    yield prose(
        f"The demo workspace is written: {files} files in {folder}. It tells of one fortnight of sign-ins at Northmere "
        f"Ferries: {apps} applications, their provider and a partner's, a key rolled over on a Tuesday, a good many "
        f"slips, and {events:,} events in the logs of four systems."
    )
    yield BLANK
    yield from overview(result.diagnoses)
    broken = next(found for found in result.diagnoses if found.outcome == "broken")
    sound = next(found for found in result.diagnoses if found.outcome == "sound")
    for title, found in (("One that breaks", broken), ("One that works", sound)):
        yield Rule(title)
        yield from one(found)
        yield BLANK
    timeline = of_diagnoses(result)
    shown = next(found for found in timeline.attempts if f"/{_ON_THE_AXIS}" in found.source)
    yield Rule("One beside the logs")
    yield from timeline_pages(timeline._replace(attempts=(shown,)))
    yield prose(f"A report of it, to hand over, is in {folder}/{report}: open it in a browser.")
    yield BLANK
    yield Rule("Try next")
    for command in (
        f"cd {folder}",
        "trace-lens diagnose captures/09-berth-planner-key-changed.txt",
        "trace-lens diagnose captures/55-weather-desk-loop.har",
        "trace-lens timeline captures/54-chart-room-cookie-ended.har",
        "trace-lens timeline --user m.tern --around 2026-11-18T08:30:00Z --within 12h",
        "trace-lens sides tide-tables captures/23-tide-tables-wrong-field.txt",
        "trace-lens identify claims-office",
        "trace-lens compare captures/04-crew-roster-slash-lost.txt captures/19-crew-roster-works-again.txt",
        "trace-lens apps check",
        "trace-lens decode captures/08-claims-office-guest.txt",
    ):
        yield Copied(command, indent=2)
