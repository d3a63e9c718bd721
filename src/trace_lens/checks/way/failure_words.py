"""How a page says that nobody was let in: in its title, headings or alerts, or as nearly all that it says.

Words of a page's body count only where it says little else: a page that works has more to say than one sentence. The
words are data, in `failure_words.toml`.
"""

from __future__ import annotations

import json
import re
from functools import cache
from pathlib import Path
from typing import Any
from urllib.parse import parse_qsl

from trace_lens.common.expressions import expression
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.exchanges import Exchange
from trace_lens.intake.pages import PageText

_FILE = Path(__file__).with_name("failure_words.toml")
_ABOUT_SIGN_IN = (
    r"(?:sign(?:ed|ing)?|log(?:ged|ging)?|logg)[- ]?(?:you )?(?:in|on)\b|login(?!s\b)|logon(?!s\b)|authenticat\w{0,12}"
    r"|single sign|\bSSO\b|\bSAML\b|\bOIDC\b"
)
_WENT_WRONG = (
    r"\b(?:fail(?:ed|ure)?|error|denied|rejected|refused|not possible|problem|unsuccessful|invalid|expired"
    r"|could ?n[o']t|could not|cannot|can't|unable|went wrong|not (?:allowed|authori[sz]ed|permitted|valid|found))\b"
)
_FAILED = expression(
    rf"(?:{_ABOUT_SIGN_IN}).{{0,60}}{_WENT_WRONG}|{_WENT_WRONG}.{{0,60}}(?:{_ABOUT_SIGN_IN})"
    r"|^\W*(?:\d{3}\W+)?(?:access (?:is |was )?(?:denied|refused)|no access|forbidden|unauthori[sz]ed|not authori[sz]ed"
    r"|permission denied|no (?:such )?account|account (?:not found|unknown|disabled|locked|is (?:disabled|locked)))\W*$"
    r"|\bsession (?:was |has (?:been )?|is |could )?(?:not (?:be )?found|lost|invalid|expired)\b"
    r"(?!\W+(?:for|of|in|at|by)\b)",
    re.IGNORECASE,
)
WRONG = expression(_WENT_WRONG, re.IGNORECASE)
ADVICE = expression(
    r"\?\s*$|\b(?:if|when|whenever|in case|should you|having|wenn|falls|hvis|dersom|om du|si)\b"
    r"|\bno \w+ (?:is |are )?(?:needed|required|necessary)\b",
    re.IGNORECASE,
)
"""What marks a sentence as a question or as advice for a case that need not have come."""
SENTENCE = expression(r"(?<=[.!?])\s+|(?<=[。！？])\s*")
_LITTLE = 600
"""A page of so many characters at most says little besides one thing."""
_FEW_LINKS = 8
_ONE_THING, _OFFERS = 220, 3
"""A page with so many characters and links at most has one thing to say."""
_LABEL = expression(r"[:–]\s*\d")
"""What stands before a number in a table: no statement."""
_STATEMENT = 400
"""What is said loudly, or in one sentence, is said in so many characters."""
_ERROR_NAME = expression(r"(?:\w*_)?err(?:or)?(?:_?(?:code|description|message|msg|reason|type))?", re.IGNORECASE)
_TOLD_NAME = expression(r"(?:\w*_)?(?:reason|message|msg|status|login|auth|result|notice|flash)", re.IGNORECASE)
"""How parameters of an address are called that tell of an error, and those that may."""
_MEMBERS = ("error", "errors", "error_description")
_IN_WORDS = ("error_description", "message", "detail", "title", "error", "reason")


class _Words(NamedTuple):
    sentences: re.Pattern[str]
    abroad: re.Pattern[str]
    whole: re.Pattern[str]
    welcomes: re.Pattern[str]
    anywhere: re.Pattern[str]
    plain: tuple[tuple[re.Pattern[str], re.Pattern[str]], ...]


@cache
def _words() -> _Words:
    import tomli

    languages = tomli.loads(_FILE.read_text("utf-8"))
    rows = list(languages.values())
    abroad = "|".join(f"(?:{text})" for name, row in languages.items() if name != "en" for text in row["sentences"])
    listed = [
        [text for row in rows for text in row.get(key, ())] for key in ("sentences", "whole", "welcomes", "anywhere")
    ]
    sentences, whole, welcomes, anywhere = ("|".join(f"(?:{text})" for text in texts) for texts in listed)
    return _Words(
        expression(sentences, re.IGNORECASE),
        expression(abroad, re.IGNORECASE),
        expression(rf"\W*(?:{whole})\W*", re.IGNORECASE),
        expression(welcomes, re.IGNORECASE),
        expression(anywhere),
        tuple(
            (expression(row["about"], re.IGNORECASE), expression(row["amiss"], re.IGNORECASE))
            for row in rows
            if "about" in row
        ),
    )


