"""Very many captures as JSON Lines: the same as all at once, in order, each as soon as nothing may belong to it any more."""

from __future__ import annotations

import io
import json
import os
import signal
from pathlib import Path
from typing import Any

import pytest

from kit import NOW, authn_request, posted, redirect, response, run, workspace
from trace_lens.diagnosis import streaming
from trace_lens.diagnosis.gathering import Run
from trace_lens.diagnosis.judging import Options
from trace_lens.diagnosis.sharing import shared_out
from trace_lens.diagnosis.streaming import Streamed
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.sources import SourceFile, bounded, read_sources


def told(text: bytes) -> list[dict[str, Any]]:
    return [json.loads(line) for line in text.splitlines()]


@pytest.mark.parametrize("workers", [1, 2])
def test_the_same_as_all_at_once(demo: Path, workers: int) -> None:
    """For every capture of the demo: order, numbers, findings; shared out or not."""
    from trace_lens.common.masking import Masks
    from trace_lens.diagnosis.diagnosing import diagnose_sources
    from trace_lens.render import as_json

    held = load_workspace(demo)
    sources = list(read_sources((str(demo / "captures"),)))
    options = Options(NOW)
    whole = diagnose_sources(sources, held, options, 1)
    parts = list(Streamed(held, options).of(iter(sources), workers))
    masks = Masks()
    made = [as_json.attempt(diagnosis, masks) | {"id": ""} for part in parts for diagnosis in part.diagnoses]
    assert made == [as_json.attempt(diagnosis, masks) | {"id": ""} for diagnosis in whole.diagnoses]
    assert [item for part in parts for item in part.unreadable] == list(whole.unreadable)


def sources_of(count: int) -> list[SourceFile]:
    """Responses to requests of their own: the first names the request that comes last."""
    made = [
        SourceFile(f"{number}", posted(response(response_request=f"_rq{number}", request=f"_rq{number}")))
        for number in range(count)
    ]
    return [*made, SourceFile("asked", redirect(authn_request(identifier="_rq0"), "SAMLRequest"))]


@pytest.mark.parametrize(("window", "late"), [(50, 0), (5, 1)])
def test_what_belongs_together_is_waited_for_and_said_where_it_comes_late(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, window: int, late: int
) -> None:

    monkeypatch.setattr(streaming, "WINDOW", window)
    monkeypatch.setattr(streaming, "_STEP", 2)
    held = load_workspace(workspace(tmp_path))
    stream = Streamed(held, Options(NOW))
    parts = list(stream.of(iter(sources_of(20)), 1))
    first = parts[0]
    assert [part.gathered.at for part in parts] == sorted(part.gathered.at for part in parts)
    assert (first.gathered.places, stream.late) == (((0, 20), 0) if not late else ((0,), 1))
    assert sum(len(part.diagnoses) for part in parts) == 20 + late


def _interrupted_at(_: Any, share: int) -> tuple[int, bytes]:
    os.kill(os.getpid(), signal.SIGINT)
    return share, b"x" * 200_000


def test_a_process_that_is_interrupted_hands_over_what_it_has_begun(tmp_path: Path) -> None:
    """Ctrl-C reaches all processes: one that ended while it hands something over would leave the first waiting."""
    run = Run({}, load_workspace(workspace(tmp_path)), Options(NOW))
    told = list(shared_out(_interrupted_at, range(20), 2, run))
    assert [(share, len(data)) for share, data in told] == [(share, 200_000) for share in range(20)]


