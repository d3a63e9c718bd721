"""What a blob is: a search over the layers it may be wrapped in, cheapest reading first.

The reading that ends in something recognised with the fewest layers and repairs is kept. Where none does, `Peeled`
says how far each reading got.
"""

from __future__ import annotations

import heapq
import re
from collections.abc import Callable
from itertools import count
from typing import BinaryIO

from trace_lens.common import limits
from trace_lens.common.expressions import expression
from trace_lens.common.guarding import why
from trace_lens.common.limits import Refused
from trace_lens.common.locations import Location
from trace_lens.common.octets import as_utf8
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.captures import capture_from, capture_in, carried_by
from trace_lens.intake.exchanges import Capture
from trace_lens.intake.found import FoundMessage
from trace_lens.intake.har import NoHar
from trace_lens.intake.kinds import is_whole, recognise
from trace_lens.intake.layers import LAYERS
from trace_lens.intake.markup import first_element
from trace_lens.intake.oauth import hints_at_oidc, oidc_in
from trace_lens.intake.oauth_pieces import damaged
from trace_lens.intake.parts import parts_of, runs_of
from trace_lens.intake.pasted import after_marks
from trace_lens.intake.reading import Reading
from trace_lens.intake.straight import straight

_SAML_FIELD = expression(rb"SAML(?:Response|Request|art)|wresult")
"""Where a SAML message stands in the same text, it counts before what else could be read there."""
_WORDS_AFTER = 60
"""So many characters of other text may follow a cut paste."""


class Peeled(NamedTuple):
    """The messages of one source, or, where there are none, how far the readings of it got.

    `capture` is what passed between browser and hosts, where the source is a capture of that. `left_out` says what was
    not read because of a limit; `failed` why none of it could be.
    """

    found: tuple[FoundMessage, ...]
    readings: tuple[str, ...] = ()
    capture: Capture | None = None
    left_out: str | None = None
    failed: str | None = None

    @property
    def because(self) -> str:
        """Why nothing was recognised, in one sentence."""
        return self.failed or "no reading of it ends in a message: " + "; ".join(self.readings)


def peel(data: bytes) -> Peeled:
    """Find the messages in a blob: all of them, where it holds several beside each other."""
    plain_one = straight(data)
    if plain_one:
        return Peeled((plain_one,))
    return search(data)


def search(data: bytes) -> Peeled:
    """The same by trying every layer."""
    if not data.strip():
        return Peeled((), ("it is empty",))
    try:
        capture = capture_in(as_utf8(data))
    except NoHar as error:
        plain = _peel_text(data)
        return plain if plain.found else Peeled((), (str(error),))
    if capture is None:
        return _peel_text(data)
    of_capture = _peel_capture(capture)
    lone = len(capture.exchanges) == 1 and not capture.exchanges[0].status
    if capture.form != "har" and (lone or len(of_capture.found) == 1):
        plain = _peel_text(data)
        return plain if plain.found else of_capture
    return of_capture


def peel_stream(open_it: Callable[[], BinaryIO]) -> Peeled:
    """Find the messages of a large source that begins as a browser export, without reading it whole."""
    try:
        return _peel_capture(capture_from(open_it))
    except (NoHar, OSError) as error:
        return Peeled((), (str(error),))


def _peel_capture(capture: Capture) -> Peeled:
    """The messages of a capture; a text in it that cannot be read is told, and the others are read."""
    failed: list[str] = []

    def of_one(text: bytes) -> tuple[FoundMessage, ...]:
        try:
            return _peel_text(text, explain=False).found
        except Exception as error:
            failed.append(why(error, "reading a text in it"))
            return ()

    found = carried_by(capture, of_one)
    left_out = "; ".join(filter(None, (_in_short(failed, "texts in it"), capture.beyond)))
    return Peeled(found, (), capture, left_out or None)


def _in_short(failed: list[str], what: str) -> str | None:
    """What could not be read, in one sentence; None where all could."""
    if not failed:
        return None
    reasons = "; ".join(list(dict.fromkeys(failed))[:3])
    return f"{reasons} ({len(failed):,} {what})" if len(failed) > 1 else reasons


