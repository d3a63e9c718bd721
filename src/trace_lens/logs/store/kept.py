"""What is kept beside the parts, asked: counts by value, and the lines that carry an id, without reading the parts."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from trace_lens.logs.store.engine import Given, quoted
from trace_lens.logs.store.manifest import COUNTS, IDS, Content
from trace_lens.logs.store.writing import PLACE_BITS, PROBE

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from trace_lens.logs.store.store import EventStore

Lines = tuple[str, int, int]
"""A content, and the first and last line of a range in it."""


def counted(
    store: EventStore, what: str, values: Iterable[str] | None = None, sources: Iterable[str] | None = None
) -> list[tuple[Any, ...]]:
    """What was counted: source, value, extra, count, the earliest and latest time; for some values, or for all.

    Raises StoreProblem.
    """
    return counted_kinds(store, (what,), values, sources)[what]


def counted_kinds(
    store: EventStore, kinds: Sequence[str], values: Iterable[str] | None = None, sources: Iterable[str] | None = None
) -> dict[str, list[tuple[Any, ...]]]:
    """The same of several kinds of counts, asked at once. Raises StoreProblem."""
    found: dict[str, list[tuple[Any, ...]]] = {what: [] for what in kinds}
    held = [
        content for content in store.manifest if content.kept.counts and (sources is None or content.source in sources)
    ]
    wanted = None if values is None else sorted(set(values))
    if not held or wanted == []:
        return found
    files = sorted({content.kept.counts for content in held if content.kept.counts})
    listed = ", ".join(quoted(str(store.folder / COUNTS / file)) for file in files)
    parts = Given(
        {"part": "VARCHAR", "source": "VARCHAR"},
        {"part": [content.part for content in held], "source": [content.source for content in held]},
    )
    given = {"counted_parts": parts}
    among = ""
    if wanted is not None:
        given["wanted"] = Given({"value": "VARCHAR"}, {"value": wanted})
        among = "AND c.value IN (SELECT value FROM wanted)"
    rows = store.duck.ask(
        "SELECT c.what, p.source, c.value, c.extra, sum(c.count)::BIGINT, min(c.low), max(c.high) "
        f"FROM read_parquet([{listed}]) c JOIN counted_parts p ON c.part = p.part "
        f"WHERE c.what IN ({', '.join(map(quoted, kinds))}) {among} "
        "GROUP BY c.what, p.source, c.value, c.extra ORDER BY ALL",
        [],
        given,
    )
    for what, *row in rows:
        found[what].append(tuple(row))
    return found


def lines_with(store: EventStore, ids: Sequence[str]) -> dict[str, list[Lines]]:
    """For each id the lines that may carry it; a few others may be among them. Raises StoreProblem.

    Where an index is missing or was made by a database that hashes otherwise, it is made anew for this once.
    """
    import numpy as np

    if not ids:
        return {}
    columns: dict[str, list[Any]] = {"place": list(range(len(ids) + 1)), "id": [*ids, PROBE]}
    given = {"wanted": Given({"place": "BIGINT", "id": "VARCHAR"}, columns)}
    rows = store.duck.ask("SELECT hash(id) FROM wanted ORDER BY place", [], given)
    *hashes, probe = (row[0] for row in rows)
    said = np.array(hashes, dtype=np.uint64)
    by_file: dict[str, list[Content]] = {}
    for content in store.manifest:
        if content.part and content.rows:
            by_file.setdefault(content.kept.ids or "", []).append(content)
    found: dict[str, list[Lines]] = {}
    for file, contents in by_file.items():
        keys = _opened(store.folder / IDS / file, probe) if file else None
        if keys is None:
            keys, contents = _made_anew(store, contents)
        for number, line in _looked_up(keys, said, contents):
            found.setdefault(ids[number], []).append(line)
    return found


def _opened(file: Path, probe: int) -> NDArray[np.uint64] | None:
    """The numbers of an index, without its probe; None where it cannot be used."""
    import numpy as np

    try:
        keys = np.load(file, mmap_mode="r", allow_pickle=False)
    except (OSError, ValueError, EOFError):
        return None
    if keys.dtype != np.uint64 or keys.ndim != 1 or not len(keys) or int(keys[0]) != probe:
        return None
    told: NDArray[np.uint64] = keys[1:]
    return told


def _made_anew(store: EventStore, contents: list[Content]) -> tuple[NDArray[np.uint64], list[Content]]:
    from trace_lens.logs.store.writing import Writer

    keys, shift, bases = Writer(store.duck, store.folder).index_of(contents)
    return keys[1:], [
        content._replace(kept=content.kept._replace(shift=shift, base=bases[content.id])) for content in contents
    ]


def _looked_up(
    keys: NDArray[np.uint64], said: NDArray[np.uint64], contents: Sequence[Content]
) -> Iterable[tuple[int, Lines]]:
    """The number of each id that was found, with the lines where."""
    import numpy as np

    order = sorted(contents, key=lambda content: content.kept.base)
    bases = [content.kept.base for content in order]
    low = np.uint64((1 << PLACE_BITS) - 1)
    first, last = np.searchsorted(keys, said & ~low, "left"), np.searchsorted(keys, said | low, "right")
    for number in np.flatnonzero(last > first).tolist():
        for place in sorted(set((np.asarray(keys[first[number] : last[number]]) & low).tolist())):
            at = int(np.searchsorted(bases, place, "right")) - 1
            content = order[at]
            offset = place - content.kept.base
            if at >= 0 and offset <= (content.file.lines >> content.kept.shift) + 1:
                yield number, (content.id, offset << content.kept.shift, ((offset + 1) << content.kept.shift) - 1)


def by_source(rows: Iterable[tuple[Any, ...]]) -> Mapping[str, dict[str, int]]:
    """Counts of values by source."""
    made: dict[str, dict[str, int]] = {}
    for source, value, _, count, *_ in rows:
        made.setdefault(source, {})[value] = int(count)
    return made
