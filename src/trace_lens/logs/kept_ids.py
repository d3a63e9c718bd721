"""The ids of events as the store keeps them: what is secret among them as a keyed digest, by which it still matches.

Whoever has the id of a session, or a code, can use it; a log holds thousands. The column says which ids are such. The
key is made for the workspace and stays beside the store; without it the digests of one store say nothing to another.
"""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Iterable
from pathlib import Path

from trace_lens.common.expressions import expression
from trace_lens.workspace.own_files import write_privately

KEY_FILE = "ids.key"
_SECRET_COLUMN = expression(r"session|(?:^|[^a-z])s?sid$|cookie|token|ticket|secret|passw|assertion")
_CODE_COLUMN = expression(r"code$")
"""Among the ids of a description a code is an authorization code; elsewhere it is what a system calls its failures."""
MARK = "digest:"
DIGITS = 24


def is_secret_column(path: str) -> bool:
    """Whether a column of this name holds what somebody could sign in with."""
    return _SECRET_COLUMN.search(path.rpartition("/")[2].casefold()) is not None


def is_secret_id(path: str) -> bool:
    """The same for a column that a description lists among the ids."""
    return is_secret_column(path) or _CODE_COLUMN.search(path.casefold()) is not None


class KeptIds:
    """How ids are kept under a key; without a key, as they are."""

    def __init__(self, key: str = "") -> None:
        self.key = key

    def kept(self, column: str, value: str) -> str:
        """The id of a column as the store keeps it."""
        return self.digest(value) if self.key and is_secret_id(column) else value

    def digest(self, value: str) -> str:
        """The keyed digest of an id; the same for the same id."""
        return MARK + hashlib.sha256((self.key + value).encode("utf-8", "surrogatepass")).hexdigest()[:DIGITS]

    def both(self, ids: Iterable[str]) -> frozenset[str]:
        """Ids that a capture shows, as they are and as digests: a log may hold either."""
        found = frozenset(ids)
        return found | {self.digest(value) for value in found} if self.key else found


def kept_ids(folder: Path, *, make: bool = False) -> KeptIds:
    """How a store in this folder keeps ids; with `make` a key is made where there is none. Raises OSError."""
    file = folder / KEY_FILE
    try:
        return KeptIds(file.read_text("ascii").strip())
    except FileNotFoundError:
        if not make:
            return KeptIds()
    key = secrets.token_hex(32)
    write_privately(file, key.encode())
    return KeptIds(key)
