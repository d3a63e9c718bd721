"""Pastes as they come in mails and tickets: whatever was done to a token or a response, it is found whole, and told."""

from __future__ import annotations

import base64
import html
import json
import quopri
from pathlib import Path
from urllib.parse import quote

import pytest
from hypothesis import given
from hypothesis import strategies as st

import oidc_kit
from kit import response, run, workspace
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


PRETTY = response().replace(b"><", b">\n<").decode()
ROWS = [response()[start : start + 16] for start in range(0, len(response()), 16)]
OF_TOOLS = {
    "zero-width spaces": SAML[:100] + "\u200b" + SAML[100:300] + "\u00a0" + SAML[300:],
    "a run of hexadecimal digits": response().hex(),
    "a dump of octets": "".join(f"{16 * n:08x}  {row.hex(' ')}\n" for n, row in enumerate(ROWS)),
    "a dump with its text": "".join(
        f"{16 * n:08x}  {row[:8].hex(' ')}  {row[8:].hex(' ')}  |{row.decode('ascii', 'replace')}|\n"
        for n, row in enumerate(ROWS)
    ),
    "a dump in pairs": "".join(f"{16 * n:08x}: {row.hex(' ', -2)}  ....\n" for n, row in enumerate(ROWS)),
    "a text in a program": 'var r = "' + response().decode().replace('"', '\\"') + '";',
    "brackets by their numbers": json.dumps({"m": response().decode()}).replace("<", "\\u003c").replace(">", "\\u003e"),
    "a page that shows it": f"<html><body><pre>{html.escape(response().decode())}</pre></body></html>",
}
MARKED = {
    "lines of a log": lambda number: f"2026-11-20 09:14:{number % 60:02d} DEBUG saml-{number}: ",
    "lines of a service": lambda number: "roster-1  | ",
    "numbered lines": lambda number: f"{number:4d}  ",
}


def no_certificates(text: str) -> list[bytes]:
    return [found.data for found in peel(text.encode()).found if found.kind != "certificate"]


@pytest.mark.parametrize("name", OF_TOOLS)
def test_what_tools_make_of_a_message(name: str) -> None:
    assert no_certificates(OF_TOOLS[name]) == [response()]


@pytest.mark.parametrize("name", MARKED)
def test_marks_before_each_line_are_no_part_of_it(name: str) -> None:
    """A message is not taken for altered because a log wrote a moment before each of its lines."""
    text = "".join(MARKED[name](number) + line + "\n" for number, line in enumerate(PRETTY.split("\n"), 1))
    assert [data.strip() for data in no_certificates(text)] == [PRETTY.encode()]


@pytest.mark.parametrize("name", MARKED)
def test_several_messages_behind_marks_are_several(name: str) -> None:
    made = [response(response_id=f"_rs{number}") for number in range(5)]
    text = "".join(MARKED[name](number) + one.decode() + "\n" for number, one in enumerate(made, 1))
    assert [data.strip() for data in no_certificates(text)] == made


def test_a_tag_that_words_speak_of_is_no_message() -> None:
    assert no_certificates(f'It says "no <samlp:Response> there":\n{response().decode()}\nThanks') == [response()]


@pytest.mark.parametrize("declared", ["", '<?xml version="1.0"?>\n'])
@pytest.mark.parametrize("after", ["", "Thanks, and the log is attached.\n"])
@pytest.mark.parametrize("between", ["", "and the second try, a minute later:\n", "a < b\n<!-- once more -->\n"])
@pytest.mark.parametrize(
    "before", ["", "The user tried twice. The first:\n", "see <the log>:\n", "There is no <samlp:Response> in it:\n"]
)
def test_words_around_messages_are_no_part_of_them(before: str, between: str, after: str, declared: str) -> None:
    """Each message is read by itself, whatever a ticket says before, between and after them."""
    made = [response(response_id=f"_rs{number}").decode() for number in range(3)]
    text = before + (between + "\n").join(declared + one + "\n" for one in made) + after
    read = [data.decode().removeprefix(declared) for data in no_certificates(text)]
    assert [data.strip() for data in read] == made


@pytest.mark.parametrize("cut", [0.3, 0.6, 0.97])
@pytest.mark.parametrize("between", ["\n", "\n\n", "\nthe second:\n", '\n<?xml version="1.0"?>\n'])
@pytest.mark.parametrize("place", range(3))
def test_a_message_that_is_cut_off_ends_where_the_next_one_begins(cut: float, between: str, place: int) -> None:
    made = [response(response_id=f"_rs{number}").decode() for number in range(3)]
    made[place] = made[place][: int(len(made[place]) * cut)].rstrip(">")
    read = [data.decode().removeprefix('<?xml version="1.0"?>').strip() for data in no_certificates(between.join(made))]
    assert len(read) == 3
    assert [text for at, text in enumerate(read) if at != place] == made[:place] + made[place + 1 :]
    assert read[place].startswith(made[place])


@pytest.mark.parametrize("between", ["", "\n", "\n\n", "words"])
def test_what_a_broken_message_holds_is_no_message_beside_it(between: str) -> None:
    text = response().decode().replace("<saml:Assertion", between + "<saml:Assertion")
    assert [data.decode() for data in no_certificates(text[: int(len(text) * 0.8)])] == [text[: int(len(text) * 0.8)]]


@pytest.mark.parametrize("name", OF_TOOLS)
def test_no_copy_holds_what_a_dump_held(name: str, tmp_path: Path) -> None:
    """Whatever a message was written as, its copy names nobody, and is still that message."""
    folder = workspace(tmp_path / "w")
    (folder / "paste.txt").write_text(OF_TOOLS[name], "utf-8")
    done = run("redact", "paste.txt", "--output", "../copy", folder=folder)
    assert done.returncode == 0, done.stderr.decode()
    (copy,) = (tmp_path / "copy").glob("*.txt")
    held = copy.read_text("utf-8")
    assert "m.tern" not in held
    assert b"m.tern".hex() not in "".join(held.split())
    (message,) = no_certificates(held)
    assert b"m.tern" not in message
    assert b"Response" in message
