"""Line numbers of positions in a text, counted on from the last one that was asked for."""

from __future__ import annotations


class LineNumbers:
    """The lines of a text, from 1. Positions are best asked for in order: then the text is gone through once."""

    def __init__(self, text: str | bytes) -> None:
        self._text = text
        self._position = 0
        self._line = 1

    def at(self, position: int) -> int:
        """The line in which a position lies."""
        if position < self._position:
            self._position, self._line = 0, 1
        if isinstance(self._text, bytes):
            self._line += self._text.count(b"\n", self._position, position)
        else:
            self._line += self._text.count("\n", self._position, position)
        self._position = position
        return self._line
