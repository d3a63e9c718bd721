"""Parts written: the events of one content as a Parquet file, and what is kept beside it to find them fast.

What is kept are counts (by hour, kind of event, user, application, address, spelling) and an index of ids. The index is
a sorted array of numbers of 64 bits: the upper 40 are a hash of the id, the lower 24 say where the lines are that carry
it. Both are made from the parts, for all contents that a load wrote since it last wrote the manifest.
"""

from __future__ import annotations

import os
import secrets
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, Any

from trace_lens.common.tuples import NamedTuple
from trace_lens.logs.event import Event
from trace_lens.logs.formats.rows import BadRow
from trace_lens.logs.store.duck import Duck, events_in_parts
from trace_lens.logs.store.engine import BAD_COLUMNS, COLUMNS, Given, named, quoted, select_of
from trace_lens.logs.store.manifest import BAD_ROWS, COUNTS, IDS, PARTS, BadRows, Content, Kept
from trace_lens.logs.store.overlaps import Rows, equal_runs
from trace_lens.people.spellings import keys_of
from trace_lens.workspace.own_files import for_user_only

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

BATCH = 50_000
PLACE_BITS = 24
_SAYS = ", ".join(f'e."{name}"' for name in ("time", "user", "app", "outcome", "code", "reason", "ip", "ids"))
PROBE = "trace-lens"
"""Its hash stands first in an index: a database that hashes otherwise cannot use it."""
COUNTED = {
    "part": "VARCHAR",
    "what": "VARCHAR",
    "value": "VARCHAR",
    "extra": "VARCHAR",
    "count": "BIGINT",
    "low": "TIMESTAMP",
    "high": "TIMESTAMP",
}

_FORMAT = "FORMAT parquet, PARQUET_VERSION V2, COMPRESSION zstd, COMPRESSION_LEVEL 1"
"""How parts are written: by a tenth less processor than as the database does unless told, and half as large."""


class Written(NamedTuple):
    """What is known of a part once it is written: its file, its events, and the moments that bound them."""

    part: str
    rows: int
    timed: int
    first: datetime | None
    last: datetime | None