def says_failure(shown: PageText) -> str | None:
    """What a page says of a failure to sign in, in its title, headings or alerts; None where it does not.

    On a page with much on it only what speaks of signing in counts: "No user found" may be what a search found.
    """
    if len(shown.text) <= _LITTLE:
        return next((words for words in shown.said_loudly if _fails(words)), None)
    return next((words for words in shown.said_loudly if _fails_to_sign_in(words)), None)


def says_only_failure(shown: PageText, *, named: bool) -> str | None:
    """What a page that has nothing for somebody signed in says of a failure, where that is nearly all that it says.

    `named` tells that it names the person, as refusals do too.
    """
    little = len(shown.text) <= _LITTLE and len(shown.links) <= _FEW_LINKS
    if little:
        said = (sentence.strip() for block in shown.blocks for sentence in SENTENCE.split(block))
        told = next((words for words in said if words and _fails(words) and not ADVICE.search(words)), None)
        told = told or _says_one_thing(shown)
        if told:
            return told
    if named:
        return None
    heads = (shown.title, *shown.headings[:1], *(shown.alerts if little else ()))
    if shown.text and any(words and _is_wholly_failure(words) for words in heads):
        return shown.text
    trace = _words().anywhere.search(shown.text[:4_000])
    return shown.text[trace.start() :] if trace else None


def _says_one_thing(shown: PageText) -> str | None:
    """The sentence by which a page with one statement says that signing in is amiss; None where it says more."""
    text = shown.text
    for head in (shown.title, *shown.headings[:1]):
        text = text.removeprefix(head).strip() if head and len(head) < len(text) else text
    if len(text) > _ONE_THING or len(shown.links) > _OFFERS or _LABEL.search(text):
        return None
    rest = [block for block in shown.blocks if block not in (shown.title, *shown.headings)] or shown.blocks
    for sentence in (sentence for block in rest for sentence in SENTENCE.split(block)):
        told = sentence.strip()[:_STATEMENT]
        if told and not ADVICE.search(told) and any(a.search(told) and b.search(told) for a, b in _words().plain):
            return told
    return None


def says_welcome(shown: PageText) -> str | None:
    """What a page says of a sign-in that went through, in a heading or as nearly all that it says."""
    said = [*shown.headings, *(shown.blocks if len(shown.text) <= _LITTLE else ())]
    return next((words for words in said if _words().welcomes.search(words[:_STATEMENT])), None)


def _is_wholly_failure(words: str) -> bool:
    """Whether the first sentence of a title, heading or alert says that something failed, and nothing else."""
    return _words().whole.fullmatch(SENTENCE.split(words.strip(), maxsplit=1)[0]) is not None


def failure_in_address(exchange: Exchange) -> str | None:
    """What the address of a page of the application tells as an error, in words; None where it tells none.

    A parameter is called an error by its name, or its value says that signing in failed.
    """
    told = []
    for name, value in parse_qsl(exchange.parts.query):
        words = re.sub(r"[_+-]+", " ", re.sub(r"(?<=[a-z])(?=[A-Z])", " ", value)).strip()
        if not words or words.casefold() in ("0", "false", "none", "null", "no"):
            continue
        if _ERROR_NAME.fullmatch(name) or (_TOLD_NAME.fullmatch(name) and _fails(words)):
            told.append(words)
    return ": ".join(dict.fromkeys(told)) or None


def failure_in_json(exchange: Exchange) -> str | None:
    """What a JSON object that was shown as a page tells as its error; None where it tells none, or is no object."""
    told = _object_in(exchange)
    found = next((told[name] for name in _MEMBERS if told.get(name)), None)
    failed = told.get("success", told.get("ok")) is False or told.get("status") in (
        "error",
        "failed",
        "failure",
        "denied",
    )
    if found is None and failed:
        found = told.get("message") or told
    return None if found is None else found if isinstance(found, str) else json.dumps(found, ensure_ascii=False)


def error_in_json(exchange: Exchange) -> str | None:
    """What the JSON object of an error answer says in words (also RFC 9457 §3.1); None where it says nothing so."""
    told = _object_in(exchange)
    inner = next((value for name in ("error", "errors") if isinstance(value := told.get(name), dict)), {})
    said = [value for held in (told, inner) for name in _IN_WORDS if isinstance(value := held.get(name), str) and value]
    words = [text for text in said if " " in text.strip()] or said[:1]  # beside words, a code says no more
    return ". ".join(text.rstrip(". ") for text in dict.fromkeys(words)) or None


def _object_in(exchange: Exchange) -> dict[str, Any]:
    if not exchange.answer or exchange.answer.lstrip()[:1] != b"{":
        return {}
    try:
        told = json.loads(exchange.text)
    except (ValueError, RecursionError):
        return {}
    return told if isinstance(told, dict) else {}


def _fails_to_sign_in(words: str) -> bool:
    return _FAILED.search(words) is not None or _words().abroad.search(words[:_STATEMENT]) is not None


def _fails(words: str) -> bool:
    return _FAILED.search(words) is not None or _words().sentences.search(words[:_STATEMENT]) is not None
