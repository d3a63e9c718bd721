"""Sources into copies that can leave the house: judged, rewritten, judged again, searched, and only then put in place.

What a copy cannot show (that a signature held, what a ciphertext held) is written into the record beside it. The record
says, too, whether the copies diagnose as the originals did: both are diagnosed, and compared.
"""

from __future__ import annotations

import gzip
import hashlib
import io
import shutil
import tempfile
import zipfile
from collections import ChainMap, Counter
from collections.abc import Iterator, Sequence
from datetime import datetime
from functools import cached_property
from pathlib import Path
from typing import BinaryIO, cast

from trace_lens.common.recorded import Listening, Replaying, answered_by
from trace_lens.common.tuples import NamedTuple
from trace_lens.diagnosis.diagnosing import Result, diagnose_sources
from trace_lens.diagnosis.judging import Options
from trace_lens.diagnosis.logbook import Logbook, logbook_of
from trace_lens.diagnosis.recording import without_lists
from trace_lens.handover.redaction.alike import differences
from trace_lens.handover.redaction.exports import ExportCopy
from trace_lens.handover.redaction.files import FileCopy
from trace_lens.handover.redaction.kept import RUN, kept_of
from trace_lens.handover.redaction.logs_copy import load_logs, write_logs
from trace_lens.handover.redaction.on_record import columns_in, everything_in, needed_by, patterns_in, told_in
from trace_lens.handover.redaction.recognised import EXPORT, Recognised, opened, recognise
from trace_lens.handover.redaction.record import CopiedFile, Copies, record_text, with_earlier, without_names
from trace_lens.handover.redaction.settings_copy import Needed, SettingsCopy
from trace_lens.handover.redaction.substitutes import Substitutes
from trace_lens.handover.redaction.texts import Texts
from trace_lens.handover.redaction.words import Words
from trace_lens.handover.stand_ins import people_in
from trace_lens.people.spellings import People
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.own_files import OWN_FOLDER
from trace_lens.workspace.records import Workspace
from trace_lens.workspace.redactions import FILE, recorded_in
from trace_lens.workspace.sources import SourceFile, read_sources


class Overwrites(Exception):
    """Copies would take the place of files that no earlier redaction wrote; `names` are these."""

    def __init__(self, names: Sequence[str]) -> None:
        super().__init__(", ".join(names))
        self.names = tuple(names)


class NotCopied(Exception):
    """A source has no copy; says why. `leaked` says that something that was replaced was found in it."""

    def __init__(self, because: str, *, leaked: bool = False) -> None:
        super().__init__(because)
        self.leaked = leaked


class _Again(NamedTuple):
    """What came of diagnosing the copies: with which settings, and in what they differ."""

    settings: tuple[str, ...]
    left_out: tuple[str, ...]
    replaying: Replaying
    differing: tuple[str, ...]


