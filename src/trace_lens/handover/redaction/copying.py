"""Sources into copies that can leave the house: judged, rewritten, judged again, searched, and only then put in place.

What a copy cannot show (that a signature held, what a ciphertext held) is written into the record beside it. The record
says, too, whether the copies diagnose as the originals did: both are diagnosed, and compared.
"""

from __future__ import annotations

import base64
import gzip
import hashlib
import io
import json
import shutil
import tempfile
import tomllib
from collections import ChainMap, Counter
from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime
from functools import cached_property
from pathlib import Path
from typing import Any, NamedTuple

from trace_lens.attempts.evidence import read_evidence
from trace_lens.common.findings import Evidence
from trace_lens.common.octets import as_utf8
from trace_lens.common.recorded import Listening, Replaying, answered_by
from trace_lens.common.sentences import FileName
from trace_lens.common.version import __version__
from trace_lens.diagnosis.diagnosing import Result, diagnose_sources
from trace_lens.diagnosis.judging import Diagnosis, Options
from trace_lens.diagnosis.logbook import Logbook, logbook_of
from trace_lens.handover.redaction.exports import ExportCopy
from trace_lens.handover.redaction.files import FileCopy
from trace_lens.handover.redaction.kept import RUN, kept_of, patterns_of, strings_of
from trace_lens.handover.redaction.logs_copy import load_logs, write_logs
from trace_lens.handover.redaction.settings_copy import Needed, SettingsCopy
from trace_lens.handover.redaction.substitutes import Substitutes
from trace_lens.handover.redaction.texts import Texts
from trace_lens.handover.redaction.words import Words
from trace_lens.handover.stand_ins import people_in
from trace_lens.intake.har import is_har
from trace_lens.people.spellings import People
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.records import Workspace
from trace_lens.workspace.redactions import FILE, SCHEMA
from trace_lens.workspace.sources import SourceFile, read_sources
from trace_lens.workspace.trust import files_on_record

_HASHED = ("code", "access_token", "code_verifier", "state", "id_token")


class CopiedFile(NamedTuple):
    """One copy: the name of its source and its own, both without people, its digest, and how often what was replaced."""

    source: str
    written: str
    sha256: str
    kinds: dict[str, int]


