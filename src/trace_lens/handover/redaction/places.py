"""What stands under a name: a secret of some kind, a person, or something that nothing is known of."""

from __future__ import annotations

import re
from functools import lru_cache

from trace_lens.common.expressions import expression
from trace_lens.common.personal import names_person
from trace_lens.common.secret_names import PARAMETERS

TOKEN, PASSWORD, CODE, COOKIE, SECRET, PERSON, PERSONAL, KEPT, ANY = (
    "token",
    "password",
    "code",
    "cookie",
    "secret",
    "person",
    "personal",
    "kept",
    "any",
)
"""Kinds of places. What is `personal` is replaced to the last digit (a date of birth, a number to call)."""
SECRETS = frozenset({TOKEN, PASSWORD, CODE, COOKIE, SECRET})
_CODES = {"code", "user_code", "device_code", "otp", "pin", "one_time_code", "authorization_code", "auth_req_id"}
_PASSWORD = expression(r"j?(?:pass(?:word|wd|phrase|code|e|wort)?|pwd|kennwort|contrase\w+)\d*")
_SECRET_ENDS = (
    *("secret", "privatekey", "apikey", "signingkey", "accesskey", "secretkey", "verifier", "credential"),
    *("credentials", "sessiontoken", "sessionkey", "jsessionid", "phpsessid", "authenticitytoken"),
    *("requestverificationtoken",),
)
_SECRET_PARTS = frozenset({"auth", "authorization", "sig"})
_PASSWORD_ENDS = ("password", "passwd", "passphrase", "passwort")
_PARTS = expression(r"[A-Z]+(?![a-z])|[A-Z]?[^\W_A-Z\d]+\d*|\d+|[^\W_]+")
"""The words of a name, whether parted by signs or by capitals."""
_PERSONAL = expression(
    r"(?:.*[/:._-])?(?:birth_?date|date_?of_?birth|dob|phone\w*|mobile|telephone\w*|fax|street\w*|postal\w*|zip\w*"
    r"|locality|address|home_?address|formatted|picture|photo|avatar|middle_?name|gecos|ssn|national_?id"
    r"|social_?security\w*|passport\w*|salary|gender|manager|department_?head|iban)",
    re.IGNORECASE,
)
_PEOPLE = expression(
    r"(?:.*[/:._-])?(?:first_?name|last_?name|full_?name|user_?id|user_?email|username|user|login|principal|who|actor"
    r"|author|contact\w*|owner|person|employee\w*|j_username|remote_?user|x-user\w*|x-remote-user|x-forwarded-user)",
    re.IGNORECASE,
)
_KEPT_NAMES = frozenset(
    [
        "alg",
        "typ",
        "kty",
        "crv",
        "use",
        "enc",
        "cty",
        "x5t",
        "x5t#S256",
        "x5c",
        "exp",
        "iat",
        "nbf",
        "auth_time",
        "expires_in",
        "token_type",
        "grant_type",
        "response_type",
        "response_mode",
        "code_challenge_method",
        "Version",
        "version",
        "IssueInstant",
        "NotBefore",
        "NotOnOrAfter",
        "AuthnInstant",
        "SessionNotOnOrAfter",
        "mimeType",
        "httpVersion",
        "startedDateTime",
        "_resourceType",
        "resourceType",
        "scheme",
        "sameSite",
        "expires",
        "httpOnly",
        "secure",
        "encoding",
        "compression",
        "bodySize",
        "headersSize",
        "size",
        "wait",
        "receive",
        "send",
        "ssl",
        "connect",
        "dns",
        "blocked",
        "amr",
        "acr",
        "prompt",
        "max_age",
    ]
)
_KEPT_HEADERS = frozenset(
    [
        "date",
        "content-type",
        "content-length",
        "content-encoding",
        "transfer-encoding",
        "accept",
        "accept-encoding",
        "accept-language",
        "accept-charset",
        "connection",
        "vary",
        "pragma",
        "cache-control",
        "age",
        "expires",
        "last-modified",
        "strict-transport-security",
        "x-content-type-options",
        "x-frame-options",
        "x-xss-protection",
        "sec-fetch-dest",
        "sec-fetch-mode",
        "sec-fetch-site",
        "sec-fetch-user",
        "sec-ch-ua",
        "sec-ch-ua-mobile",
        "sec-ch-ua-platform",
        "upgrade-insecure-requests",
        "te",
        "dnt",
        "keep-alive",
        "access-control-allow-methods",
        "access-control-allow-credentials",
        "access-control-max-age",
        "retry-after",
    ]
)


@lru_cache(maxsize=20_000)
def place_of(name: str) -> str:
    """What kind of value stands under a name: of a parameter, claim, attribute, member, column or field."""
    last = re.split(r"[.\[]", name.strip())[-1].rstrip("]") or name
    small = last.casefold()
    if name in _KEPT_NAMES:
        return KEPT
    if small in _CODES:
        return CODE
    parts = [part.casefold() for part in _PARTS.findall(last)]
    if small.endswith(_PASSWORD_ENDS) or any(_PASSWORD.fullmatch(part) for part in parts):
        return PASSWORD
    if (small in PARAMETERS and small != "request") or small.endswith("token"):
        return TOKEN
    if "".join(parts).endswith(_SECRET_ENDS) or not _SECRET_PARTS.isdisjoint(parts[-1:]):
        return SECRET
    if any(part.startswith(("csrf", "xsrf")) for part in parts):
        return SECRET
    if _PERSONAL.fullmatch(last):
        return PERSONAL
    if names_person(last) or names_person(name) or _PEOPLE.fullmatch(last):
        return PERSON
    return ANY


def is_kept_header(name: str) -> bool:
    """Whether a header tells nothing of anybody."""
    return name.casefold() in _KEPT_HEADERS