class Redaction:
    """One run: the sources, what they are judged by, and the key of the stand-ins."""

    def __init__(
        self,
        sources: Sequence[SourceFile],
        workspace: Workspace,
        options: Options,
        key: bytes,
        *,
        logbook: Logbook | None = None,
        together: bool = False,
    ) -> None:
        self._workspace, self._options, self._together, self._logbook = workspace, options, together, logbook
        self._left_out = [(source.name, source.problem or "") for source in sources if not _is_there(source)]
        self._kinds: dict[str, Recognised] = {}
        self._sources = []
        for source in filter(_is_there, sources):
            found = recognise(source, workspace)
            if found.because is not None:
                self._left_out.append((source.name, found.because))
            else:
                self._sources.append(source)
                self._kinds[source.name] = found
        self._heard = Listening()
        with answered_by(self._heard):
            self._before = diagnose_sources(
                iter(self._sources), workspace, options, 1, together=together, logbook=logbook
            )
        kept = kept_of(told_in(workspace), patterns_in(workspace), self._people())
        self._words = Words(Substitutes(key), kept)
        self._texts = Texts(self._words)
        self._files = FileCopy(self._texts, *columns_in(workspace))
        for found in self._kinds.values():
            self._texts.hashes_follow(found.hashed)
        self._words.counts.clear()

    @property
    def counts(self) -> Counter[str]:
        """How often what was replaced, by kind."""
        return self._words.counts

    def _people(self) -> list[str]:
        """The names of those concerned, in every spelling on record."""
        told = {name for diagnosis in self._before.diagnoses for name in people_in(diagnosis)}
        known = People(self._workspace, [])
        return sorted(told | {name for number in known.of(told) for name in known.spellings(number)})

    def one(self) -> bytes:
        """The copy of the only source, where it is wanted by itself. Raises NotCopied."""
        if self._left_out or not self._sources:
            raise NotCopied(self._left_out[0][1] if self._left_out else "there is no source")
        target = io.BytesIO()
        self._copy(self._sources[0], target)
        target.seek(0)
        leaks = list(self._words.leaks.in_stream(target))
        if leaks:
            words = f"{len(leaks)} values that were replaced were found in the copy, so nothing is written"
            raise NotCopied(words, leaked=True)
        return target.getvalue()

    def _copy(self, source: SourceFile, target: BinaryIO) -> None:
        kind = self._kinds[source.name].is_a
        if kind != EXPORT:
            target.write(self._of_file(source, kind))
            return
        copy = ExportCopy(self._texts)
        with opened(source) as stream:
            head = stream.read(4)
            stream.seek(0)
            if head[:2] == b"\x1f\x8b":
                with gzip.GzipFile(fileobj=target, mode="wb", mtime=0) as written:
                    copy.write(cast("BinaryIO", gzip.GzipFile(fileobj=stream)), cast("BinaryIO", written))
            elif head == b"PK\x03\x04":
                _copy_archive(copy, stream, target)
            else:
                copy.write(stream, target)

    def _of_file(self, source: SourceFile, kind: str) -> bytes:
        data = source.data or b""
        if data[:2] != b"\x1f\x8b":
            return self._files.of(data, source.name, kind)
        made = self._files.of(gzip.decompress(data), source.name.removesuffix(".gz"), kind)
        return gzip.compress(made, mtime=0)

    def write(self, folder: Path, *, with_settings: bool, now: datetime) -> Copies:
        """Make all copies, and put them into a folder if nothing that was replaced is found in them.

        They are made in a folder of their own within it. Raises Overwrites where a file is there that no earlier
        redaction wrote, OSError, SettingsError; nothing is written then either.
        """
        folder.mkdir(parents=True, exist_ok=True)
        room = Path(tempfile.mkdtemp(prefix=".redacting-", dir=folder))
        try:
            copies = self._write(room, with_settings=with_settings, now=now)
            if not copies.leaks:
                _put_in_place(room, folder)
            return copies
        finally:
            shutil.rmtree(room, ignore_errors=True)

    def _write(self, room: Path, *, with_settings: bool, now: datetime) -> Copies:
        files, names = [], _Names(self._words)
        for source in self._sources:
            before = Counter(self._words.counts)
            written = names.of(source.name)
            with (room / written).open("wb") as target:
                self._copy(source, target)
            with (room / written).open("rb") as stream:
                digest = hashlib.file_digest(stream, "sha256").hexdigest()
            files.append(CopiedFile(names.shown(source.name), written, digest, dict(self._words.counts - before)))
        again = self._again(room, files, with_settings=with_settings)
        left_out = [(names.shown(name), self._texts.words(because)) for name, because in self._left_out]
        left_out += [(names.shown(name), "its rows are no lines, so it is not copied") for name in again.left_out]
        same = None if not self._before.diagnoses else not again.differing
        without = () if again.settings else ("accounts", "assignments", "logs")
        copies = Copies(tuple(files), (), tuple(left_out), again.settings, same, again.differing, without)
        (room / FILE).write_text(record_text(copies, again.replaying, now), "utf-8")
        return copies._replace(leaks=tuple(self._leaks(room)))

    def _again(self, room: Path, files: Sequence[CopiedFile], *, with_settings: bool) -> _Again:
        """Diagnose the copies; where they differ with what they seemed to need, with all that is on record."""
        copied = SettingsCopy(self._workspace, self._files, self._words.kept)
        if not with_settings or self._workspace.root is None:
            return self._judged(room, files, copied, None)
        again = self._judged(room, files, copied, needed_by(self._before, self._workspace))
        return self._judged(room, files, copied, everything_in(self._workspace)) if again.differing else again

    def _judged(self, room: Path, files: Sequence[CopiedFile], copied: SettingsCopy, needed: Needed | None) -> _Again:
        workspace, book = self._workspace, None
        settings: list[str] = []
        left_out: list[str] = []
        before, options = self._before, self._options
        if needed is not None:
            settings = copied.write(room, needed)
            workspace = load_workspace(room)
            if self._logbook is not None:
                logs, left_out = write_logs(room, self._workspace, before.diagnoses, self._files)
                settings += logs
                load_logs(room, workspace)
                book = logbook_of(workspace)
        if needed is None:
            before, options = self._bare, options._replace(with_logs=False)
            workspace = without_lists(workspace)
        octets = ChainMap(self._texts.stand_ins, copied.stand_ins)
        replaying = Replaying(self._heard, octets.get, self._copied_inside)
        sources = list(read_sources(tuple(str(room / file.written) for file in files)))
        named = [source._replace(name=own.name) for source, own in zip(sources, self._sources, strict=True)]
        with answered_by(replaying):
            after = diagnose_sources(iter(named), workspace, options, 1, together=self._together, logbook=book)
        return _Again(tuple(settings), tuple(left_out), replaying, tuple(differences(before, after)))

    @cached_property
    def _bare(self) -> Result:
        """The diagnoses of the originals as they are where no lists and no logs are at hand."""
        options, workspace = self._options._replace(with_logs=False), without_lists(self._workspace)
        return diagnose_sources(iter(self._sources), workspace, options, 1, together=self._together)

    def _copied_inside(self, octets: bytes) -> bytes:
        text = octets.decode("utf-8", "surrogateescape")
        return self._texts.under(text).encode("utf-8", "surrogateescape")

    def _leaks(self, room: Path) -> Iterator[str]:
        for path in sorted(room.rglob("*")):
            if not path.is_file() or OWN_FOLDER in path.relative_to(room).parts:  # that holds what stands in logs/
                continue
            if path == room / FILE:
                yield from self._words.leaks.in_stream(io.BytesIO(without_names(path.read_text("utf-8")).encode()))
                continue
            with path.open("rb") as stream:
                yield from self._words.leaks.in_stream(stream)