class Copies(NamedTuple):
    """What came of it. `leaks` are what the last search found; nothing is written then.

    `left_out` are sources that were not copied, with the reason. `settings` are the files of the small workspace.
    `same` says whether the copies diagnose as their originals; None where there was nothing to diagnose. `differing`
    says in what they do not.
    """

    files: tuple[CopiedFile, ...]
    leaks: tuple[str, ...]
    left_out: tuple[tuple[str, str], ...]
    settings: tuple[str, ...]
    same: bool | None
    differing: tuple[str, ...]


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
        self._sources = [source for source in sources if source.data is not None or source.path is not None]
        self._left_out = [(source.name, source.problem or "") for source in sources if source not in self._sources]
        self._heard = Listening()
        with answered_by(self._heard):
            self._before = diagnose_sources(
                iter(self._sources), workspace, options, 1, together=together, logbook=logbook
            )
        self._kept = kept_of(_told_in(workspace), _patterns(workspace), self._people())
        self._words = Words(Substitutes(key), self._kept)
        self._texts = Texts(self._words)
        self._files = FileCopy(self._texts, *_columns(workspace))

    def _people(self) -> list[str]:
        """The names of those concerned, in every spelling on record."""
        told = {name for diagnosis in self._before.diagnoses for name in people_in(diagnosis)}
        known = People(self._workspace, [])
        numbers = known.of(told)
        return sorted(told | {name for number in numbers for name in known.spellings(number)})

    # one copy

    def one(self) -> bytes:
        """The copy of the only source, where it is wanted by itself. Raises ValueError, which says why there is none."""
        kinds = self._recognised()
        source = self._sources[0] if self._sources else None
        if source is None or self._left_out:
            raise ValueError(self._left_out[0][1] if self._left_out else "there is no source")
        target = io.BytesIO()
        self._copy(source, kinds[source.name], target)
        target.seek(0)
        leaks = list(self._words.leaks.in_stream(target))
        if leaks:
            raise ValueError(f"{len(leaks)} values that were replaced were found in the copy, so nothing is written")
        return target.getvalue()

    @property
    def counts(self) -> Counter[str]:
        """How often what was replaced, by kind."""
        return self._words.counts

    def _recognised(self) -> dict[str, str]:
        """What each source is: `har`, the format of a log, or nothing more than a text; one that is nothing is left out."""
        found: dict[str, str] = {}
        values: dict[str, str] = {}
        for source in list(self._sources):
            kind = self._kind_of(source, values)
            if kind is None:
                self._sources.remove(source)
            else:
                found[source.name] = kind
        self._texts.hashes_follow(values)
        return found

    def _kind_of(self, source: SourceFile, values: dict[str, str]) -> str | None:
        if source.path is not None or is_har((source.data or b"")[:65536]):
            with source.path.open("rb") if source.path else io.BytesIO(source.data or b"") as stream:
                head = stream.read(4)
            if head[:4] == b"PK\x03\x04":
                self._left_out.append((source.name, "it is a ZIP archive; unpack it first"))
                return None
            values.update(_hashed(source))
            return "har"
        data = source.data or b""
        if source.name.endswith(".toml"):
            return self._toml(source, data)
        form = _log_form(source, self._workspace)
        evidence = read_evidence(source)
        if any(found.kind == "private-key" for found in evidence.found) and len(evidence.found) == 1:
            self._left_out.append((source.name, "it is a private key, which leaves no house"))
            return None
        if evidence.found:
            values.update(_hashed_in(evidence.oidc))
            return form or "text"
        if form:
            return form
        because = evidence.without_sign_in() or "; ".join(evidence.problems)
        self._left_out.append((source.name, f"it cannot be told what it is, so it is not copied: {because}"))
        return None

    def _toml(self, source: SourceFile, data: bytes) -> str | None:
        try:
            tomllib.loads(as_utf8(data).decode("utf-8-sig"))
        except (ValueError, UnicodeDecodeError) as error:
            self._left_out.append((source.name, f"it is no TOML that can be read, so it is not copied: {error}"))
            return None
        return "text"

    def _copy(self, source: SourceFile, kind: str, target: io.BufferedIOBase | Any) -> None:
        if kind == "har":
            with source.path.open("rb") if source.path else io.BytesIO(source.data or b"") as stream:
                packed = stream.read(2) == b"\x1f\x8b"
                stream.seek(0)
                if packed:
                    with gzip.GzipFile(fileobj=target, mode="wb", mtime=0) as written:
                        ExportCopy(self._texts).write(gzip.GzipFile(fileobj=stream), written)  # type: ignore[arg-type]
                else:
                    ExportCopy(self._texts).write(stream, target)
            return
        data = source.data or b""
        if data[:2] == b"\x1f\x8b":
            made = self._files.of(gzip.decompress(data), source.name.removesuffix(".gz"), kind)
            target.write(gzip.compress(made, mtime=0))
        else:
            target.write(self._files.of(data, source.name, kind))

    # all copies

    def write(self, folder: Path, *, with_settings: bool, now: datetime) -> Copies:
        """Make all copies, and put them into a folder if nothing that was replaced is found in them.

        Raises OSError, SettingsError.
        """
        folder.mkdir(parents=True, exist_ok=True)
        room = Path(tempfile.mkdtemp(prefix=".redacting-", dir=folder))
        try:
            copies = self._write(room, with_settings=with_settings, now=now)
            if not copies.leaks:
                for path in sorted(room.rglob("*")):
                    if path.is_file():
                        target = folder / path.relative_to(room)
                        target.parent.mkdir(parents=True, exist_ok=True)
                        path.replace(target)
            return copies
        finally:
            shutil.rmtree(room, ignore_errors=True)

    def _write(self, room: Path, *, with_settings: bool, now: datetime) -> Copies:
        kinds = self._recognised()
        files, names = [], _Names(self._words)
        for source in self._sources:
            before = Counter(self._words.counts)
            written = names.of(source.name)
            with (room / written).open("wb") as target:
                self._copy(source, kinds[source.name], target)
            with (room / written).open("rb") as stream:
                digest = hashlib.file_digest(stream, "sha256").hexdigest()
            files.append(CopiedFile(names.shown(source.name), written, digest, dict(self._words.counts - before)))
        copied = SettingsCopy(self._workspace, self._files, self._kept)
        again = self._again(room, files, copied, with_settings=with_settings)
        left_out = [(names.shown(name), self._texts.words(because)) for name, because in self._left_out]
        left_out += [(names.shown(name), "its rows are no lines, so it is not copied") for name in again.left_out]
        same = None if not self._before.diagnoses else not again.differing
        copies = Copies(tuple(files), (), tuple(left_out), again.settings, same, again.differing)
        (room / FILE).write_text(_record(copies, again.replaying, now), "utf-8")
        return copies._replace(leaks=tuple(self._leaks(room)))

    def _again(self, room: Path, files: Sequence[CopiedFile], copied: SettingsCopy, *, with_settings: bool) -> _Again:
        """Diagnose the copies; where these are not the same with what they seemed to need, with all that is on record."""
        needs = [_needed(self._before, self._workspace), _everything(self._workspace)] if with_settings else []
        again = self._judged(room, files, copied, None) if not needs else None
        for needed in needs:
            again = self._judged(room, files, copied, needed)
            if not again.differing:
                break
        assert again is not None
        return again

    def _judged(self, room: Path, files: Sequence[CopiedFile], copied: SettingsCopy, needed: Needed | None) -> _Again:
        workspace, book = self._workspace, None
        settings: list[str] = []
        left_out: list[str] = []
        before, options = self._before, self._options
        if needed is not None and workspace.root is not None:
            settings = copied.write(room, needed)
            workspace = load_workspace(room)
            if self._logbook is not None:
                logs, left_out = write_logs(room, self._workspace, before.diagnoses, self._files)
                settings += logs
                load_logs(room, workspace)
                book = logbook_of(workspace)
        if book is None and self._logbook is not None:
            before, options = self._without_logs, options._replace(with_logs=False)
        octets = ChainMap(self._texts.stand_ins, copied.stand_ins)
        replaying = Replaying(self._heard, octets.get, self._copied_inside)
        sources = list(read_sources(tuple(str(room / file.written) for file in files)))
        names = [source.name for source in self._sources]
        sources = [source._replace(name=name) for source, name in zip(sources, names, strict=True)]
        with answered_by(replaying):
            after = diagnose_sources(iter(sources), workspace, options, 1, together=self._together, logbook=book)
        return _Again(tuple(settings), tuple(left_out), replaying, tuple(differences(before, after)))

    @cached_property
    def _without_logs(self) -> Result:
        """The diagnoses of the originals as they are where no logs are loaded."""
        options = self._options._replace(with_logs=False)
        return diagnose_sources(iter(self._sources), self._workspace, options, 1, together=self._together)

    def _copied_inside(self, octets: bytes) -> bytes:
        text = octets.decode("utf-8", "surrogateescape")
        return self._texts.under(text).encode("utf-8", "surrogateescape")

    def _leaks(self, room: Path) -> Iterator[str]:
        for path in sorted(room.rglob("*")):
            if path.is_file():
                with path.open("rb") as stream:
                    yield from self._words.leaks.in_stream(stream)


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


