"""Measures how well events are found for attempts, against a truth that this script makes itself.

    python benchmarks/correlation.py [--seeds 10] [--attempts 400]
    python benchmarks/correlation.py --large          # 1,000 attempts against 10 million events: seconds and memory

The world made here knows nothing of the model: people sign in to applications, by hand, some several times within
minutes; three systems write it down, each after a while of its own, by a clock of its own, with names of its own; most
of what they write belongs to nobody's capture. A regime says how often events carry an id of the messages, how many
people share an address, how far the clocks are off and whether they drift. Only attempts and logs go in; precision,
recall, calibration and the clocks that come out are held against what was made.
"""

from __future__ import annotations

import argparse
import multiprocessing
import resource
import sys
import tempfile
import time
from pathlib import Path

from correlation_world import REGIMES, SPAN, Score, World, content_of, make, put, run, score, workspace_of
from trace_lens.logs.store.manifest import Content
from trace_lens.logs.store.store import EventStore
from trace_lens.logs.store.writing import Writer


def regimes(seeds: int, attempts: int, only: str | None, figure: str | None) -> None:
    """Every regime over several seeds: the mean and the worst; drawn with their spread where that is wanted."""
    workspace = workspace_of()
    drawn: dict[str, list[Score]] = {}
    print(f"{'regime':<36} {'precision':>17} {'recall':>17} {'calibration':>17} {'clocks held':>12} {'seconds':>8}")
    for regime in REGIMES:
        if only and only not in regime.name:
            continue
        scores, seconds = [], 0.0
        for seed in range(seeds):
            world = make(regime, seed, attempts)
            with tempfile.TemporaryDirectory() as folder, EventStore(Path(folder), writing=True) as store:
                put(store, world.events)
                begin = time.perf_counter()
                found = run(world, store, workspace)
                seconds += time.perf_counter() - begin
            scores.append(score(world, found))
        drawn[regime.name] = scores
        cells = []
        for name, worst in (("precision", min), ("recall", min), ("calibration", max)):
            values = [getattr(one, name) for one in scores]
            cells.append(f"{sum(values) / len(values):.4f} ({worst(values):.4f})")
        held = f"{sum(one.clocks_held for one in scores)}/{sum(one.clocks for one in scores)}"
        print(f"{regime.name:<36} {cells[0]:>17} {cells[1]:>17} {cells[2]:>17} {held:>12} {seconds / seeds:>8.2f}")
        sys.stdout.flush()
    if figure:
        draw(drawn, figure)


def draw(scores: dict[str, list[Score]], file: str) -> None:
    """The scores of every seed as points, what is to be reached as a line."""
    import matplotlib as mpl

    mpl.use("Agg")
    from matplotlib.figure import Figure

    mpl.rcParams.update({"font.family": "DejaVu Sans", "font.size": 9})
    whole = Figure(figsize=(12.8, 1.6 + 0.42 * len(scores)), dpi=100, facecolor="white", layout="constrained")
    panels = whole.subplots(1, 3, sharey=True)
    names = list(scores)
    for axes, (measure, title) in zip(
        panels,
        (("precision", "precision"), ("recall", "recall"), ("calibration", "expected calibration error")),
        strict=True,
    ):
        for row, name in enumerate(names):
            values = [getattr(one, measure) for one in scores[name]]
            spread = [row + 0.3 * (place / max(len(values) - 1, 1) - 0.5) for place in range(len(values))]
            axes.plot(values, spread, "o", markersize=4, color="#1f6f8b", alpha=0.6)
            axes.plot([sum(values) / len(values)], [row], "D", markersize=6, color="#1b1f24")
            if measure == "calibration":
                reach = 0.05
            else:
                reach = {"precision": (0.99, 0.95), "recall": (0.97, 0.90)}[measure][name.startswith("no ids")]
            axes.plot([reach, reach], [row - 0.4, row + 0.4], color="#b3261e", linewidth=1.5)
        axes.set_title(title, loc="left", weight="bold")
        axes.grid(axis="x", color="#d9dde1", linewidth=0.6)
        for side in ("top", "right", "left"):
            axes.spines[side].set_visible(False)
    panels[0].set_yticks(range(len(names)), names)
    panels[0].invert_yaxis()
    panels[0].set_xlim(0.94, 1.002)
    panels[1].set_xlim(0.89, 1.002)
    panels[2].set_xlim(0, 0.06)
    whole.suptitle(
        "Points: seeds; diamonds: their mean; red: to be reached", x=0.01, ha="left", fontsize=9, color="#7a828c"
    )
    whole.savefig(file)


