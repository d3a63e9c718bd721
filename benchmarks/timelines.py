"""Measures the whole way: captures and log files in, `trace-lens timeline captures --format json` out.

    python benchmarks/timelines.py [--seeds 10] [--first-seed 0] [--attempts 60] [--sign-ins 4000] [--only WORDS]

The worlds are those of `correlation.py`, written down as an engineer would have them: each captured attempt a pasted
SAML response, each log a file of its own format with a description, one of them exported twice with an overlap. Nothing
but files goes in; what comes out is held against the truth: precision, recall, expected calibration error, whether the
clocks' intervals hold the true offsets and how wide they are. Each figure is the mean over the seeds, with the worst.
"""

from __future__ import annotations

import argparse
import base64
import csv
import io
import json
import multiprocessing
import random
import statistics
import subprocess
import sys
import tempfile
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, NamedTuple

from correlation_world import BEGIN, REGIMES, SPAN, Regime, World, make, workspace_of
from trace_lens.logs.event import Event
from trace_lens.logs.matching.seen import Seen

_RESPONSE = """<samlp:Response xmlns:samlp="urn:oasis:names:tc:SAML:2.0:protocol" \
xmlns:saml="urn:oasis:names:tc:SAML:2.0:assertion" ID="_p{key}" Version="2.0" IssueInstant="{at}" \
InResponseTo="{request}"><saml:Issuer>https://id.northmere.example/saml</saml:Issuer><samlp:Status>\
<samlp:StatusCode Value="{status}"/></samlp:Status>{assertion}</samlp:Response>"""
_ASSERTION = """<saml:Assertion ID="_a{key}" Version="2.0" IssueInstant="{at}">\
<saml:Issuer>https://id.northmere.example/saml</saml:Issuer><saml:Subject><saml:NameID>{name}</saml:NameID>\
<saml:SubjectConfirmation Method="urn:oasis:names:tc:SAML:2.0:cm:bearer"><saml:SubjectConfirmationData \
InResponseTo="{request}" NotOnOrAfter="{ends}"/></saml:SubjectConfirmation></saml:Subject>\
<saml:Conditions NotBefore="{at}" NotOnOrAfter="{ends}"><saml:AudienceRestriction><saml:Audience>{audience}\
</saml:Audience></saml:AudienceRestriction></saml:Conditions>\
<saml:AuthnStatement AuthnInstant="{at}"{session}><saml:AuthnContext><saml:AuthnContextClassRef>\
urn:oasis:names:tc:SAML:2.0:ac:classes:Password</saml:AuthnContextClassRef></saml:AuthnContext></saml:AuthnStatement>\
</saml:Assertion>"""
_DESCRIPTION = """role = "{role}"
format = "{format}"
files = ["logs/{file}.*", "logs/{file}-?.csv"{more}]
[fields]
time = "at"
user = "who"
app = "where"
outcome = "how"
code = "no"
ip = "from"
ids = ["req", "ses"]
[outcomes]
success = ["success"]
failure = ["failure"]
"""


class Score(NamedTuple):
    """How one world came out; `widths` are those of the clocks' intervals, in seconds; `chances` each probability that
    was told, and whether it held.
    """

    precision: float
    recall: float
    calibration: float
    held: int
    clocks: int
    widths: tuple[float, ...]
    chances: tuple[tuple[float, bool], ...]


def written(world: World, folder: Path) -> dict[tuple[str, int], str]:
    """Write a world down as a workspace; the owner of each line, by the file's name and line."""
    workspace_of(24, folder)
    (folder / "captures").mkdir()
    (folder / "logs").mkdir()
    for seen in world.seen:
        (folder / "captures" / f"{seen.key}.txt").write_text(_paste(seen))
    by_file: dict[str, list[Event]] = {}
    for event in world.events:
        by_file.setdefault(event.file.removesuffix(".csv"), []).append(event)
    owner: dict[tuple[str, int], str] = {}
    for name, events in by_file.items():
        lines = name.startswith("app-log")
        role = "provider" if name == "id-log" else "gateway" if name == "edge-log" else "application"
        stem = events[0].source
        more = ', "logs/app-log-2.jsonl"' if stem == "app-log" and not _apart(world) else ""
        told = _DESCRIPTION.format(role=role, format="jsonl" if lines else "csv", file=stem, more=more)
        (folder / "logs" / f"{stem}.toml").write_text(told)
        if name != "edge-log":
            _write(folder, name, events, world.owner, owner)
            continue
        cut, again = len(events) * 3 // 5, len(events) // 2
        _write(folder, f"{name}-1", events[:cut], world.owner, owner)
        _write(folder, f"{name}-2", events[again:], world.owner, owner)
    return owner