def _peel_text(data: bytes, *, explain: bool = True) -> Peeled:
    """The messages of a text; `explain` asks for how far each reading came, where it holds none."""
    for reading in after_marks(data):
        bare = _peel_text(reading.data, explain=False)
        if bare.found:
            told = tuple(message._replace(repairs=(*message.repairs, *reading.repairs)) for message in bare.found)
            return bare._replace(found=told)
    several = _of_parts(parts_of(data))
    if several:
        return several
    peeled = _peel_one(data, explain=explain)
    if any("text around the message" in message.repairs for message in peeled.found):
        return _of_parts(runs_of(data)) or peeled
    return peeled


def _without_cut_copies(parts: list[tuple[int, bytes]]) -> list[tuple[int, bytes]]:
    """The parts without those that are only the beginning of another: a paste that was cut, and then repeated whole."""
    if len(parts) > limits.COMPARED_PARTS:
        return parts
    bare = [b"".join(part.split()) for _, part in parts]
    return [
        part
        for part, text in zip(parts, bare, strict=True)
        if len(text) < 60 or not any(len(other) > len(text) and _begins_with(other, text) for other in bare)
    ]


def _begins_with(whole: bytes, cut: bytes) -> bool:
    """Whether a text is the beginning of another, wherever in the text before it that one starts."""
    at = whole.find(cut[:60])
    if at < 0:
        return False
    most = min(len(cut), len(whole) - at)
    parting = next((number for number in range(most) if whole[at + number] != cut[number]), most)
    return parting >= max(100, len(cut) - _WORDS_AFTER)


def _of_parts(parts: list[tuple[int, bytes]]) -> Peeled | None:
    """The messages of several parts, each with the line where its part begins; None where they do not hold two."""
    if len(parts) < 2:
        return None
    parts = _without_cut_copies(parts)
    found: list[FoundMessage] = []
    beyond = (
        f"it holds more than {limits.PARTS:,} messages; only the first of them were read"
        if len(parts) > limits.PARTS
        else None
    )
    barren = 0
    failed: list[str] = []
    for line, part in parts[: limits.PARTS]:
        base = len(found)
        try:
            inside = _peel_one(part, explain=False).found
        except Exception as error:
            failed.append(why(error, f"reading the part at line {line:,}"))
            continue
        barren += not inside
        if barren > limits.BARREN_PARTS:
            beyond = f"more than {limits.BARREN_PARTS:,} of its parts hold no message; it was read up to line {line:,}"
            if not found:
                raise Refused(beyond)
            break
        for message in inside:
            place = Location(line=line).then(message.where)
            found.append(
                message._replace(where=place, within=None if message.within is None else message.within + base)
            )
    if len(found) < 2 and not (found and len(parts) == 1) and not failed and not beyond:
        return None
    left_out = "; ".join(filter(None, (_in_short(failed, "parts of it"), beyond)))
    return Peeled(tuple(found), left_out=left_out or None, failed=None if found else left_out or None)


def _peel_one(data: bytes, *, explain: bool = True) -> Peeled:
    order = count()
    start = FoundMessage("", data)
    queue: list[tuple[int, int, FoundMessage]] = [(0, next(order), start)]
    seen = {hash(data)}
    held = len(data)
    ends: list[FoundMessage] = []
    beside: tuple[FoundMessage, ...] = ()
    beyond: str | None = None
    broken: Peeled | None = None
    while queue and len(seen) <= limits.PEEL_READINGS:
        cost, _, state = heapq.heappop(queue)
        kind = recognise(state.data)
        if kind is None and hints_at_oidc(state.data):
            told: list[str] = []
            within = oidc_in(state.data, told)
            beyond = beyond or "; ".join(dict.fromkeys(told)) or None
            if within and _SAML_FIELD.search(state.data) is None and not any(damaged(message) for message in within):
                return Peeled(tuple(_carried(state, message) for message in within), left_out=beyond)
            beside = beside or tuple(_carried(state, message) for message in within)
        if kind and broken and kind != broken.found[0].kind:
            continue
        if kind and not is_whole(kind, state.data):
            broken = broken or Peeled((_named(state),))
            kind = None
        if kind:
            siblings = [state] + [other for price, _, other in queue if price == cost and other.layers == state.layers]
            return Peeled(tuple(_named(sibling) for sibling in siblings if recognise(sibling.data)))
        grown = 0
        if len(state.layers) + len(state.repairs) < limits.PEEL_LAYERS:
            for layer in LAYERS:
                for reading in layer(state.data):
                    mark = hash(reading.data)
                    if mark in seen or not reading.data.strip():
                        continue
                    held += len(reading.data)
                    if held > limits.PEELED_BYTES:
                        raise Refused(f"trying to read it takes more than {limits.PEELED_BYTES:,} bytes")
                    seen.add(mark)
                    grown += 1
                    heapq.heappush(
                        queue, (cost + reading.cost + len(reading.repairs), next(order), _under(state, reading))
                    )
        if not grown:
            ends.append(state)
    if broken or beside:
        return broken or Peeled(beside, left_out=beyond)
    tried = (start, *ends) if explain else ()
    return Peeled((), failed=beyond, readings=tuple(dict.fromkeys(_how_far(state) for state in tried))[:4])


