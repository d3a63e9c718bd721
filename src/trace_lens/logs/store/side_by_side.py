"""Contents of one source laid side by side: rows that stand in two of them count once, and are marked.

Monday's export and Tuesday's overlap; a log that was rotated is copied. A content all of whose rows stand in a newer
one, under no name of today, gives its place to that.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from trace_lens.common.tuples import NamedTuple
from trace_lens.logs.store.engine import quoted
from trace_lens.logs.store.manifest import Content
from trace_lens.logs.store.shapes import that_meet
from trace_lens.logs.store.store import EventStore
from trace_lens.logs.store.writing import Writer


class Overlap(NamedTuple):
    """What became of a content when it was laid beside the others of its source.

    `again` counts its rows that stand in others, by the names of these; `instead` is how many rows an earlier content
    had whose place it took.
    """

    again: dict[str, int]
    instead: int = 0


def lay_side_by_side(
    store: EventStore, writer: Writer, loaded: Mapping[str, int], told: dict[tuple[str, str], Overlap]
) -> None:
    """Find what of the contents just loaded stands in others of their source too, mark it there, and tell it by source
    and file. `loaded` has the first new line of each content. Raises StoreProblem.
    """
    manifest = store.manifest
    fresh = {key: line for key, line in loaded.items() if key in manifest and manifest[key].rows}
    for source in {manifest[key].source: None for key in fresh}:
        order = [content for content in manifest.of(source) if content.rows]
        place = {content.id: number for number, content in enumerate(order)}
        shared = _sharing(store, writer, order, fresh)
        for key in sorted(shared, key=lambda key: place[key]):
            ordered = sorted(shared[key], key=lambda other: place[other])
            content, others = manifest[key], [manifest[other] for other in ordered if other in manifest]
            found = _lay_beside(store, writer, content, fresh[key], others)
            if found is not None:
                told[content.source, content.name.file] = found


def _sharing(
    store: EventStore, writer: Writer, contents: Sequence[Content], fresh: Mapping[str, int]
) -> dict[str, set[str]]:
    """The earlier contents that share any row with each fresh one."""
    near = that_meet(contents, fresh)
    mine = [content.id for content in near if content.id in fresh]
    if not mine:
        return {}
    place = {content.id: number for number, content in enumerate(contents)}
    found: dict[str, set[str]] = {}
    for key, other in writer.sharing(store.parts(near), mine):
        if place[other] < place[key] or other not in fresh:
            found.setdefault(key, set()).add(other)
    return found


def _lay_beside(
    store: EventStore, writer: Writer, content: Content, first_line: int, others: Sequence[Content]
) -> Overlap | None:
    manifest = store.manifest
    paths = [(other, store.part(other)) for other in others]
    counts = writer.overlapping(store.part(content), content, paths, first_line)
    replaced = next(
        (
            manifest[other]
            for other, count in counts.items()
            if count == manifest[other].rows and not manifest[other].name.current and first_line == 1
        ),
        None,
    )
    if replaced is not None and not _referred_to(store, replaced):
        counts.pop(replaced.id)
        writer.forget_pairs(replaced.id)
        manifest.drop(replaced.id)
    else:
        replaced = None
    if counts:
        part = writer.mark_again(store.part(content), content.id)
        manifest.put(content._replace(part=part, again=content.again + sum(counts.values())))
    if not counts and not replaced:
        return None
    again: dict[str, int] = {}
    for other, count in counts.items():
        file = manifest[other].name.file
        again[file] = again.get(file, 0) + count
    return Overlap(again, replaced.rows if replaced else 0)


def _referred_to(store: EventStore, content: Content) -> bool:
    """Whether rows of other contents count as rows of this one."""
    marked = [other for other in store.manifest.of(content.source) if other.again]
    statement = f"SELECT count(*) FROM events WHERE same_content = {quoted(content.id)}"
    return bool(marked) and store.duck.ask(statement, store.parts(marked))[0][0] > 0
