"""Every limit that keeps hostile or huge input from doing harm, in one place.

A part that refuses something because of a limit names the limit's value in its message.
"""

SOURCE_BYTES = 128 * 1024 * 1024
"""Largest single source that is read whole, in bytes."""

XML_BYTES = 10 * 1024 * 1024
"""Largest XML message that is parsed, in bytes."""

METADATA_BYTES = 128 * 1024 * 1024
"""Largest metadata file that is streamed, in bytes."""

LISTED_ENTITIES = 500
"""Most entities of a metadata file that `decode` lists one by one; the others are counted."""

XML_DEPTH = 100
"""Deepest nesting of elements in a message."""

INFLATED_BYTES = 10 * 1024 * 1024
"""Most bytes that one DEFLATE or gzip layer may unfold to."""

PEEL_LAYERS = 8
"""Most layers of encoding that are peeled off one blob."""

PEEL_READINGS = 120
"""Most readings of one blob that are tried before giving up."""

PARTS = 200
"""Most messages that are taken apart from one text."""

SIGNATURES = 20
"""Most XML signatures that are looked at in one message."""

REGEX_INPUT = 1000
"""Longest name, in characters, that a rewriting rule of the workspace is applied to."""

LIST_ROWS = 2_000_000
"""Most rows of an account or assignment list."""

RELAY_STATE_BYTES = 80
"""SAML 2.0 Bindings §3.4.3: relay state must not exceed 80 bytes."""

SHORT_SESSION_SECONDS = 30 * 60
"""A session that the provider ends sooner than this, after the sign-in, surprises people."""

EARLIER_SESSION_SECONDS = 5 * 60
"""Authenticated this long before the message was issued: an earlier session was used."""

SHOWN_VALUE = 400
"""Longest value, in characters, that the terminal shows whole."""

JSON_DEPTH = 64
"""Deepest nesting of a JSON document."""

TOKEN_CHARACTERS = 8 * 1024 * 1024
"""Longest token, in characters, that is read."""

PBES2_COUNT = 100_000
"""Most rounds of a key derivation from a password (RFC 7518 §4.8.1.2) that a token may ask for."""

HEADER_BYTES = 8 * 1024
"""What common servers take as one header: a token that is longer does not fit into one."""

COOKIE_BYTES = 4096
"""What browsers take as one cookie (RFC 6265 §6.1)."""
