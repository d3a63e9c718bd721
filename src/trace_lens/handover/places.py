"""Where a setting is usually found, in the terms of the trade. The words are in `places.toml`."""

from __future__ import annotations

from functools import cache
from importlib.resources import files

import tomli

from trace_lens.common.findings import Side


def usual_place(code: str, side: Side | None) -> str | None:
    """Where the setting that a finding is about is usually found on a side; None where it is no setting.

    Where both sides must act, that is told of the first one that has such a setting.
    """
    sides = (Side.APPLICATION, Side.PROVIDER) if side is Side.BOTH else (side,) if side else ()
    return next((words for each in sides if (words := _places().get((str(each), code)))), None)


@cache
def _places() -> dict[tuple[str, str], str]:
    told = tomli.loads(files(__package__).joinpath("places.toml").read_text("utf-8"))
    return {
        (side, code): words for side, table in told.items() for codes, words in table.items() for code in codes.split()
    }
