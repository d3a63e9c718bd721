"""Holds the JSON of every command before a change of the program against the JSON after it.

`python tools/same_json.py write FOLDER NAME` runs the commands on the demo and on every recorded sign-in and writes
their JSON to FOLDER/NAME; the world that they read is made once, as FOLDER/world. `python tools/same_json.py compare
FOLDER BEFORE AFTER` lists what differs, sentences left aside, and exits with 1 where something does.
"""

from __future__ import annotations

import contextlib
import json
import re
import shutil
import sys
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from itertools import pairwise
from multiprocessing import get_context
from pathlib import Path
from typing import Any

ROOT = Path(__file__).parents[1]
SENTENCES = {"title", "detail", "cause", "remedy", "because", "label"}
"""Members that are sentences: they may be put in better words."""
Run = tuple[str, Path, tuple[str, ...]]


def call(folder: Path, arguments: tuple[str, ...]) -> tuple[int, bytes, bytes]:
    """Run the command line in this process, as if started in a folder: status, standard output and standard error."""
    from click.testing import CliRunner

    from trace_lens import cli

    with contextlib.chdir(folder), CliRunner().isolation() as streams:
        status = cli._run(arguments)
        sys.stdout.flush()
        sys.stderr.flush()
        return status, streams[0].getvalue(), streams[1].getvalue()


def make_world(world: Path) -> None:
    """The demo with its logs loaded, and the settings of the recordings, one folder for each change of them."""
    call(ROOT, ("demo", str(world / "demo")))
    recorded = ROOT / "tests" / "recorded"
    expected = json.loads((recorded / "expected.json").read_text())
    folders: dict[str, str] = {}
    for name, told in expected.items():
        changes = json.dumps(told.get("record", []))
        folder = folders.setdefault(changes, f"recorded-{len(folders)}")
        if not (world / folder).exists():
            shutil.copytree(recorded / "workspace", world / folder)
            for file, old, new in json.loads(changes):
                path = world / folder / file
                path.write_text(path.read_text().replace(old, new))
        shutil.copy(recorded / "captures" / f"{name}.har.gz", world / folder)


def runs_of(world: Path) -> Iterator[Run]:
    """Every run: its name, the folder that it stands in, and its arguments."""
    demo = world / "demo"
    captures = sorted(path.name for path in (demo / "captures").iterdir())
    apps = sorted(path.stem for path in (demo / "apps").iterdir())
    for name in captures:
        for command in ("decode", "diagnose", "identify", "certs", "timeline"):
            more = (apps[0],) if command == "identify" else ()
            yield f"demo/{command}-{name}", demo, (command, *more, f"captures/{name}")
        yield f"demo/diagnose-without-{name}", world, ("diagnose", f"demo/captures/{name}")
        yield f"demo/decode-revealed-{name}", demo, ("decode", "--reveal", f"captures/{name}")
    for before, after in pairwise(captures):
        yield f"demo/compare-{before}", demo, ("compare", f"captures/{before}", f"captures/{after}")
    for app in apps:
        for name, *arguments in (
            ("sides", "sides", app),
            ("show", "apps", "show", app),
            ("check", "apps", "check", app),
            ("identify", "identify", app),
        ):
            yield f"demo/{name}-{app}", demo, tuple(arguments)
        of_app = [name for name in captures if app in name]
        yield f"demo/sides-with-{app}", demo, ("sides", app, *(f"captures/{name}" for name in of_app[:1]))
        yield f"demo/diagnose-app-{app}", demo, ("diagnose", "--app", app, *(f"captures/{name}" for name in of_app))
        yield f"demo/identify-captures-{app}", demo, ("identify", app, *(f"captures/{name}" for name in of_app))
    for name, *arguments in (
        ("all", "diagnose", "captures"),
        ("together", "diagnose", "--together", *(f"captures/{name}" for name in captures[:3])),
        ("decode-all", "decode", "."),
        ("certs-all", "certs", "."),
        ("apps", "apps", "list"),
        ("check-all", "apps", "check"),
        ("logs", "logs", "list"),
        ("events", "logs", "search"),
        ("events-of-one", "logs", "search", "m.tern"),
        ("timeline-all", "timeline", "captures"),
        ("metadata", "compare", "metadata/northmere-id.xml", "metadata/quay-passes.xml"),
    ):
        yield f"demo/{name}", demo, tuple(arguments)
    for description in sorted((demo / "logs").glob("*.toml")):
        yield f"demo/check-log-{description.stem}", demo, ("logs", "check", f"logs/{description.name}")
    for export in sorted(world.glob("recorded-*/*.har.gz")):
        for command in ("decode", "diagnose", "timeline"):
            yield f"{command}/{export.name}", export.parent, (command, export.name)


