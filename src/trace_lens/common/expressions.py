"""Regular expressions that are compiled where they are first used: a run uses few of the hundreds that there are."""

from __future__ import annotations

import re
from typing import Any, AnyStr, cast

_METHODS = ("match", "fullmatch", "search", "finditer", "findall", "sub", "subn", "split", "pattern", "flags", "groups")


class Expression:
    """Stands for a compiled expression; its methods are those of the compiled one from the first use on."""

    def __init__(self, written: str | bytes, flags: int) -> None:
        self.written, self.wanted = written, flags

    @property
    def compiled(self) -> re.Pattern[Any]:
        """The expression, compiled."""
        return re.compile(self.written, self.wanted)

    def __getattr__(self, name: str) -> Any:
        if name not in _METHODS:
            raise AttributeError(name)
        compiled = self.compiled
        for method in _METHODS:
            self.__dict__[method] = getattr(compiled, method)
        return self.__dict__[name]


def expression(written: AnyStr, flags: int = 0) -> re.Pattern[AnyStr]:
    """An expression as `re.compile` makes it, at its first use. What is wrong with it is raised then.

    A match's `re` is the compiled expression, not this: where that is asked for, use `re.compile`.
    """
    return cast("re.Pattern[AnyStr]", Expression(written, flags))