class Writer:
    """Writes parts into the folder of a store."""

    def __init__(self, duck: Duck, folder: Path) -> None:
        self.duck, self.folder = duck, folder

    def write_events(
        self, content: str, events: Iterable[Event], kept: Path | None = None, until: int = 0
    ) -> tuple[Written, int]:
        """Write events that were read line by line, after the rows of an earlier part that begin before a line.

        The part, and how many events were new. Raises StoreProblem.
        """
        stream = iter(events)
        first, second = list(islice(stream, BATCH)), list(islice(stream, 1))
        if kept is None and not second:
            return self._write_batch(content, first), len(first)
        made = ", ".join(f"{named(name)} {kind}" for name, kind in COLUMNS.items())
        self.duck.do(f"CREATE OR REPLACE TEMP TABLE gathered ({made})")
        count, batch = 0, first
        while batch:
            with self.duck.meaning(), self.duck.handed_over(_given(batch, content)) as query:
                self.duck.do(f"INSERT INTO gathered BY NAME {query}")
            count += len(batch)
            batch = [*second, *islice(stream, BATCH)]
            second = []
        before = f"{events_in_parts([kept])} WHERE line < {until} UNION ALL " if kept else ""
        written = self.write(content, f"{before}SELECT {select_of(COLUMNS)} FROM gathered")
        self.duck.do("DROP TABLE gathered")
        return written, count

    def _write_batch(self, content: str, events: Sequence[Event]) -> Written:
        """Write some thousand events as a part."""
        name = f"{content}-{secrets.token_hex(4)}.parquet"
        nothing = ", ".join(f"NULL::{COLUMNS[key]} AS {named(key)}" for key in ("same_content", "same_line"))
        with self.duck.meaning(), self.duck.handed_over(_given(events, content)) as query:
            self._copy(f"SELECT *, {nothing} FROM ({query})", PARTS, name)
        times = [event.time for event in events]
        return Written(name, len(events), len(events), min(times, default=None), max(times, default=None))

    def write(self, content: str, query: str) -> Written:
        """Write the events that a query gives as a part. Raises StoreProblem."""
        name = f"{content}-{secrets.token_hex(4)}.parquet"
        self._copy(query, PARTS, name)
        told = "SELECT count(*), count(e.time), min(e.time), max(e.time) FROM events e"
        ((rows, timed, first, last),) = self.duck.ask(told, [self.folder / PARTS / name])
        low, high = (moment.replace(tzinfo=UTC) if moment else None for moment in (first, last))
        return Written(name, rows, timed, low, high)

    def write_bad(self, content: str, rows: Sequence[BadRow], kept: Path | None = None, until: int = 0) -> BadRows:
        """Write rows that could not be read, after those of an earlier file that begin before a line.

        Raises StoreProblem.
        """
        if not rows and kept is None:
            return BadRows()
        columns = [list(column) for column in zip(*rows, strict=True)] or [[], [], []]
        given = {name: [_text(value) for value in column] for name, column in zip(BAD_COLUMNS, columns, strict=True)}
        if kept is None:
            name = f"{content}-{secrets.token_hex(4)}.parquet"
            with self.duck.meaning(), self.duck.handed_over(Given(BAD_COLUMNS, given)) as query:
                self._copy(query, BAD_ROWS, name)
            return BadRows(len(rows), name)
        with self.duck.meaning():
            self.duck.give("bad", Given(BAD_COLUMNS, given))
        listed = select_of(BAD_COLUMNS)
        before = (
            f"SELECT {listed} FROM read_parquet({quoted(str(kept))}) WHERE line < {until} UNION ALL " if kept else ""
        )
        query = f"{before}SELECT {listed} FROM bad"
        count = int(self.duck.ask(f"SELECT count(*) FROM ({query})", [])[0][0])
        if not count:
            return BadRows()
        name = f"{content}-{secrets.token_hex(4)}.parquet"
        self._copy(query, BAD_ROWS, name)
        return BadRows(count, name)

    def drop(self, part: str) -> None:
        """Take away a part that did not come to count."""
        (self.folder / PARTS / part).unlink(missing_ok=True)

    def _copy(self, query: str, folder: str, name: str) -> None:
        target = self.folder / folder / name
        try:
            self.duck.do(f"COPY ({query}) TO {quoted(str(target))} ({_FORMAT})")
        except BaseException:
            target.unlink(missing_ok=True)
            raise

    # -- files that overlap

    def sharing(self, parts: Sequence[Path], fresh: Sequence[str]) -> list[tuple[str, str]]:
        """Which of some fresh contents share a row with which others of the parts. Raises StoreProblem."""
        listed = ", ".join(map(quoted, fresh))
        statement = f"""WITH said AS (SELECT DISTINCT e.content, hash({_SAYS}) AS said FROM events e)
            SELECT DISTINCT a.content, b.content FROM said a JOIN said b ON a.said = b.said AND a.content <> b.content
            WHERE a.content IN ({listed})"""
        return [(mine, theirs) for mine, theirs in self.duck.ask(statement, parts)]

    def overlapping(
        self, part: Path, content: Content, others: Sequence[tuple[Content, Path]], begin: int
    ) -> dict[str, int]:
        """Find the rows of a part, from a line on, that stand in other contents too; how many, by content.

        They are kept as the table `pairs` (line, other, same_content, same_line). Raises StoreProblem.
        """
        import numpy as np

        low = min((other.first for other, _ in others if other.first), default=None)
        high = max((other.last for other, _ in others if other.last), default=None)
        mine, lines, _ = self._rows(part, begin, low, high)
        found: dict[str, int] = {}
        taken = np.zeros(len(lines), dtype=bool)
        pairs: dict[str, list[Any]] = {"line": [], "other": [], "same_content": [], "same_line": []}
        for other, path in others:
            theirs, their_lines, roots = self._rows(path, 0, content.first, content.last)
            first, second = equal_runs(mine, theirs)
            own = np.array([root == content.id for root in roots["same_content"].tolist()], dtype=bool)
            free = ~taken[first] & ~own[second]
            first, second = first[free], second[free]
            if not len(first):
                continue
            taken[first] = True
            found[other.id] = len(first)
            pairs["line"] += lines[first].tolist()
            pairs["other"] += [other.id] * len(first)
            same = roots["same_content"][second].tolist()
            pairs["same_content"] += [text if text is not None else other.id for text in same]
            rooted, plain = roots["same_line"][second].tolist(), their_lines[second].tolist()
            pairs["same_line"] += [
                at if text is not None else own for text, at, own in zip(same, rooted, plain, strict=True)
            ]
        types = {"line": "BIGINT", "other": "VARCHAR", "same_content": "VARCHAR", "same_line": "BIGINT"}
        self.duck.give("pairs", Given(types, pairs))
        return found

    def forget_pairs(self, other: str) -> None:
        """Leave the rows that stand in a content out of what `overlapping` found."""
        self.duck.do(f"DELETE FROM pairs WHERE other = {quoted(other)}")

    def _rows(
        self, part: Path, begin: int, low: datetime | None, high: datetime | None
    ) -> tuple[Rows, NDArray[np.int64], dict[str, NDArray[Any]]]:
        """The rows of a part in a span of time, from a line on."""
        import numpy as np

        between = f"BETWEEN {_literal(low)} AND {_literal(high)}" if low and high else "IS NULL"
        statement = f"""SELECT place, line, said, particular, same_content, same_line, whole FROM (
            SELECT row_number() OVER () - 1 AS place, count(*) OVER () AS whole, e.line, e.time, hash({_SAYS}) AS said,
                len(e.ids) > 0 OR microsecond(e.time) % 1000000 > 0 AS particular, e.same_content,
                coalesce(e.same_line, -1) AS same_line
            FROM events e WHERE e.line >= {begin}) WHERE time {between} ORDER BY place"""
        columns = self.duck.arrays(statement, [part])
        whole = int(columns["whole"][0]) if len(columns["whole"]) else 0
        rows = Rows(
            said=columns["said"].astype(np.uint64),
            particular=np.asarray(columns["particular"]).astype(bool),
            place=columns["place"].astype(np.int64),
            whole=whole,
        )
        roots = {"same_content": _plain(columns["same_content"]), "same_line": columns["same_line"].astype(np.int64)}
        return rows, columns["line"].astype(np.int64), roots

    def mark_again(self, part: Path, content: str) -> str:
        """Write a part anew, with the rows that `overlapping` found marked; its file. Raises StoreProblem."""
        plain = ", ".join(f'e."{name}"' for name in COLUMNS if not name.startswith("same_"))
        made = self.write(
            content,
            f"SELECT {plain}, coalesce(p.same_content, e.same_content) AS same_content, "
            f"coalesce(p.same_line, e.same_line) AS same_line "
            f"FROM ({events_in_parts([part])}) e LEFT JOIN pairs p ON e.line = p.line ORDER BY e.line",
        )
        self.drop(part.name)
        return made.part

    # -- what is kept beside the parts

    def keep(self, contents: Sequence[Content]) -> list[Content]:
        """Write counts and the index of ids of some contents; the contents, with where these stand.

        Raises StoreProblem, OSError.
        """
        told = [content for content in contents if content.part]
        if not told:
            return list(contents)
        counts, ids = (f"{told[0].id}-{secrets.token_hex(4)}.{ending}" for ending in ("parquet", "npy"))
        self._count(told, counts)
        shift, bases = self._index(told, ids)
        made = {content.id: content._replace(kept=Kept(ids, counts, shift, bases[content.id])) for content in told}
        return [made.get(content.id, content) for content in contents]

    def _count(self, contents: Sequence[Content], name: str) -> None:
        columns = ", ".join(f"{named(column)} {kind}" for column, kind in COUNTED.items())
        self.duck.do(f"CREATE OR REPLACE TEMP TABLE counted ({columns})")
        parts = [self.folder / PARTS / (content.part or "") for content in contents]
        self.duck.do(f"CREATE OR REPLACE TEMP VIEW events AS {events_in_parts(parts)} WHERE same_content IS NULL")
        told, by = self._told_parts(contents)
        nothing = "NULL, NULL"
        for statement in (
            f"part, 'hour', hour::VARCHAR, NULL, count(*), min(time), max(time) FROM (SELECT {told} AS part, "
            f"floor(epoch(e.time) / 3600)::BIGINT AS hour, e.time FROM {by}) GROUP BY part, hour",
            f"{told}, 'kind', e.outcome, e.code, count(*), {nothing} FROM {by} GROUP BY {told}, e.outcome, e.code",
            f"{told}, 'nameless', e.ip, NULL, count(*), {nothing} FROM {by} "
            f'WHERE e."user" IS NULL AND e.ip IS NOT NULL GROUP BY {told}, e.ip',
            *(
                f"{told}, '{name}', e.\"{name}\", NULL, count(*), {nothing} FROM {by} "
                f'WHERE e."{name}" IS NOT NULL GROUP BY {told}, e."{name}"'
                for name in ("user", "app")
            ),
            f"part, 'named', '', NULL, sum(count), {nothing} FROM counted WHERE what = 'user' GROUP BY part",
        ):
            self.duck.do(f"INSERT INTO counted SELECT {statement}")
        self._spellings()
        self._copy("SELECT * FROM counted ORDER BY what, value, extra, part", COUNTS, name)
        self.duck.do("DROP TABLE counted")

    def _told_parts(self, contents: Sequence[Content]) -> tuple[str, str]:
        """What names the part of an event in a statement, and what stands after FROM there."""
        if len(contents) == 1:
            return quoted(contents[0].part or ""), "events e"
        columns: dict[str, Sequence[Any]] = {
            "content": [content.id for content in contents],
            "part": [content.part for content in contents],
        }
        with self.duck.meaning():
            self.duck.give("told_parts", Given({"content": "VARCHAR", "part": "VARCHAR"}, columns))
        return "p.part", "events e JOIN told_parts p ON e.content = p.content"

    def _spellings(self) -> None:
        """Add by which keys each name of a user is looked for."""
        statement = "SELECT part, value, count FROM counted WHERE what = 'user'"
        users = self.duck.connection.execute(statement).fetchall()
        keys: dict[str, list[str]] = {}
        rows = [
            (part, key, user, count)
            for part, user, count in users
            for key in keys.get(user) or keys.setdefault(user, sorted(keys_of(user)))
        ]
        if rows:
            types = {"part": "VARCHAR", "value": "VARCHAR", "extra": "VARCHAR", "count": "BIGINT"}
            given = Given(types, dict(zip(types, (list(column) for column in zip(*rows, strict=True)), strict=True)))
            with self.duck.meaning(), self.duck.handed_over(given) as query:
                self.duck.do(
                    f"INSERT INTO counted SELECT part, 'spelling', value, extra, count, NULL, NULL FROM ({query})"
                )

    def _index(self, contents: Sequence[Content], name: str) -> tuple[int, dict[str, int]]:
        """Write the index of the ids of some contents; by how many bits lines are shifted, and where each begins."""
        import numpy as np

        keys, shift, bases = self.index_of(contents)
        target, fresh = self.folder / IDS / name, self.folder / IDS / f".{name}.new"
        with for_user_only(), fresh.open("wb") as stream:
            np.save(stream, keys)
        os.replace(fresh, target)
        return shift, bases

    def index_of(self, contents: Sequence[Content]) -> tuple[NDArray[np.uint64], int, dict[str, int]]:
        """The index of the ids of some contents, its probe first; how lines are shifted, and where each begins.

        Raises StoreProblem.
        """
        import numpy as np

        shift = 0
        while sum((content.file.lines >> shift) + 2 for content in contents) >= 1 << PLACE_BITS:
            shift += 1
        base, bases = 0, {}
        for content in contents:
            bases[content.id] = base
            base += (content.file.lines >> shift) + 2
        joined = ""
        if len(contents) > 1:
            types = {"content": "VARCHAR", "base": "BIGINT"}
            with self.duck.meaning():
                self.duck.give("bases", Given(types, {"content": list(bases), "base": list(bases.values())}))
            joined = "JOIN bases b ON e.content = b.content"
        statement = (
            f"SELECT hash(id) AS said, place FROM (SELECT unnest(e.ids) AS id, (e.line >> {shift})"
            f"{' + b.base' if joined else ''} AS place FROM events e {joined} "
            "WHERE e.same_content IS NULL AND len(e.ids) > 0)"
        )
        columns = self.duck.arrays(statement, [self.folder / PARTS / (content.part or "") for content in contents])
        low = np.uint64((1 << PLACE_BITS) - 1)
        together = (columns["said"].astype(np.uint64) & ~low) | columns["place"].astype(np.uint64)
        together.sort()
        probe = self.duck.arrays(f"SELECT hash({quoted(PROBE)}) AS said", [])["said"].astype(np.uint64)
        return np.concatenate([probe, together]), shift, bases


