"""Pastes as they come in mails and tickets: whatever was done to a token or a response, it is found whole, and told."""

from __future__ import annotations

import base64
import quopri
from urllib.parse import quote

import pytest
from hypothesis import given
from hypothesis import strategies as st

import oidc_kit
from kit import response
from trace_lens.intake.peeling import peel

TOKEN = oidc_kit.token()
SAML = base64.b64encode(response()).decode()


def lines(text: str, width: int, mark: str = "") -> str:
    return "\n".join(mark + text[i : i + width] for i in range(0, len(text), width))


def printable(text: str) -> str:
    return quopri.encodestring(text.encode()).decode()


OF_TOKENS = [
    ("as it is", TOKEN, ()),
    ("quoted-printable", printable(f"Hello,\nthe token is {TOKEN}\nBye\n"), ("line wraps",)),
    ("reply marks", f"On Monday somebody wrote:\n{lines(TOKEN, 70, '> ')}\n> thanks\n", ("line wraps",)),
    ("between sentences", f"This is the token:\n{lines(TOKEN, 64)}\nCan you see what is wrong?\n", ("line wraps",)),
    ("indented", f"token:\n{lines(TOKEN, 64, '    ')}\n\nregards", ("line wraps",)),
    ("a bearer header", f"Authorization: Bearer {lines(TOKEN, 60)}", ("line wraps",)),
    ("the other alphabet", TOKEN.replace("-", "+").replace("_", "/"), ("the standard alphabet of base64",)),
    (
        "the other alphabet, named",
        "id_token=" + TOKEN.replace("-", "+").replace("_", "/"),
        ("the standard alphabet of base64",),
    ),
    ("blanks", " ".join(TOKEN[i : i + 60] for i in range(0, len(TOKEN), 60)), ("blanks between the characters",)),
    ("typographic quotes", f"“{TOKEN}”", ("stray quotes or punctuation around it",)),
    ("cut, then whole", f"{TOKEN[:200]}\n\nThat was cut. Here it is:\n{TOKEN}", ()),
    ("encoded twice", quote(quote(f"id_token={TOKEN}&state=abc", safe=""), safe=""), ()),
    ("a word after it", f"{lines(TOKEN, 80)}\nThanks\n", ("line wraps",)),
]


@pytest.mark.parametrize("name, text, repairs", OF_TOKENS, ids=[one[0] for one in OF_TOKENS])
def test_a_token_in_a_paste(name: str, text: str, repairs: tuple[str, ...]) -> None:
    found = [one for one in peel(text.encode()).found if one.data[:3] == b"eyJ"]
    assert [one.data.decode() for one in found] == [TOKEN]
    assert found[0].repairs == repairs


OF_RESPONSES = [
    printable(f"SAMLResponse={SAML}"),
    printable(f"> SAMLResponse={quote(SAML, safe='')}\n"),
    lines(SAML, 76, "> "),
    f"This is what the browser posts:\n{lines(SAML, 76)}\nThat is all.",
    f"{lines(SAML, 76)}\nThat\n",
    quote(quote(f"SAMLResponse={quote(SAML, safe='')}", safe=""), safe=""),
    SAML.replace("+", "-").replace("/", "_"),
    f"SAMLResponse={quote(SAML[:400])}\n\nagain:\nSAMLResponse={quote(SAML)}",
    f"{SAML[:1200]}\n\nagain:\n\n{SAML}\n",
]


@pytest.mark.parametrize("text", OF_RESPONSES, ids=range(len(OF_RESPONSES)))
def test_a_response_in_a_paste(text: str) -> None:
    assert [one.data for one in peel(text.encode()).found] == [response()]


@given(
    width=st.integers(30, 120),
    mark=st.sampled_from(["", "> ", ">> ", "  ", "| "]),
    before=st.sampled_from(["", "Hello,\n", "it is: "]),
    after=st.sampled_from(["", "\nRegards\nMia", "\nIs it good? Tell me.", "\n\n--\nMia"]),
)
def test_any_width_and_any_marks(width: int, mark: str, before: str, after: str) -> None:
    """However a mail wraps and marks a token, it is found whole."""
    text = before + lines(TOKEN, width, mark)[len(mark) if before.endswith(" ") else 0 :] + after
    assert TOKEN.encode() in [one.data for one in peel(text.encode()).found]


def test_a_cut_token_stays_cut() -> None:
    """What is not there is not made up: a token that ends early is found as far as it goes."""
    (found,) = peel(f"the token:\n{lines(TOKEN[:-40], 64)}\nregards, Mia".encode()).found
    assert TOKEN.startswith(found.data.decode())
    assert len(found.data) < len(TOKEN)
