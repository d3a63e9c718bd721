"""The messages of one source into attempts.

A SAML response, or an assertion by itself, is an attempt; its relay state and the field it came in stay with it. What
is plainly a message but damaged is an attempt too, so that the damage is told as the step that broke.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from lxml import etree

from trace_lens.intake.peeling import Found, Peeled
from trace_lens.saml.messages import Assertion, Response
from trace_lens.saml.parsing import XMLDamaged, parse
from trace_lens.saml.reading import read_assertion, read_response

JUDGED_KINDS = ("saml-response", "saml-assertion")


class Attempt(NamedTuple):
    """One try at signing in.

    Exactly one of `damage` and `root` is set. `response` is None where only an assertion was captured; `assertion` is
    that assertion then.
    """

    source: str
    found: Found
    root: etree._Element | None = None
    damage: XMLDamaged | None = None
    response: Response | None = None
    assertion: Assertion | None = None

    @property
    def relay_state(self) -> str | None:
        """The relay state that came beside the message."""
        return self.found.context.get("RelayState")

    @property
    def place(self) -> str:
        """Where in the source the message stood, to put before a place within it."""
        return f"{self.found.where} › " if self.found.where else ""


def attempts_in(source: str, peeled: Peeled) -> Iterator[Attempt]:
    """The attempts that a source's messages make."""
    for found in peeled.found:
        if found.kind not in JUDGED_KINDS:
            continue
        try:
            root = parse(found.data)
        except XMLDamaged as damage:
            yield Attempt(source, found, damage=damage)
            continue
        if found.kind == "saml-response":
            yield Attempt(source, found, root, response=read_response(root))
        else:
            yield Attempt(source, found, root, assertion=read_assertion(root))