def _given(events: Sequence[Event], content: str) -> Given:
    """Events as the columns of a part."""
    rows = (
        (
            event.source,
            content,
            event.line,
            event.time.replace(tzinfo=None),
            event.user,
            event.app,
            event.outcome,
            event.code,
            event.reason,
            event.ip,
            event.ids,
        )
        for event in events
    )
    columns: dict[str, Sequence[Any]] = dict.fromkeys(COLUMNS, ())
    columns |= dict(zip(COLUMNS, zip(*rows, strict=True), strict=False))
    for name in ("user", "app", "code", "reason", "ip"):
        columns[name] = [_text(text) for text in columns[name]]
    columns["ids"] = [[_text(text) for text in ids] for ids in columns["ids"]]
    return Given({name: kind for name, kind in COLUMNS.items() if not name.startswith("same_")}, columns)


def _text(value: Any) -> Any:
    """A value, where it is a text without what no text may hold (a half of a surrogate pair)."""
    if isinstance(value, str) and not value.isascii():
        return value.encode("utf-8", "replace").decode()
    return value


def _plain(column: NDArray[Any]) -> NDArray[Any]:
    """A column of texts with None where nothing is."""
    import numpy as np

    made: NDArray[np.object_] = np.array(column.data if isinstance(column, np.ma.MaskedArray) else column, dtype=object)
    made[np.ma.getmaskarray(column)] = None
    return made


def _literal(moment: datetime) -> str:
    return f"TIMESTAMP '{moment.replace(tzinfo=None).isoformat(sep=' ')}'"