@pytest.mark.parametrize("brief", [True, False])
@pytest.mark.parametrize("workers", [1, 2])
def test_an_interruption_ends_a_summary_with_what_was_done(tmp_path: Path, workers: int, brief: bool) -> None:
    from trace_lens.diagnosis.diagnosing import diagnose_sources
    from trace_lens.render.documents.diagnosis import diagnosis_pages, quiet_pages
    from trace_lens.render.terminal import writing

    held, options = load_workspace(workspace(tmp_path)), Options(NOW)
    sources = sources_of(250)[:-1]

    def interrupted(done: int, _: int) -> None:
        if done > 100:
            raise KeyboardInterrupt

    whole = diagnose_sources(sources, held, options, 1, brief=brief)
    part = diagnose_sources(sources, held, options, workers, told=interrupted, brief=brief, stops=True)
    assert (whole.left, whole.exit_status(strict=False)) == (0, 0)
    assert 0 < len(part.diagnoses) == 250 - part.left < 200
    assert part.exit_status(strict=False) == 130
    assert [item.source for item in part.diagnoses] == [item.source for item in whole.diagnoses[: len(part.diagnoses)]]
    for pages in (diagnosis_pages(part, details=False), quiet_pages(part)):
        told = writing.write(pages, "never").splitlines()[0]
        assert told == f"Interrupted: {part.left} sources were not judged. This is of those before."
    assert not writing.write(diagnosis_pages(whole, details=False), "never").startswith("Interrupted")
    with pytest.raises(KeyboardInterrupt):  # a document of all is not given in part
        diagnose_sources(sources, held, options, workers, told=interrupted)


def test_lines_come_as_they_are_known(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:

    monkeypatch.setattr(streaming, "WINDOW", 3)
    monkeypatch.setattr(streaming, "_STEP", 1)
    read: list[int] = []

    def sources() -> Any:
        for number, source in enumerate(sources_of(60)):
            read.append(number)
            yield source

    stream = Streamed(load_workspace(workspace(tmp_path)), Options(NOW)).of(sources(), 1)
    next(stream)
    assert len(read) <= 2 * 25


def test_through_the_command(tmp_path: Path) -> None:
    house = workspace(tmp_path / "house")
    (tmp_path / "a.txt").write_bytes(posted(response()))
    (tmp_path / "b.txt").write_bytes(b"nothing here")
    (tmp_path / "c.txt").write_bytes(posted(response(audiences="")))
    names = [str(tmp_path / name) for name in ("a.txt", "b.txt", "c.txt")]
    done = run("diagnose", *names, "--format", "jsonl", folder=house)
    assert [attempt["id"] for attempt in told(done.stdout)] == ["1", "2"]
    assert [attempt["source"] for attempt in told(done.stdout)] == [names[0], names[2]]
    assert (done.returncode, b"b.txt: " in done.stderr) == (3, True)


def test_sources_that_are_not_held_give_the_same(demo: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Beyond so many, a source is read again where it is needed; what is no file is held."""
    from trace_lens.common import limits
    from trace_lens.diagnosis.diagnosing import diagnose_sources
    from trace_lens.workspace.sources import HeldSources

    held = load_workspace(demo)
    sources = [*read_sources((str(demo / "captures"),)), SourceFile("pasted", posted(response()))]
    whole = diagnose_sources(sources, held, Options(NOW), 1)
    monkeypatch.setattr(limits, "SOURCES_HELD", 2)
    kept = HeldSources(sources)
    assert len(kept) == len(sources)
    assert [source.data for source in kept.values()] == [source.data for source in sources]
    again = diagnose_sources(sources, held, Options(NOW), 1)
    assert [(one.outcome, one.cause) for one in again.diagnoses] == [
        (one.outcome, one.cause) for one in whole.diagnoses
    ]
    assert again.unreadable == whole.unreadable


def test_the_files_of_a_folder_come_in_the_order_of_their_names(tmp_path: Path) -> None:
    for name in ("b/2.txt", "a.txt", "b/1.txt", "b.txt", ".hidden/3.txt", "b/.4.txt", "c/d/5.txt"):
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).write_text(name)
    (tmp_path / "link").symlink_to(tmp_path / "b")
    names = [Path(source.name).relative_to(tmp_path).as_posix() for source in read_sources((str(tmp_path),))]
    assert names == ["a.txt", "b/1.txt", "b/2.txt", "b.txt", "c/d/5.txt"]


def test_a_source_is_read_piece_by_piece() -> None:
    """To ask for the most at once takes a mapping of memory for each source, and a process has not many of those."""

    class Stream(io.BytesIO):
        asked: list[int]

        def read(self, size: int | None = -1, /) -> bytes:
            self.asked.append(size or 0)
            return super().read(size)

    stream = Stream(b"x" * 200_000)
    stream.asked = []
    assert len(bounded("-", stream).data or b"") == 200_000
    assert max(stream.asked) <= 1 << 17
