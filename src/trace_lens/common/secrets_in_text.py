"""Secrets inside running text: reasons in logs, error words, rows that could not be read.

Each rule is an expression and what takes its place. The expressions use nothing that a linear engine lacks, for a
database replaces by them too. Sources: RFC 6749 §10, RFC 6750 §5.3, RFC 7519 §3 and RFC 3986 §3.2.1 (what is secret);
names of fields as log formats and frameworks use them.
"""

from __future__ import annotations

import re

_NAMES = (
    "password|passwd|passphrase|passcode|pwd|client_?secret|secret|access_?token|refresh_?token|id_?token|token"
    "|device_code|user_code|code_verifier|authorization_code|session_?id|session_?token|jsessionid|phpsessid|sid"
    "|client_?assertion|assertion|samlresponse|samlrequest|samlart|relaystate|set-cookie|cookie|authorization"
    "|api_?key|otp|one_time_code|pin"
)
_VALUE = r"(?:\"(?:[^\"\\]|\\.)*\"?|'[^']*'?|[^\s\"'&;,<>]+)"
_NAMED = rf"(?i)\b({_NAMES})(\"?\s{{0,4}}(?:=|:|%3d)\s{{0,4}}){_VALUE}"
_ORDINARY = (
    "expired|invalid|incorrect|wrong|missing|mismatch(?:ed)?|not|no|none|is|was|has|have|had|denied|rejected|refused"
    "|required|unknown|failed|failure|error|accepted|ok|valid|verified|too|already|could|cannot|does|did|must|revoked"
    "|used|reused|malformed|empty|null|true|false|reset|changed|bad|old|new|for|from|signature|audience|issuer|timed"
    "|timeout|lost|found|created|ended|closed|started|disabled|enabled|locked|set|sent|the|a|an|unsupported|inactive"
)
"""What a system says of a token or password after a colon: words, no secrets."""
_KEPT = "\x01"
_HIDDEN = "[secret]"
RULES: tuple[tuple[str, str], ...] = (
    (r"[A-Za-z0-9+/_-]{120,}={0,2}", _HIDDEN),
    (r"eyJ[A-Za-z0-9_-]{6,120}\.[A-Za-z0-9_.-]*", _HIDDEN),
    (r"(?i)\b(bearer|basic|dpop|negotiate)\s+[A-Za-z0-9._~+/=-]{8,}", rf"\1 {_HIDDEN}"),
    (r"(?i)\b(bearer|basic|dpop|negotiate)%20[A-Za-z0-9._~+/=%-]{8,}", rf"\1 {_HIDDEN}"),
    (rf"(?i)\b({_NAMES})(\s{{0,2}}:\s{{0,2}})({_ORDINARY})\b", rf"\1{_KEPT}\2\3"),
    (_NAMED, rf"\1\2{_HIDDEN}"),
    (_KEPT, ""),
    (r"([?&#]code=)[^\s&\"'<>#]+", rf"\1{_HIDDEN}"),
    (r"//[^\s/@:\"'<>]+:[^\s/@\"'<>]*@", rf"//{_HIDDEN}@"),
)
"""Expressions, in order, and what takes the place of what they find."""
_SIGNS = ("", "eyJ", " ", "%20", ":", "", _KEPT, "code=", "//")
"""Without this in a text, its rule finds nothing."""
_OPAQUE = r"[A-Za-z0-9+/_=~-]{16,}"


def without_secrets(text: str) -> str:
    """The text with tokens, codes, passwords, cookies and session ids hidden, as far as their form or name tells."""
    for sign, (pattern, put) in zip(_SIGNS, RULES, strict=True):
        if sign in text:
            text = re.sub(pattern, put, text)
    return text


_TOKENS: tuple[tuple[str, str, str], ...] = (
    ("eyJ", r"eyJ[A-Za-z0-9_-]{6,2000}\.[A-Za-z0-9_-]{4,}+[A-Za-z0-9_.-]*+", _HIDDEN),
    ("@", r"//[^\s/@:\"'<>\[]++:[^\s/@\"'<>]*+@", f"//{_HIDDEN}@"),
    (";", r";(?i:(jsessionid|phpsessid))=[^\s/;?#\"']++", rf";\1={_HIDDEN}"),
    ("code=", r"([?&#]code=)[^\s&\"'<>#\[]++", rf"\1{_HIDDEN}"),
)


def without_tokens(text: str) -> str:
    """A whole output with what its form alone tells to be a secret hidden: a net under what each part hides itself."""
    for sign, pattern, put in _TOKENS:
        if sign in text:
            text = re.sub(pattern, put, text)
    return text


def without_opaque(text: str) -> str:
    """The same, and whatever has the form of an id hidden too: for text that holds secrets nobody can tell where."""
    return re.sub(_OPAQUE, _HIDDEN, without_secrets(text))
