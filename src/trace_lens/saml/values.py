"""Attributes and texts of elements, each with the place that it stands at."""

from __future__ import annotations

from lxml import etree

from trace_lens.common.moments import MomentError, read_moment
from trace_lens.saml import messages as m
from trace_lens.saml.parsing import text_of


def attribute(element: etree._Element, name: str) -> m.Text | None:
    value = element.get(name)
    return None if value is None else m.Located(value, element, name)


def text(element: etree._Element) -> m.Text:
    return m.Located(text_of(element), element)


def instant(element: etree._Element, name: str) -> m.Instant | None:
    value = element.get(name)
    if value is None:
        return None
    text = m.Located(value, element, name)
    try:
        moment, in_utc = read_moment(value)
    except MomentError:
        return m.Instant(text, None, False)
    return m.Instant(text, moment, in_utc)
