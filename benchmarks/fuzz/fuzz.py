"""Fuzz one reader with coverage as guide: `python benchmarks/fuzz/fuzz.py READER SECONDS`.

Needs atheris (`pip install atheris`), which is no dependency of the program. Without a reader the names are listed.
An input that makes a reader fail is written to benchmarks/fuzz/found/; each such find becomes a row of
tests/test_fuzz.py. What is printed last: inputs tried, CPU seconds, finds.
"""

from __future__ import annotations

import hashlib
import os
import sys
import tempfile
import time
import traceback
from pathlib import Path

HERE = Path(__file__).parent
sys.path.insert(0, str(HERE.parents[1] / "tests"))
SLOW = 5.0
"""An input of at most 4 KiB that takes longer than this, in CPU seconds, is a find too."""


def main() -> None:
    """Fuzz until the time is over; the exit status is 1 where anything was found."""
    import atheris

    with atheris.instrument_imports(include=["trace_lens"]):
        from fuzz_readers import readers, seeds

    folder = Path(tempfile.mkdtemp())
    known = readers(folder / "settings")
    if len(sys.argv) < 3 or sys.argv[1] not in known:
        print("\n".join(known))
        raise SystemExit(2)
    name, seconds = sys.argv[1], float(sys.argv[2])
    corpus = folder / "corpus"
    corpus.mkdir()
    demo = folder / "demo"
    from trace_lens.demo.workspace import write_demo

    write_demo(demo)
    for seed in seeds(demo):
        (corpus / hashlib.sha256(seed).hexdigest()[:16]).write_bytes(seed)
    found = HERE / "found"
    reader = known[name]
    start = time.process_time()
    tried = 0
    finds: dict[str, None] = {}

    def one(data: bytes) -> None:
        nonlocal tried
        tried += 1
        begin = time.process_time()
        try:
            reader(data)
            if time.process_time() - begin > SLOW:
                raise AssertionError(f"took {time.process_time() - begin:.1f} s")
        except Exception as error:
            frame = traceback.extract_tb(error.__traceback__)[-1]
            mark = f"{type(error).__name__} {Path(frame.filename).name}:{frame.lineno}"
            if mark not in finds:
                finds[mark] = None
                found.mkdir(exist_ok=True)
                (found / f"{name}-{hashlib.sha256(mark.encode()).hexdigest()[:8]}").write_bytes(data)
                print(f"FOUND {mark}: {str(error)[:200]}", flush=True)
        if time.process_time() - start > seconds:
            print(
                f"{name}: {tried:,} inputs in {time.process_time() - start:.0f} s of CPU, {len(finds)} finds",
                flush=True,
            )
            sys.stdout.flush()
            os._exit(1 if finds else 0)

    atheris.Setup([sys.argv[0], "-max_len=8192", "-rss_limit_mb=4096", "-timeout=60", str(corpus)], one)
    atheris.Fuzz()


if __name__ == "__main__":
    main()
