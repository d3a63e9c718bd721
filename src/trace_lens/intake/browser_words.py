"""What a browser says of a request that got no answer, in every browser's spelling, brought to one kind each.

Sources: the network error lists of Chromium (net::ERR_…), Gecko (NS_ERROR_…, NS_BINDING_…, SEC_ERROR_…, SSL_ERROR_…,
MOZILLA_PKIX_…) and WebKit (sentences). A word that is not listed is `other`: it says that no answer came, not why.
"""

from __future__ import annotations

from enum import StrEnum

from trace_lens.common.expressions import expression


class Trouble(StrEnum):
    """Why a request got no answer, as far as the browser's own word tells."""

    NAME = "name"
    REFUSED = "refused"
    TIMEOUT = "timeout"
    TLS = "tls"
    TLS_UNTRUSTED = "tls-untrusted"
    TLS_NAME = "tls-name"
    TLS_DATE = "tls-date"
    LOOP = "loop"
    ABORTED = "aborted"
    FAILED = "failed"
    POLICY = "policy"
    CROSS_ORIGIN = "cross-origin"
    FRAME = "frame"
    MIXED = "mixed"
    OFFLINE = "offline"
    OTHER = "other"


_KINDS: tuple[tuple[Trouble, str], ...] = (
    (
        Trouble.NAME,
        r"ERR_NAME_NOT_RESOLVED|ERR_NAME_RESOLUTION_FAILED|ERR_DNS_|NS_ERROR_UNKNOWN_(?:PROXY_)?HOST"
        r"|server with the specified hostname could not be found",
    ),
    (
        Trouble.OFFLINE,
        r"ERR_INTERNET_DISCONNECTED|ERR_NETWORK_CHANGED|ERR_NETWORK_IO_SUSPENDED|NS_ERROR_OFFLINE"
        r"|connection appears to be offline",
    ),
    (Trouble.TIMEOUT, r"ERR_(?:CONNECTION_)?TIMED_OUT|NS_ERROR_NET_TIMEOUT|request timed out"),
    (Trouble.TLS_NAME, r"ERR_CERT_COMMON_NAME_INVALID|SSL_ERROR_BAD_CERT_DOMAIN"),
    (
        Trouble.TLS_DATE,
        r"ERR_CERT_DATE_INVALID|SEC_ERROR_EXPIRED_(?:ISSUER_)?CERTIFICATE"
        r"|MOZILLA_PKIX_ERROR_NOT_YET_VALID_(?:ISSUER_)?CERTIFICATE",
    ),
    (Trouble.TLS_UNTRUSTED, r"ERR_CERT_|SEC_ERROR_|MOZILLA_PKIX_|certificate for this server is invalid"),
    (Trouble.TLS, r"ERR_SSL_|ERR_BAD_SSL_|SSL_ERROR_|NS_ERROR_NET_INADEQUATE_SECURITY|TLS error|SSL error"),
    (
        Trouble.REFUSED,
        r"ERR_CONNECTION_(?:REFUSED|RESET|CLOSED|ABORTED|FAILED)|ERR_ADDRESS_UNREACHABLE"
        r"|ERR_EMPTY_RESPONSE|NS_ERROR_CONNECTION_REFUSED|NS_ERROR_NET_(?:RESET|INTERRUPT|EMPTY_RESPONSE)"
        r"|[Cc]ould not connect to the server|network connection was lost",
    ),
    (Trouble.LOOP, r"ERR_TOO_MANY_REDIRECTS|NS_ERROR_REDIRECT_LOOP|too many HTTP redirects"),
    (
        Trouble.FRAME,
        r"ERR_BLOCKED_BY_RESPONSE|NS_ERROR_XFO_VIOLATION|NS_ERROR_CSP_FRAME_ANCESTOR_VIOLATION"
        r"|NS_ERROR_(?:BLOCKED_BY_POLICY|DOM_(?:COEP|CORP)_FAILED)",
    ),
    (Trouble.POLICY, r"ERR_BLOCKED_BY_CSP|\bcsp\b|NS_ERROR_(?:CSP_|CONTENT_BLOCKED)|Content Security Policy"),
    (Trouble.MIXED, r"mixed.?content|NS_ERROR_MIXED_CONTENT"),
    (Trouble.CROSS_ORIGIN, r"\bcors\b|NS_ERROR_DOM_BAD_(?:URI|CROSS_ORIGIN)|CORS|Access-Control|cross-origin"),
    (Trouble.ABORTED, r"ERR_ABORTED|NS_BINDING_ABORTED|NS_ERROR_ABORT|^canceled$|\bcancelled\b"),
    (Trouble.FAILED, r"ERR_FAILED|NS_ERROR_FAILURE"),
)
_PATTERNS = tuple((kind, expression(pattern)) for kind, pattern in _KINDS)


def trouble_of(words: str) -> Trouble:
    """The kind of trouble that a browser's words tell."""
    return next((kind for kind, pattern in _PATTERNS if pattern.search(words)), Trouble.OTHER)