def _carried(state: FoundMessage, message: FoundMessage) -> FoundMessage:
    """A message found inside a text, with the layers that the text came in."""
    where = state.where.then(message.where)
    return message._replace(
        layers=(*state.layers, *message.layers),
        repairs=(*state.repairs, *message.repairs),
        where=where,
        context={**state.context, **message.context},
    )


def _under(state: FoundMessage, reading: Reading) -> FoundMessage:
    layers = (*state.layers, reading.layer) if reading.layer else state.layers
    return FoundMessage(
        kind="",
        data=reading.data,
        layers=layers,
        repairs=(*state.repairs, *reading.repairs),
        where=reading.where or state.where,
        context={**state.context, **reading.context},
    )


def _named(state: FoundMessage) -> FoundMessage:
    repairs = state.repairs
    if state.layers.count("url") + state.layers.count("form") > 1:
        repairs = (*repairs, "URL-encoding applied more than once")
    return FoundMessage(
        kind=recognise(state.data) or "",
        data=state.data,
        layers=state.layers,
        repairs=tuple(dict.fromkeys(repairs)),
        where=state.where,
        context=state.context,
    )


_FILES = (
    (b"\x89PNG", "a picture; take the message as text"),
    (b"\xff\xd8\xff", "a picture; take the message as text"),
    (b"GIF8", "a picture; take the message as text"),
    (b"%PDF-", "a PDF document; take the message out of it as text"),
    (b"PK\x03\x04", "an archive or an office document; take the message out of it as text"),
)
"""How files begin that people send instead of a message."""
_CLAIMS = (expression(rb'"(?:iss|aud)"\s{0,9}:'), expression(rb'"(?:exp|iat|sub)"\s{0,9}:'))


def _how_far(state: FoundMessage) -> str:
    path = " → ".join(state.layers) or "as it is"
    return f"{path}: {_describe(state.data)}"


def _describe(data: bytes) -> str:
    size = f"{len(data):,} bytes"
    root = first_element(data[:4096])
    if root:
        return f"XML whose root element {root[1].decode()} is no message of a sign-in"
    if not data.strip(b"\0"):
        return f"{size}, all zero"
    known = next((words for start, words in _FILES if data.startswith(start)), None)
    if known:
        return known
    if (
        data.lstrip()[:1] == b"{"
        and all(claim.search(data[:4096]) for claim in _CLAIMS)
        and len(data) < limits.TOKEN_CHARACTERS
    ):
        return (
            "the claims of a token that was taken apart; take the token itself, its three parts with the dots between"
        )
    sample = data[:2000]
    try:
        text = sample.decode("utf-8")
    except UnicodeDecodeError as error:
        if error.start < len(sample) - 4:
            return f"{size} of binary data from position {error.start}"
        text = sample[: error.start].decode("utf-8")
    if not all(char.isprintable() or char.isspace() for char in text):
        return f"{size} of binary data"
    if not re.search(r"[A-Za-z0-9+/=_\-]{40}", text):
        return f"{size} of text, no part of which is long enough for a message"
    stray = re.search(r"[^A-Za-z0-9+/=_\-\s]", text)
    if stray:
        return f"{size} of text; base64 stops at {stray.group()!r}, character {stray.start() + 1}"
    return f"{size} of text"