def write_one(run: Run, folder: Path) -> None:
    """Write the status and the JSON of one run."""
    name, where, arguments = run
    status, output, errors = call(where, (*arguments, "--format", "json"))
    try:
        shown: Any = json.loads(output)
    except ValueError:
        shown = {"output": output.decode(), "errors": re.sub(r"/tmp/\S+", "…", errors.decode())}
    path = folder / f"{name}.json"
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(json.dumps({"status": status, "shown": shown}, indent=1, ensure_ascii=False))


def write(folder: Path, name: str) -> None:
    """Run everything and write what comes back."""
    world = folder / "world"
    if not world.exists():
        make_world(world)
    with ProcessPoolExecutor(2, get_context("spawn")) as pool:
        runs = list(runs_of(world))
        for run, done in [(run, pool.submit(write_one, run, folder / name)) for run in runs]:
            try:
                done.result()
            except Exception as error:
                print(f"{run[0]}: {type(error).__name__}: {error}")
    print(f"{len(runs)} runs")


def differences(before: Any, after: Any, path: str = "") -> Iterator[str]:
    """The places at which two documents differ, but for sentences."""
    if isinstance(before, dict) and isinstance(after, dict):
        for key in [*before, *(key for key in after if key not in before)]:
            if key not in SENTENCES:
                yield from differences(before.get(key, "ABSENT"), after.get(key, "ABSENT"), f"{path}.{key}")
    elif path.endswith(".unchecked") and before != after:
        yield from differences(*(sorted(side, key=lambda one: one["code"]) for side in (before, after)), f"{path}s")
    elif isinstance(before, list) and isinstance(after, list) and len(before) == len(after):
        for number, (left, right) in enumerate(zip(before, after, strict=True)):
            yield from differences(left, right, f"{path}[{number}]")
    elif before != after:
        yield f"{path}: {json.dumps(before, ensure_ascii=False)[:200]} → {json.dumps(after, ensure_ascii=False)[:200]}"


def compare(before: Path, after: Path) -> int:
    """Print what differs, the places that differ most often first; the number of runs that do."""
    names = sorted({str(path.relative_to(base)) for base in (before, after) for path in base.rglob("*.json")})
    kinds: Counter[str] = Counter()
    differing = 0
    for name in names:
        if not (before / name).exists() or not (after / name).exists():
            print(f"{name}: only in one of them")
            differing += 1
            continue
        found = list(differences(*(json.loads((base / name).read_text()) for base in (before, after))))
        differing += bool(found)
        kinds.update(re.sub(r"\[\d+\]", "[]", line.split(":")[0]) for line in found)
        for line in found[:5]:
            print(f"{name} {line}")
    print(
        f"{differing} of {len(names)} runs differ",
        *(f"{times:6} {kind}" for kind, times in kinds.most_common(20)),
        sep="\n",
    )
    return differing


if __name__ == "__main__":
    if sys.argv[1:2] == ["write"] and len(sys.argv) == 4:
        write(Path(sys.argv[2]).absolute(), sys.argv[3])
    elif sys.argv[1:2] == ["compare"] and len(sys.argv) == 5:
        raise SystemExit(bool(compare(Path(sys.argv[2], sys.argv[3]), Path(sys.argv[2], sys.argv[4]))))
    else:
        raise SystemExit(__doc__)