FILLED = ("id-log", "app-log", "edge-log")


def fill(folder: str, rows: int) -> None:
    """Make a store of many events: those of a world, and others of the same people at even distances."""
    world = large_world()
    with EventStore(Path(folder), writing=True) as store:
        put(store, world.events)
        writer = Writer(store.duck, store.folder)
        contents = [_filler(writer, source, number, rows - len(world.events)) for number, source in enumerate(FILLED)]
        for content in writer.keep(contents):
            store.manifest.put(content)
            store.manifest.point(f"{content.source}-filler.csv", content.id)
        store.manifest.write(store.folder)


def _filler(writer: Writer, source: str, number: int, rows: int) -> Content:
    """The events of one source among many that are nobody's, every third of them."""
    key, person = f"filler{number}", "(n * 7919 % 20011)"
    email = f"'p' || {person} || '.tern@northmere.example'"
    query = f"""SELECT '{source}' AS source, '{key}' AS content, row_number() OVER () AS line,
        TIMESTAMP '2026-11-09 00:00:00' + to_microseconds(n * {SPAN * 10**6 // rows}) AS time,
        {f"split_part({email}, '@', 1)" if number == 1 else email} AS "user",
        {"NULL" if number == 2 else "'app-' || (n * 104729 % 24)"}::VARCHAR AS app,
        CASE WHEN n % 9 = 0 THEN 'failure' ELSE 'success' END AS outcome,
        CASE WHEN n % 9 = 0 THEN 'D-1' END AS code, NULL::VARCHAR AS reason,
        '192.0.2.' || ({person} % 250) AS ip, CASE WHEN n % 2 = 0 THEN ['f' || n] ELSE [] END AS ids,
        NULL::VARCHAR AS same_content, NULL::BIGINT AS same_line
        FROM range({rows}) t(n) WHERE n * 31 % 3 = {number}"""
    written = writer.write(key, query)
    return content_of(key, source, written, written.rows)


def large_world() -> World:
    """1,000 attempts of 20,000 people."""
    return make(REGIMES[1], 0, 1_000, people=20_000, sign_ins=40_000)


def large(rows: int) -> None:
    """1,000 attempts against many events: seconds and memory of the correlation alone, and how good it is."""
    workspace, world = workspace_of(), large_world()
    with tempfile.TemporaryDirectory() as folder:
        maker = multiprocessing.get_context("spawn").Process(target=fill, args=(folder, rows))
        maker.start()
        maker.join()
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        with EventStore(Path(folder)) as store:
            count = sum(content.rows for content in store.manifest)
            begin = time.perf_counter()
            found = run(world, store, workspace)
            seconds = time.perf_counter() - begin
    used = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    told = score(world, found)
    print(f"1,000 attempts against {count:,} events: {seconds:.1f} s (to reach: 5 s)")
    print(
        f"memory of the process at the most: {used / 1024:,.0f} MB, {before / 1024:,.0f} MB of it before "
        "(to reach: 2,048 MB)"
    )
    print(
        f"precision {told.precision:.4f}, recall {told.recall:.4f}, calibration {told.calibration:.4f}, clocks held "
        f"{told.clocks_held} of {told.clocks}"
    )


if __name__ == "__main__":
    parser = argparse.ArgumentParser()
    parser.add_argument("--seeds", type=int, default=10)
    parser.add_argument("--attempts", type=int, default=400)
    parser.add_argument("--only", help="only regimes whose name holds this")
    parser.add_argument("--figure", metavar="FILE", help="draw the scores with their spread")
    parser.add_argument("--large", action="store_true")
    parser.add_argument("--rows", type=int, default=10_000_000)
    options = parser.parse_args()
    if options.large:
        large(options.rows)
    else:
        regimes(options.seeds, options.attempts, options.only, options.figure)
