"""What all tests share: the demo, made once for a run of all of them, and how examples are drawn."""

from __future__ import annotations

import fcntl
import os
import pickle
import shutil
import tempfile
from pathlib import Path

import pytest
from cryptography.hazmat.primitives import serialization
from hypothesis import settings

from kit import Done, run
from live_kit import Held, issued

settings.register_profile("machines are noisy", deadline=None)
settings.load_profile("machines are noisy")
os.environ["XDG_CACHE_HOME"] = tempfile.mkdtemp(prefix="trace-lens-cache-")  # never the cache of whoever runs the tests


def pytest_sessionfinish() -> None:
    """Take the cache of this run away."""
    shutil.rmtree(os.environ["XDG_CACHE_HOME"], ignore_errors=True)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """The demo is made by the first test; what does not need it comes next, so that the other process need not wait."""
    waiting = [item for item in items if "shown_demo" in getattr(item, "fixturenames", ())]
    ordered = {id(item): place for place, item in enumerate(waiting)}
    items.sort(key=lambda item: min(ordered.get(id(item), 0.5), 1))


@pytest.fixture(scope="session")
def shown_demo(tmp_path_factory: pytest.TempPathFactory, worker_id: str) -> tuple[Done, Path]:
    """What `trace-lens demo` wrote, and the workspace that it made, which no test may change."""
    base = tmp_path_factory.getbasetemp()
    shared = base if worker_id == "master" else base.parent
    kept = shared / "demo.pickle"
    with (shared / "demo.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not kept.exists():
            kept.write_bytes(pickle.dumps(run("demo", "story", folder=shared)))
    done: Done = pickle.loads(kept.read_bytes())
    return done, shared / "story"


@pytest.fixture(scope="session")
def demo(shown_demo: tuple[Done, Path]) -> Path:
    """The workspace of the demo with its logs loaded, which no test may change."""
    return shown_demo[1]


@pytest.fixture(scope="session")
def authority(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Held]:
    """The file of an authority's certificate, and what it is to sign with."""
    held = issued("An authority of the test", None)
    file = tmp_path_factory.mktemp("authority") / "ca.pem"
    file.write_bytes(held[0].public_bytes(serialization.Encoding.PEM))
    return file, held
