"""What the store holds: one content for each log file that was ever loaded, and the names that it goes by.

A content is known by its digest, and by the digest of its beginning where it has grown. Names point to contents: what
was `app.log` yesterday is `app.log.1` today and the same content. A name that points to another content now leaves the
earlier one under the name that it had last, told apart by its generation.

The manifest is one JSON file, written beside the one that holds and put in its place at once; what it does not name is
not in the store.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Collection, Iterable, Iterator
from datetime import datetime
from pathlib import Path
from typing import Any

from trace_lens.common.expressions import expression
from trace_lens.common.guarding import Meant
from trace_lens.common.moments import read_moment, show_moment
from trace_lens.common.tuples import NamedTuple
from trace_lens.workspace.own_files import write_privately

VERSION = 3
MANIFEST = "manifest.json"
PARTS, BAD_ROWS, IDS, COUNTS = "parts", "bad-rows", "ids", "counts"
"""The folders of a store."""
BEGINNING = 512
"""So many octets of a content are its beginning, or all of them where it has fewer."""
_FILE = expression(r"[A-Za-z0-9][A-Za-z0-9._-]{0,120}")
_AGAIN = "move it away and run trace-lens logs load again: it is made from the log files"


class StoreProblem(Meant):
    """The store cannot be used; says why and what to do."""


class DiskFull(StoreProblem):
    """There is no room left."""


class Name(NamedTuple):
    """A name of a content: the file, how many contents had that name up to this one, and whether it has it still."""

    file: str
    generation: int = 1
    current: bool = True


class FileFacts(NamedTuple):
    """A log file, decompressed: its octets, their SHA-256, the digest of its first octets, and its lines."""

    octets: int
    digest: str
    beginning: str
    lines: int


class BadRows(NamedTuple):
    """How many rows could not be read, and the file that holds them; None where there are none."""

    rows: int = 0
    part: str | None = None


class Kept(NamedTuple):
    """The files that hold the index of a content's ids and what was counted of it; None where there is nothing to hold.

    `shift` is how many low bits of a line the index leaves out, `base` the number that stands for its first lines
    there.
    """

    ids: str | None = None
    counts: str | None = None
    shift: int = 0
    base: int = 0


class Content(NamedTuple):
    """What was loaded from one log file.

    `rows` are its events, `again` those among them that stand in another content too and count there; `first` and
    `last` bound their times by the log's own clock. `part` is the file that holds the events; None where there are
    none.
    """

    id: str
    source: str
    names: tuple[Name, ...]
    file: FileFacts
    rows: int
    loaded_at: datetime
    again: int = 0
    first: datetime | None = None
    last: datetime | None = None
    part: str | None = None
    bad: BadRows = BadRows()
    kept: Kept = Kept()

    @property
    def name(self) -> Name:
        """The name that it is told by: the first that it has today, else the last that it had."""
        return next((name for name in self.names if name.current), self.names[-1])

    @property
    def others(self) -> tuple[Name, ...]:
        """Its further names of today: copies of the same file."""
        return tuple(name for name in self.names if name.current)[1:]


class Manifest:
    """The contents of a store by their ids, in the order in which they were first loaded."""

    def __init__(self, contents: Iterable[Content] = (), generations: dict[str, dict[str, int]] | None = None) -> None:
        self._contents: dict[str, Content] = {}
        self._of_source: dict[str, dict[str, None]] = {}
        self._by_name: dict[tuple[str, str], str] = {}
        self._by_digest: dict[tuple[str, str], str] = {}
        self._by_beginning: dict[tuple[str, str], dict[str, None]] = {}
        self._beginnings: dict[str, set[int]] = {}
        self._generations = generations or {}
        for content in contents:
            self.put(content)

    def __iter__(self) -> Iterator[Content]:
        return iter(self._contents.values())

    def __len__(self) -> int:
        return len(self._contents)

    def __getitem__(self, content: str) -> Content:
        return self._contents[content]

    def __contains__(self, content: str) -> bool:
        return content in self._contents

    def begun(self, source: str, head: bytes) -> list[Content]:
        """The contents whose beginning is that of a file with these first octets, and those of unknown beginning."""
        found = [self._contents[key] for key in self._by_beginning.get((source, ""), ())]
        for length in sorted(self._beginnings.get(source, ())):
            if length <= len(head):
                digest = hashlib.sha256(head[:length]).hexdigest()
                found += [self._contents[key] for key in self._by_beginning.get((source, digest), ())]
        return found

    def of(self, source: str) -> list[Content]:
        """The contents of one source."""
        return [self._contents[content] for content in self._of_source.get(source, ())]

    @property
    def sources(self) -> list[str]:
        """The sources that have any."""
        return sorted(self._of_source)

    def named(self, source: str, file: str) -> Content | None:
        """The content that a name points to today."""
        found = self._by_name.get((source, file))
        return self._contents[found] if found else None

    def known(self, source: str, digest: str) -> Content | None:
        """The content of this digest."""
        found = self._by_digest.get((source, digest))
        return self._contents[found] if found else None

    def put(self, content: Content) -> None:
        """Add a content, or put it in the place of what was held of it before."""
        before = self._contents.get(content.id)
        if before is not None:
            self._by_digest.pop((before.source, before.file.digest), None)
            self._by_beginning.get((before.source, before.file.beginning), {}).pop(content.id, None)
        self._contents[content.id] = content
        self._of_source.setdefault(content.source, {})[content.id] = None
        self._by_digest[content.source, content.file.digest] = content.id
        if content.file.octets:
            self._by_beginning.setdefault((content.source, content.file.beginning), {})[content.id] = None
            self._beginnings.setdefault(content.source, set()).add(min(content.file.octets, BEGINNING))
        for name in content.names:
            if name.current:
                self._by_name[content.source, name.file] = content.id

    def drop(self, content: str) -> None:
        """Take a content out, with its names."""
        held = self._contents.pop(content)
        del self._of_source[held.source][content]
        for index, key in ((self._by_digest, held.file.digest), *((self._by_name, name.file) for name in held.names)):
            if index.get((held.source, key)) == content:
                del index[held.source, key]
        self._by_beginning.get((held.source, held.file.beginning), {}).pop(content, None)

    def point(self, file: str, to: str, *, alone: bool = False) -> None:
        """Let a name point to a content, and no longer to any other of its source; `alone` takes its other names."""
        source = self._contents[to].source
        if alone:
            self._leave_only(to, file)
        before = self.named(source, file)
        if before is not None and before.id == to:
            return
        if before is not None:
            self.put(before._replace(names=_without(before.names, file)))
        content = self._contents[to]
        kept = tuple(name for name in content.names if name.current)
        numbers = self._generations.setdefault(source, {})
        numbers[file] = numbers.get(file, 0) + 1
        self.put(content._replace(names=(*kept, Name(file, numbers[file]))))

    def _leave_only(self, to: str, file: str) -> None:
        """Take all names but one from a content."""
        content = self._contents[to]
        kept = tuple(name for name in content.names if name.current and name.file == file)
        for name in content.names:
            if name not in kept and self._by_name.get((content.source, name.file)) == to:
                del self._by_name[content.source, name.file]
        self.put(content._replace(names=kept))

    def forget_names(self, source: str, there: Collection[str]) -> None:
        """Leave out names that no file has any more, where their content has another."""
        for content in self.of(source):
            kept = tuple(name for name in content.names if name.current and name.file in there)
            if kept and len(kept) < len(content.names):
                for name in set(content.names) - set(kept):
                    if self._by_name.get((source, name.file)) == content.id:
                        del self._by_name[source, name.file]
                self.put(content._replace(names=kept))

    def files(self) -> set[str]:
        """The files that it names, each with its folder."""
        return {
            f"{folder}/{file}"
            for content in self
            for folder, file in (
                (PARTS, content.part),
                (BAD_ROWS, content.bad.part),
                (IDS, content.kept.ids),
                (COUNTS, content.kept.counts),
            )
            if file
        }

    def write(self, folder: Path) -> None:
        """Put it in the place of the one that holds. Raises OSError."""
        told = {
            "version": VERSION,
            "generations": self._generations,
            "contents": [_as_json(content) for content in self],
        }
        write_privately(folder / MANIFEST, json.dumps(told, ensure_ascii=False, indent=1).encode("utf-8", "replace"))


def _without(names: tuple[Name, ...], file: str) -> tuple[Name, ...]:
    """The names without one; the last of them stays as a name that was."""
    kept = tuple(name for name in names if name.file != file)
    if any(name.current for name in kept):
        return tuple(name for name in kept if name.current)
    lost = next(name for name in names if name.file == file and name.current)
    return (lost._replace(current=False),)


def read_manifest(folder: Path) -> Manifest:
    """The manifest in a folder. Raises OSError, StoreProblem."""
    try:
        told = json.loads((folder / MANIFEST).read_bytes())
        version = told["version"]
        if version != VERSION:
            raise StoreProblem(
                f"the store of logs is of version {version}, and this program works with version {VERSION}; move "
                f"{folder} away and run trace-lens logs load again: it is made from the log files"
            )
        generations = {
            str(source): {str(file): int(number) for file, number in numbers.items()}
            for source, numbers in told["generations"].items()
        }
        return Manifest((_from_json(content) for content in told["contents"]), generations)
    except (ValueError, TypeError, KeyError, AttributeError, RecursionError) as error:
        reason = str(error).strip().partition("\n")[0] or type(error).__name__
        raise StoreProblem(
            f"the manifest of the store of logs in {folder} cannot be read ({reason}); {_AGAIN}"
        ) from None


def _as_json(content: Content) -> dict[str, Any]:
    """A content as it is written, one flat table: moments as text, names as tables."""
    return {
        "id": content.id,
        "source": content.source,
        "names": [name._asdict() for name in content.names],
        **content.file._asdict(),
        "rows": content.rows,
        "bad": content.bad.rows,
        "loaded_at": show_moment(content.loaded_at),
        "again": content.again,
        "first": show_moment(content.first) if content.first else None,
        "last": show_moment(content.last) if content.last else None,
        "part": content.part,
        "bad_part": content.bad.part,
        **content.kept._asdict(),
    }


def _from_json(told: dict[str, Any]) -> Content:
    """A content from what was written. Raises ValueError, TypeError, KeyError where that was not by this program."""
    names = (Name(str(name["file"]), int(name["generation"]), bool(name["current"])) for name in told["names"])
    content = Content(
        id=told["id"],
        source=told["source"],
        names=tuple(names),
        file=FileFacts(int(told["octets"]), told["digest"], told["beginning"], int(told["lines"])),
        rows=int(told["rows"]),
        loaded_at=read_moment(told["loaded_at"])[0],
        again=int(told["again"]),
        first=read_moment(told["first"])[0] if told["first"] else None,
        last=read_moment(told["last"])[0] if told["last"] else None,
        part=_file(told["part"]),
        bad=BadRows(int(told["bad"]), _file(told["bad_part"])),
        kept=Kept(_file(told["ids"]), _file(told["counts"]), int(told["shift"]), int(told["base"])),
    )
    if not content.names or not isinstance(content.id, str):
        raise ValueError("a content without a name")
    return content


def _file(name: Any) -> str | None:
    """The name of a file of the store. Raises ValueError where it is none."""
    if name is not None and not _FILE.fullmatch(name):
        raise ValueError(f"{name!r} is no name of a file of the store")
    return None if name is None else str(name)