def _record(copies: Copies, replaying: Replaying, now: datetime) -> str:
    """The record beside the copies."""
    told = {
        "schema": SCHEMA,
        "made_at": now.strftime("%Y-%m-%dT%H:%M:%SZ"),
        "made_by": f"trace-lens {__version__}",
        "files": [file._asdict() for file in copies.files],
        "leaks": 0,
        "left_out": [{"source": source, "because": because} for source, because in copies.left_out],
        "settings": list(copies.settings),
        "diagnosis": {"same": copies.same, "differing": list(copies.differing)},
        "verdicts": {
            "held": sorted(replaying.held),
            "inside": {
                mark: None if octets is None else base64.b64encode(octets).decode()
                for mark, octets in sorted(replaying.inside.items())
            },
        },
    }
    return json.dumps(told, indent=1, ensure_ascii=False) + "\n"


# what is the same


def differences(before: Result, after: Result) -> list[str]:
    """In what the diagnoses of copies are not those of their originals: codes, stages, first breaks, outcomes."""
    if len(before.diagnoses) != len(after.diagnoses):
        return [f"{len(before.diagnoses)} attempts in the originals, {len(after.diagnoses)} in the copies"]
    found = []
    for original, copy in zip(before.diagnoses, after.diagnoses, strict=True):
        for what, was, is_now in zip(_COMPARED, _seen(original), _seen(copy), strict=True):
            if was != is_now:
                found.append(f"attempt {original.id}: {what} {was} in the original, {is_now} in the copy")
    return found


_COMPARED = ("outcome", "first break", "findings", "stages")


def _seen(diagnosis: Diagnosis) -> tuple[str, str, str, str]:
    first = diagnosis.first_break
    return (
        diagnosis.outcome,
        first.code if first else "none",
        ", ".join(f"{finding.code} ({finding.severity})" for finding in diagnosis.findings) or "none",
        ", ".join(f"{result.stage} {result.status}" for result in diagnosis.stages),
    )


# what is on record


def _told_in(workspace: Workspace) -> Iterator[str]:
    """Every value of the settings and of the documents that they name."""
    for app in workspace.apps.values():
        yield from strings_of(app.source.raw)
        yield app.id
        yield from _in_document(workspace, app.settings.application.saml.metadata)
    for provider in workspace.providers.values():
        yield from strings_of(provider.source.raw)
        yield provider.id
        for name in (provider.settings.metadata, provider.settings.discovery, provider.settings.key_set):
            yield from _in_document(workspace, name)
    for table in _log_tables(workspace):
        yield from strings_of(table)


