"""Measures what each threshold of the matching costs when it is moved: halved, doubled, or a probability towards 1.

    python benchmarks/thresholds.py [--seeds 2] [--attempts 60]

The worlds are those of `correlation.py`, a few regimes of them, the same for every value. A line for each threshold:
the sum of what is lost in precision and recall over all regimes, in thousandths, where it is halved and where it is
doubled (negative: better than now), and the change of the calibration error.
"""

from __future__ import annotations

import argparse
import statistics
import tempfile
from collections.abc import Iterator
from contextlib import ExitStack
from pathlib import Path

from correlation_world import REGIMES, Score, World, make, put, run, score, workspace_of
from trace_lens.logs.matching import thresholds
from trace_lens.logs.store.store import EventStore
from trace_lens.workspace.records import Workspace

CHOSEN = (
    "ids on half",
    "no ids",
    "ids on half, storms",
    "no ids, a clock set by a minute",
    "ids on half, a log without users",
    "no ids, written slowly",
)
Held = list[tuple[World, EventStore]]


def names() -> list[str]:
    """The thresholds, in their order."""
    return [name for name in vars(thresholds) if name.isupper()]


def moved(value: float) -> Iterator[float]:
    """A lower and a higher value: a probability stays one."""
    if isinstance(value, int):
        yield from (max(1, value // 2), value * 2)
    elif value >= 1.0 or value < 0.35:
        yield from (value / 2, value * 2)
    else:
        yield from (value / 2 if value < 0.8 else 1 - 4 * (1 - value), 1 - (1 - value) / 2)


def measure(worlds: Held, workspace: Workspace) -> Score:
    """The mean over all worlds."""
    scores = [score(world, run(world, store, workspace)) for world, store in worlds]
    return Score(
        precision=statistics.fmean(item.precision for item in scores),
        recall=statistics.fmean(item.recall for item in scores),
        calibration=statistics.fmean(item.calibration for item in scores),
        clocks_held=sum(item.clocks_held for item in scores),
        clocks=sum(item.clocks for item in scores),
    )


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--seeds", type=int, default=2)
    parser.add_argument("--attempts", type=int, default=60)
    parser.add_argument("--sign-ins", type=int, default=3_000)
    options = parser.parse_args()
    workspace = workspace_of()
    with ExitStack() as stack:
        worlds: Held = []
        for regime in REGIMES:
            for seed in range(options.seeds) if regime.name in CHOSEN else ():
                world = make(regime, seed, options.attempts, people=300, sign_ins=options.sign_ins)
                folder = Path(stack.enter_context(tempfile.TemporaryDirectory()))
                with EventStore(folder, writing=True) as store:
                    put(store, world.events)
                worlds.append((world, stack.enter_context(EventStore(folder))))
        now = measure(worlds, workspace)
        print(
            f"as it is: precision {now.precision:.4f}, recall {now.recall:.4f}, calibration {now.calibration:.4f}, "
            f"clocks {now.clocks_held} of {now.clocks}\n"
        )
        print("| threshold | now | moved to | precision | recall | calibration | clocks held |")
        print("|---|---|---|---|---|---|---|")
        for name in names():
            value = getattr(thresholds, name)
            for other in moved(value):
                setattr(thresholds, name, other)
                found = measure(worlds, workspace)
                cells = (
                    f"{(getattr(found, key) - getattr(now, key)) * 1000:+.1f}"
                    for key in ("precision", "recall", "calibration")
                )
                held = f"{found.clocks_held} of {found.clocks}"
                print(f"| {name} | {value:g} | {other:g} | {' | '.join(cells)} | {held} |", flush=True)
            setattr(thresholds, name, value)


if __name__ == "__main__":
    main()