def _apart(world: World) -> bool:
    """Whether every file has a source of its own."""
    return len({event.source for event in world.events}) == len({event.file for event in world.events})


def _paste(seen: Seen) -> str:
    """A pasted form of the response that an attempt ended with, as far as it is known."""
    at = seen.at or BEGIN
    request = next((name for name in seen.ids if name.startswith("r-")), "")
    session = next((name for name in seen.ids if name.startswith("s-")), "")
    words = {
        "key": seen.key,
        "at": _stamp(at),
        "ends": _stamp(at + timedelta(minutes=5)),
        "request": request,
        "name": next(iter(seen.names)),
        "audience": f"https://a{(seen.app or '').removeprefix('app-')}.northmere.example/saml",
        "session": f' SessionIndex="{session}"' if session else "",
    }
    good = "urn:oasis:names:tc:SAML:2.0:status:Success"
    text = _RESPONSE.format(status=good, assertion=_ASSERTION.format(**words), **words)
    return "SAMLResponse=" + base64.b64encode(text.encode()).decode()


def _stamp(at: datetime) -> str:
    return at.astimezone(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")


def _write(
    folder: Path,
    name: str,
    events: list[Event],
    truth: dict[tuple[str, int], str],
    owner: dict[tuple[str, int], str],
) -> None:
    lines = name.startswith("app-log")
    text = io.StringIO()
    keys = ("at", "who", "where", "how", "no", "from", "req", "ses")
    writer = csv.writer(text, lineterminator="\n")
    if not lines:
        writer.writerow(keys)
    file = f"logs/{name}.{'jsonl' if lines else 'csv'}"
    for line, event in enumerate(events, 1 if lines else 2):
        ids = {"req": "", "ses": ""} | {("ses" if text[:1] == "s" else "req"): text for text in event.ids}
        cells = (event.time.isoformat(), event.user, event.app, event.outcome, event.code, event.ip)
        row = dict(zip(keys, (*cells, ids["req"], ids["ses"]), strict=True))
        if lines:
            text.write(json.dumps(row) + "\n")
        else:
            writer.writerow([value if value is not None else "" for value in row.values()])
        key = truth.get((event.file, event.line))
        if key:
            owner[file, line] = key
    (folder / file).write_text(text.getvalue())


def scored(world: World, owner: dict[tuple[str, int], str], told: dict[str, Any], set_by: float) -> Score:
    """Hold a timeline against the truth; an event of several files counts once, by any of its places."""
    given = right = 0
    chances: list[tuple[float, bool]] = []
    for attempt in told["attempts"]:
        key = Path(attempt["source"]).stem
        for kind in ("events", "possible"):
            for event in attempt[kind]:
                holds = any(owner.get(place) == key for place in _places(event))
                chances.append((event["probability"], holds))
                given += kind == "events"
                right += holds and kind == "events"
    held, clocks, widths = 0, 0, []
    nodes = {clock["source"]: {Path(file).stem for file in clock["files"]} for clock in told["clocks"]}
    for clock in told["clocks"]:
        if clock["source"] not in world.offsets:
            continue
        clocks += 1
        if clock["low"] is not None:
            parts = clock["segments"] or [clock]
            mine = {Path(file).stem for file in clock["files"]} or {clock["source"], f"{clock['source']}-2"}
            log = min((mine - (set() if clock["files"] else nodes[clock["source"]])) & world.offsets.keys())
            held += all(_holds(world, set_by, log, part) for part in parts)
            widths += [part["high"] - part["low"] for part in parts]
    found, there = right / max(given, 1), right / max(len(world.owner), 1)
    return Score(found, there, _error(chances), held, clocks, tuple(widths), tuple(chances))


def _error(chances: Sequence[tuple[float, bool]]) -> float:
    """The expected calibration error, over ten bins."""
    error = 0.0
    for low in range(10):
        inside = [(chance, holds) for chance, holds in chances if low / 10 <= chance < (low + 1) / 10 + (low == 9)]
        if inside:
            mean = statistics.fmean(chance for chance, _ in inside)
            error += abs(mean - statistics.fmean(holds for _, holds in inside)) * len(inside) / len(chances)
    return error


def _by_chance(chances: Sequence[tuple[float, bool]]) -> float:
    """The mean error that probabilities right to the last digit would show on so many lines: what holds is drawn by
    them, 200 times.
    """
    draw = random.Random(1)
    drawn = ([(chance, draw.random() < chance) for chance, _ in chances] for _ in range(200))
    return statistics.fmean(map(_error, drawn)) if chances else 0.0


def _holds(world: World, set_by: float, source: str, part: dict[str, Any]) -> bool:
    """Whether an interval holds the true offset; of a clock that was set, that of the half that it is told for."""
    late = (
        part.get("from") is not None and datetime.fromisoformat(part["from"]).timestamp() > BEGIN.timestamp() + SPAN / 2
    )
    true = world.offsets[source] + (set_by if late and source == "app-log" else 0.0)
    slack = abs(world.drift[source]) * SPAN / 86_400 / 8
    return bool(part["low"] - slack <= true <= part["high"] + slack)


def _places(event: dict[str, Any]) -> list[tuple[str, int]]:
    return [(event["file"], event["line"]), *((place["file"], place["line"]) for place in event["also"])]


def measured(job: tuple[Regime, int, int, int]) -> Score:
    """Make, load and lay out one world."""
    regime, seed, attempts, sign_ins = job
    world = make(regime, seed, attempts, people=max(100, sign_ins // 10), sign_ins=sign_ins)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        owner = written(world, folder)
        program = [sys.executable, "-m", "trace_lens"]
        subprocess.run([*program, "logs", "load"], cwd=folder, check=True, capture_output=True)
        done = subprocess.run(
            [*program, "timeline", "captures", "--format", "json"], cwd=folder, check=False, capture_output=True
        )
        return scored(world, owner, json.loads(done.stdout), regime.set_by)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--seeds", type=int, default=10)
    parser.add_argument("--first-seed", type=int, default=0)
    parser.add_argument("--attempts", type=int, default=60)
    parser.add_argument("--sign-ins", type=int, default=4_000)
    parser.add_argument("--only", help="only regimes whose name holds this")
    parser.add_argument("--workers", type=int, default=2)
    options = parser.parse_args()
    print(
        "| regime | precision | recall | calibration error | by chance alone | of all worlds together | clocks held "
        "| median width of intervals, s |"
    )
    print("|---|---|---|---|---|---|---|---|")
    with multiprocessing.get_context("spawn").Pool(options.workers) as pool:
        for regime in REGIMES:
            if options.only and options.only not in regime.name:
                continue
            seeds = range(options.first_seed, options.first_seed + options.seeds)
            jobs = [(regime, seed, options.attempts, options.sign_ins) for seed in seeds]
            scores = pool.map(measured, jobs, chunksize=1)
            print(f"| {regime.name} | " + " | ".join(cells(scores)) + " |", flush=True)


def cells(scores: list[Score]) -> list[str]:
    """The figures of one regime: mean and, in brackets, the worst."""
    found = []
    for measure, worst in (("precision", min), ("recall", min), ("calibration", max)):
        values = [getattr(score, measure) for score in scores]
        found.append(f"{statistics.fmean(values):.4f} ({worst(values):.4f})")
    widths = [width for score in scores for width in score.widths]
    held = f"{sum(score.held for score in scores)} of {sum(score.clocks for score in scores)}"
    together = _error([chance for score in scores for chance in score.chances])
    alone = statistics.fmean(_by_chance(score.chances) for score in scores)
    return [*found, f"{alone:.4f}", f"{together:.4f}", held, f"{statistics.median(widths):.1f}" if widths else "none"]


if __name__ == "__main__":
    main()
