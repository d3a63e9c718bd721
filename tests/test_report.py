"""Reports to hand over: what they say to whom, and that nobody's name and no secret is in them."""

from __future__ import annotations

import html as entities
import json
import os
import re
import stat
from collections.abc import Iterator
from html.parser import HTMLParser
from importlib.resources import files
from pathlib import Path
from typing import Any
from urllib.parse import parse_qsl, urlsplit

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kit import run, run_json
from trace_lens.common import catalogue
from trace_lens.common.findings import Side
from trace_lens.common.masking import Masks
from trace_lens.common.sentences import Person, Quotation, say
from trace_lens.handover.places import usual_place
from trace_lens.handover.stand_ins import StandIns
from trace_lens.people.spellings import People
from trace_lens.render import html
from trace_lens.render.document import Copied, Fact, Span, Steps, TwoValues, heading, line, prose, table
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.records import Workspace

BROKEN = "captures/04-crew-roster-slash-lost.txt"
WAY = "captures/51-shore-tours-cookie-samesite.har"
VOID = {"meta", "hr", "link", "br", "img"}


class Read(HTMLParser):
    """A page read strictly: every element is closed in its turn."""

    def __init__(self, text: str) -> None:
        super().__init__(convert_charrefs=True)
        self.open: list[str] = []
        self.count: dict[str, int] = {}
        self.refers: list[str] = []
        self.ids: list[str] = []
        self.words: list[str] = []
        self.feed(text)
        self.close()
        assert not self.open

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.count[tag] = self.count.get(tag, 0) + 1
        told = dict(attrs)
        self.refers += [value for name in ("href", "src", "xlink:href", "action") if (value := told.get(name))]
        if told.get("id"):
            self.ids.append(str(told["id"]))
        assert not any(name.startswith("on") for name in told)
        if tag not in VOID:
            self.open.append(tag)

    def handle_startendtag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.handle_starttag(tag, attrs)
        if tag not in VOID:
            self.open.pop()

    def handle_endtag(self, tag: str) -> None:
        assert self.open.pop() == tag

    def handle_data(self, data: str) -> None:
        self.words.append(data)

    @property
    def text(self) -> str:
        return " ".join(self.words)


def reported(demo: Path) -> list[str]:
    """The captures that reports are made of."""
    names = sorted(f"captures/{path.name}" for path in (demo / "captures").iterdir())
    return names if os.environ.get("EVERY_CAPTURE") else sorted({*names[::5], BROKEN, WAY})


