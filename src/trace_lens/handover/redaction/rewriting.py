"""What each part of the rewriting asks of the others: forms hold forms, so each needs them all."""

from __future__ import annotations

from typing import Protocol


class Rewrites(Protocol):
    """Rewrites texts by their form. `depth` counts the layers that a text was taken out of."""

    def under(self, text: str, name: str = "", depth: int = 0) -> str:
        """A text that stands under a name."""

    def words(self, text: str, depth: int = 0) -> str:
        """Running text."""

    def key(self, text: str) -> str:
        """The name of a parameter, member, header or cookie."""

    def in_json(self, text: str, name: str = "", depth: int = 0) -> str:
        """JSON, as far as it goes."""

    def in_base64(self, text: str, name: str = "", depth: int = 0) -> str | None:
        """base64 of something that has a form; None where it is none."""

    def token(self, text: str, name: str, depth: int) -> str | None:
        """A token in its compact form; None where it is none."""

    def address(self, text: str, name: str, depth: int) -> str | None:
        """An address, or the path of one; None where it is none."""

    def path_and_more(self, text: str, depth: int) -> str:
        """A path with what may follow it."""

    def encoded(self, text: str, name: str, depth: int, *, plus: bool = False) -> str:
        """What a percent-encoded text stands for."""

    def query(self, text: str, depth: int = 0) -> str:
        """Pairs of name and value."""

    def credential(self, scheme: str, value: str, depth: int = 0) -> str:
        """What follows a scheme in Authorization."""
