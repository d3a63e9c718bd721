"""A paste at the terminal, of any length on one line.

In its line mode a terminal hands over at most 4,095 characters of a line (POSIX.1-2024, General Terminal Interface,
MAX_CANON) and loses the rest in silence, so that mode is switched off while a paste is read.
"""

from __future__ import annotations

import os
from types import TracebackType

_END = b"\x04"
_PIECE = 65_536


class Pasted:
    """What is typed or pasted until Ctrl-D, as a stream of octets. Used as a context, which restores the line mode."""

    def __init__(self, terminal: int) -> None:
        """`terminal` is the descriptor of the terminal."""
        self._terminal = terminal
        self._ended = False

    def __enter__(self) -> Pasted:
        """Switch the line mode off; Ctrl-C still interrupts, and what is typed is still shown."""
        import termios

        self._before = termios.tcgetattr(self._terminal)
        now = termios.tcgetattr(self._terminal)
        now[3] &= ~termios.ICANON
        now[6][termios.VMIN], now[6][termios.VTIME] = 1, 0
        termios.tcsetattr(self._terminal, termios.TCSADRAIN, now)
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        """Switch it on again. What was pasted and not read is thrown away: the shell would take it for commands."""
        import termios

        termios.tcsetattr(self._terminal, termios.TCSAFLUSH, self._before)

    def read(self, size: int = -1) -> bytes:
        """At most so many octets; what comes after them, up to the end, is left unread."""
        pieces: list[bytes] = []
        left = size if size >= 0 else None
        while not self._ended and left != 0:
            piece = os.read(self._terminal, _PIECE if left is None else min(_PIECE, left))
            text, end, _ = piece.partition(_END)
            self._ended = bool(end) or not piece
            pieces.append(text)
            left = None if left is None else left - len(text)
        return b"".join(pieces)