@pytest.fixture(scope="module")
def reports(demo: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """One page for every sign-in of some captures of the demo; of all where every capture is asked for."""
    folder = tmp_path_factory.mktemp("reports")
    done = run("report", *reported(demo), "--folder", str(folder / "all"), folder=demo)
    assert done.returncode == 1, done.stderr
    return folder / "all"


def pages(reports: Path) -> list[Path]:
    return sorted(reports.glob("*.html"))


def names_in(demo: Path) -> set[str]:
    """Every name of a person on record, and of whom a capture speaks."""
    there = load_workspace(demo)
    names = {spelling for app in there.apps.values() for row in app.accounts or () for spelling in row.spellings}
    _, told = run_json("diagnose", "captures", folder=demo)
    names |= {one["subject"] for one in told["attempts"] if one["subject"]}
    return {name for name in names if len(name) > 4 and not name.isdigit()}


def secrets_in(demo: Path) -> set[str]:
    """Cookies, codes and what was typed, as the exports of the demo hold them."""
    found: set[str] = set()
    for file in (demo / "captures").glob("*.har"):
        for entry in json.loads(file.read_text())["log"]["entries"]:
            heads = [*entry["request"]["headers"], *entry["response"]["headers"]]
            for head in heads:
                if head["name"].lower() in ("cookie", "set-cookie"):
                    found |= {part.partition("=")[2].partition(";")[0] for part in head["value"].split("; ")}
            query = parse_qsl(urlsplit(entry["request"]["url"]).query)
            body = parse_qsl((entry["request"].get("postData") or {}).get("text", ""))
            found |= {value for name, value in [*query, *body] if name in ("code", "SAMLResponse", "password")}
    return {value for value in found if len(value) >= 12}


def test_nobody_and_no_secret_is_in_a_report(reports: Path, demo: Path) -> None:
    names, secrets = names_in(demo), secrets_in(demo)
    assert len(names) > 20
    assert len(secrets) > 15
    for page in pages(reports):
        text = entities.unescape(page.read_text("utf-8"))
        assert not [secret for secret in secrets if secret in text], page.name
        assert not [name for name in names if re.search(rf"(?<![\w.@-]){re.escape(name)}(?![\w.@-])", text, re.I)], page


def test_every_page_is_whole_and_alone(reports: Path, demo: Path) -> None:
    assert len(pages(reports)) > len(reported(demo))
    files = {page.name for page in pages(reports)}
    for page in pages(reports):
        read = Read(page.read_text("utf-8"))
        assert read.count["h1"] == 1
        assert not {"script", "iframe", "object", "form", "link", "img"} & set(read.count)
        assert len(read.ids) == len(set(read.ids)), page.name
        for refers in read.refers:
            assert refers in files or refers[1:] in read.ids, (page.name, refers)


def test_the_index_leads_to_every_page_by_cause(reports: Path) -> None:
    read = Read((reports / "index.html").read_text("utf-8"))
    linked = [name for name in read.refers if not name.startswith("#")]
    assert sorted(linked) == sorted(page.name for page in pages(reports) if page.name != "index.html")
    assert "audience-mismatch" in read.text


def test_the_report_says_what_the_diagnosis_says(reports: Path, demo: Path) -> None:
    """The first break, its value and each stage stand in the page of every sign-in."""
    _, told = run_json("diagnose", *reported(demo), folder=demo)
    by_number = {page.name.partition("-")[0]: page for page in pages(reports) if page.name[0].isdigit()}
    for attempt in told["attempts"]:
        text = Read(by_number[attempt["id"]].read_text("utf-8")).text
        assert attempt["outcome"].upper() in text
        if attempt["first_break"]:
            assert attempt["first_break"] in text
        assert all(stage["stage"] in text for stage in attempt["stages"])


@pytest.mark.parametrize("form", ["md", "html"])
def test_both_forms(form: str, demo: Path, tmp_path: Path) -> None:
    target = tmp_path / f"report.{form}"
    done = run("report", WAY, "--output", str(target), folder=demo)
    assert (done.returncode, done.stdout) == (1, b"")
    text = target.read_text("utf-8")
    assert "SameSite=None; Secure" in text
    assert ("<svg" in text) == (form == "html")


def test_each_side_is_told_its_own(demo: Path) -> None:
    told = {
        side: run("report", BROKEN, "--for", side, folder=demo).stdout.decode()
        for side in ("application", "provider", "user")
    }
    assert "https://roster.northmere.example/saml/" in told["provider"]
    assert "account-near-match" not in told["provider"].replace("What others repair", "")
    assert "rewrite" in told["application"]
    assert "https://roster.northmere.example/saml" not in told["application"]
    assert "https://" not in told["user"]
    assert "a setting must be changed there" in told["user"]
    for text in told.values():
        assert "apps/" not in text
        assert "A-12" not in text


def test_what_is_open_is_asked_for(demo: Path) -> None:
    text = run("report", BROKEN, "--ask", folder=demo).stdout.decode()
    assert text.startswith("# What we need")
    assert "preserve log" in text
    lacking = run("report", "captures/18*", "--ask", "--for", "application", folder=demo).stdout.decode()
    assert "For the person" not in lacking


def test_revealed_reports_are_for_their_owner_only(demo: Path, tmp_path: Path) -> None:
    target = tmp_path / "open.md"
    target.write_text("")
    target.chmod(0o644)
    assert run("report", BROKEN, "--reveal", "--output", str(target), folder=demo).returncode == 1
    assert stat.S_IMODE(target.stat().st_mode) == 0o600
    assert "M.Tern@northmere.example" in target.read_text("utf-8")


WRONG: list[tuple[tuple[str, ...], int]] = [
    ((BROKEN, "--output", "x.txt"), 2),
    ((BROKEN, "--output", "x.md", "--folder", "y"), 2),
    ((BROKEN, "--for", "nobody"), 2),
    (("nothing.txt",), 3),
    (("README.md",), 3),
    (("captures/01*",), 0),
]


@pytest.mark.parametrize(("arguments", "status"), WRONG)
def test_how_it_ends(arguments: tuple[str, ...], status: int, demo: Path) -> None:
    done = run("report", *arguments, folder=demo)
    assert done.returncode == status
    assert b"Traceback" not in done.stderr


def blocks(text: str) -> Iterator[Any]:
    yield heading(text)
    yield prose(text)
    yield line(Span(text, "break"), text)
    yield Fact(text, text)
    yield Copied(text, label=text)
    yield table((text, text), [(text, Span(text, "ok"))])
    yield TwoValues((text, text), (text, text), ((0, 1), (0, 1)), text)
    yield Steps((text, text))


@given(st.text(max_size=40))
def test_whatever_stands_in_a_value_is_text(text: str) -> None:
    marked = f"<script>{text}\u202e</h2 onclick='x'>&amp;"
    read = Read(html.write(html.Page(marked, marked, blocks(marked), marked)))
    assert "script" not in read.count
    assert "\u202e" not in read.text
    assert "&amp;" in read.text


@given(
    st.sampled_from(["m.tern@northmere.example", "M.TERN@northmere.example", "skua", "x.y@z.example"]),
    st.text(max_size=10),
)
def test_a_person_has_one_stand_in(name: str, around: str) -> None:
    stand_ins = StandIns(People(Workspace(), []), Masks())
    first = stand_ins.person(name)
    assert stand_ins.person(name.swapcase()) == first
    assert name not in stand_ins.in_words(f"it was {name}, {around}")
    assert stand_ins.person("somebody.else@northmere.example") != first


def test_values_go_by_their_kind() -> None:
    stand_ins = StandIns(People(Workspace(), []), Masks())
    told = say("{who} is not in {what}", who=Person("m.tern"), what=Quotation("the list"))
    from trace_lens.handover.stand_ins import _replaced

    assert _replaced(told, stand_ins) == "person 1 is not in the list"
    assert _replaced(("as m.tern said",), stand_ins) == ("as person 1 said",)
    assert stand_ins.in_words("m.ternary") == "m.ternary"


def test_places_are_of_codes_that_there_are() -> None:
    codes = {entry.code: entry for entry in catalogue.everything()}
    from trace_lens.handover.places import _places

    for side, code in _places():
        sides = {str(each) for each in codes[code].remedies}
        assert sides & {side, "both"}, (side, code)
        assert usual_place(code, Side(side) if side in sides else Side.BOTH)


USER_TOLD = [
    ("captures/04*", "a setting must be changed", "look into it"),
    ("captures/60*", "look into it there", "setting"),
    ("captures/51*", "most likely stopped at Shore Tours", "will not help"),
    ("captures/01*", "went well", "stopped"),
]


@pytest.mark.parametrize(("capture", "said", "unsaid"), USER_TOLD)
def test_the_user_is_told_no_more_than_is_known(capture: str, said: str, unsaid: str, demo: Path) -> None:
    text = run("report", capture, "--for", "user", folder=demo).stdout.decode()
    assert said in text
    assert unsaid not in text


@pytest.mark.parametrize("name", ["m.tern-fails.txt", "case 7 M.Tern@northmere.example.txt", "m_m.tern.txt"])
def test_people_in_the_names_of_files_are_replaced(name: str, demo: Path, tmp_path: Path) -> None:
    (tmp_path / name).write_bytes((demo / BROKEN).read_bytes())
    done = run("report", str(tmp_path / name), folder=demo)
    assert b"tern" not in done.stdout.lower()
    assert b"person 1" in done.stdout


@pytest.mark.parametrize("side", ["application", "provider", "user"])
def test_no_file_of_the_workspace_is_named_to_a_side(side: str, demo: Path) -> None:
    text = run("report", "captures", "--for", side, folder=demo).stdout.decode()
    assert text.count("# Sign-in to") > 60
    found = re.findall(r"(?<![\w/])(?:apps|providers|metadata|certs|keys|discovery|accounts|assignments)/\S+", text)
    assert not found


def _brightness(colour: str) -> float:
    """The relative luminance of a colour (WCAG 2.2, section "relative luminance")."""
    parts = [int(colour[at : at + 2], 16) / 255 for at in (1, 3, 5)]
    red, green, blue = (part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4 for part in parts)
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue


def test_every_colour_of_a_page_can_be_read() -> None:
    """The contrast of each ink to its ground is 4.5 at the least (WCAG 2.2 §1.4.3), in light, in dark, on paper."""
    style = files("trace_lens.render").joinpath("templates", "page.css").read_text("utf-8")
    grounds = [
        dict(re.findall(r"--([\w-]+): (#[0-9a-f]{6})", block)) for block in re.findall(r":root \{([^}]*)\}", style)
    ]
    assert len(grounds) == 3
    for told in grounds:
        inks = [
            (ink, ground) for ink in ("ink", "quiet", "break", "risk", "ok", "link") for ground in ("ground", "field")
        ]
        for ink, ground in (*inks, ("mark-ink", "mark")):
            both = sorted((_brightness({**grounds[0], **told}[name]) for name in (ink, ground)), reverse=True)
            assert (both[0] + 0.05) / (both[1] + 0.05) >= 4.5, (ink, ground, told)


def test_the_letter_names_nobody_but_where_told(demo: Path) -> None:
    capture = "captures/24-quay-passes-works-request-and-answer.txt"
    masked = run("report", capture, "--ask", folder=demo).stdout.decode()
    revealed = run("report", capture, "--ask", "--reveal", folder=demo).stdout.decode()
    assert "Whose sign-in it is (person 1 here) you are told apart from this letter" in masked
    assert "@northmere.example" not in masked
    assert re.search(r"The person is `[a-z.]+@northmere\.example", revealed)