def _in_document(workspace: Workspace, name: str | None) -> Iterator[str]:
    """The values in a document; of metadata nothing that stands under a contact."""
    from trace_lens.handover.redaction import markup

    if workspace.root is None or not name or not (workspace.root / name).is_file():
        return
    text = as_utf8((workspace.root / name).read_bytes()).decode("utf-8-sig", "replace")
    if text.lstrip()[:1] == "<":
        found: list[str] = []

        def visit(piece: markup.Piece) -> str:
            if "ContactPerson" not in (*piece.above, piece.element) and not piece.is_comment:
                found.append(piece.text)
            return piece.text

        markup.rewritten(text, visit)
        yield from found
        return
    try:
        yield from strings_of(json.loads(text))
    except (ValueError, RecursionError):
        return


def _log_tables(workspace: Workspace) -> Iterator[dict[str, Any]]:
    folder = workspace.root / "logs" if workspace.root else None
    for path in sorted(folder.glob("*.toml")) if folder and folder.is_dir() else ():
        try:
            yield tomllib.loads(as_utf8(path.read_bytes()).decode("utf-8-sig"))
        except (OSError, ValueError):
            continue


def _columns(workspace: Workspace) -> tuple[list[str], list[str]]:
    """The columns that descriptions of logs say hold people, and those that hold something else."""
    people, others = [], []
    for table in _log_tables(workspace):
        told = table.get("fields")
        for field, columns in told.items() if isinstance(told, dict) else ():
            named = columns if isinstance(columns, list) else [columns]
            (people if field == "user" else others).extend(str(column) for column in named)
    return people, others


def _patterns(workspace: Workspace) -> Iterator[str]:
    for holder in (*workspace.apps.values(), *workspace.providers.values()):
        yield from patterns_of(holder.source.raw)


def _log_form(source: SourceFile, workspace: Workspace) -> str | None:
    """The format of a log, by the description that names it, else by its content; None where it is none."""
    from trace_lens.logs.recognising.forms import form_of

    root = workspace.root
    for table in _log_tables(workspace):
        patterns = table.get("files")
        for pattern in [patterns] if isinstance(patterns, str) else patterns or []:
            if root is not None and Path(source.name).resolve() in {path.resolve() for path in root.glob(pattern)}:
                return str(table.get("format"))
    data = source.data or b""
    if data[:2] == b"\x1f\x8b":
        data = gzip.decompress(data)
    suffix = Path(source.name.removesuffix(".gz")).suffix
    if suffix in (".csv", ".log", ".jsonl", ".ndjson", ".tsv"):
        return form_of(data[:65536]).format
    return None


def _needed(result: Result, workspace: Workspace) -> Needed:
    """What the diagnoses named: applications, providers, and files of the workspace."""
    apps = {diagnosis.app for diagnosis in result.diagnoses if diagnosis.app}
    providers = {diagnosis.provider for diagnosis in result.diagnoses if diagnosis.provider}
    providers |= {told for name in apps if (told := workspace.apps[name].provider_id)}
    files = {name for diagnosis in result.diagnoses for name in _files_in(diagnosis)}
    for name, provider in workspace.providers.items():
        told = provider.settings
        if not files.isdisjoint((told.metadata, told.discovery, told.key_set, *told.certificates)):
            providers.add(name)
    for folder, found, known in (("apps", apps, workspace.apps), ("providers", providers, workspace.providers)):
        named = {Path(name).stem for name in files if name.startswith(f"{folder}/")}
        found |= named & known.keys()
    return Needed(
        frozenset(apps),
        frozenset(providers),
        frozenset(files & {*files_on_record(workspace), *_documents(workspace)}),
    )


def _everything(workspace: Workspace) -> Needed:
    documents = (*workspace.files_in("certs"), *_documents(workspace))
    return Needed(frozenset(workspace.apps), frozenset(workspace.providers), frozenset(documents))


def _documents(workspace: Workspace) -> list[str]:
    return [*workspace.files_in("metadata"), *workspace.files_in("discovery")]


def _files_in(value: Any) -> Iterator[str]:
    """The files that a diagnosis names."""
    if isinstance(value, FileName):
        yield str(value)
    elif isinstance(value, Evidence):
        yield value.source
    elif isinstance(value, str) and hasattr(value, "values"):
        for part in value.values.values():
            yield from _files_in(part)
    elif isinstance(value, tuple):
        for member in value:
            yield from _files_in(member)


# what follows from secrets by a hash


def _hashed(source: SourceFile) -> dict[str, str]:
    return _hashed_in(read_evidence(source).oidc)


def _hashed_in(messages: Iterable[Any]) -> dict[str, str]:
    """The values of messages that others may be hashes of, each with the name it goes by."""
    found: dict[str, str] = {}
    for message in messages:
        for name in _HASHED:
            if value := message.get(name):
                found[value] = name
        if message.token is not None and message.token.jws.text:
            found[message.token.jws.text] = "access_token"
    return found