def _copy_archive(copy: ExportCopy, stream: BinaryIO, target: BinaryIO) -> None:
    """The one export in a ZIP archive, in an archive of its own."""
    with zipfile.ZipFile(stream) as archive, zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as written:
        name = next(name for name in archive.namelist() if name.lower().endswith(".har"))
        with archive.open(name) as inner, written.open("export.har", "w") as outer:
            copy.write(cast("BinaryIO", inner), cast("BinaryIO", outer))


def _is_there(source: SourceFile) -> bool:
    return source.data is not None or source.path is not None


def _put_in_place(room: Path, folder: Path) -> None:
    """Move what was made to where it belongs. Raises Overwrites before anything is moved."""
    made = [path.relative_to(room) for path in sorted(room.rglob("*")) if path.is_file()]
    earlier = recorded_in(folder)
    own = {FILE, *earlier.files, *earlier.settings} if earlier else set()
    there = [
        name.as_posix()
        for name in made
        if (folder / name).exists() and name.as_posix() not in own and not (earlier and name.parts[0] == OWN_FOLDER)
    ]
    if there:
        raise Overwrites(there)
    if earlier and any(name.parts[0] == OWN_FOLDER for name in made):
        shutil.rmtree(folder / OWN_FOLDER, ignore_errors=True)
    if earlier:
        record = with_earlier(
            (room / FILE).read_text("utf-8"),
            (folder / FILE).read_text("utf-8"),
            lambda name: name in earlier.files and (folder / name).is_file(),
        )
        (room / FILE).write_text(record, "utf-8")
    for name in made:
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (room / name).replace(folder / name)


class _Names:
    """The names of copies: those of the sources, without the people in them, each once."""

    def __init__(self, words: Words) -> None:
        self._words = words
        self._taken: set[str] = {FILE}

    def of(self, name: str) -> str:
        """The name of a copy."""
        made = self.shown(Path(name).name if name != "-" else "standard-input.txt")
        stem, dot, ending = made.partition(".")
        number = 2
        while made.casefold() in self._taken:
            made = f"{stem}-{number}{dot}{ending}"
            number += 1
        self._taken.add(made.casefold())
        return made

    def shown(self, name: str) -> str:
        """The name of a source, as it is told: without people, and without where it lies on this machine."""
        bare = Path(name).name if Path(name).is_absolute() else name
        people = self._words.kept.people
        return RUN.sub(lambda match: self._run(match[0]) if match[0].casefold() in people else match[0], bare)

    def _run(self, run: str) -> str:
        return self._words.note("person", run, self._words.substitutes.word(run))
