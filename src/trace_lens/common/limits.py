"""Every limit that keeps hostile or huge input from doing harm, in one place.

A part that refuses something because of a limit names the limit's value in its message.
"""


class Refused(ValueError):
    """Something is beyond a limit; the message says what, and names the limit's value."""


SOURCE_BYTES = 128 * 1024 * 1024
"""Largest single source that is read whole, in bytes."""

SOURCES_HELD = 2_000
"""So many sources of one run are held in memory; further ones are read again where they are needed."""

XML_BYTES = 10 * 1024 * 1024
"""Largest XML message that is parsed, in bytes."""

XML_TAGS = 400_000
"""Most tags of one XML message."""

METADATA_BYTES = 128 * 1024 * 1024
"""Largest metadata file that is streamed, in bytes."""

LISTED_ENTITIES = 500
"""Most entities of a metadata file that `decode` lists one by one; the others are counted."""

XML_DEPTH = 100
"""Deepest nesting of elements in a message."""

INFLATED_BYTES = 10 * 1024 * 1024
"""Most bytes that one DEFLATE or gzip layer may unfold to."""

FINDINGS_OF_KIND = 25
"""Most findings of one code that an output lists for one attempt; how many more there are is said."""

EVIDENCE_OF_FINDING = 25
"""Most pieces of evidence that an output lists for one finding; how many more there are is said."""

LISTED_CLAIMS = 200
"""Most claims that an output lists for one attempt or message; how many more there are is said."""

LISTED_ELEMENTS = 5_000
"""Most elements of one XML message that `decode` lays open; how many more there are is said."""

CERTIFICATES = 2_000
"""Most certificates that are read of one text."""

MESSAGES_LEAST, BYTES_OF_MESSAGE = 2_000, 256
"""Of a text so many messages are taken in any case, and one more for so many bytes of it; more in it is refused."""

LOGGED_LINES = 40_000
"""Most requests that are taken from lines of a web server's log; a longer one is loaded as a log, not diagnosed."""

BYTES_OF_COMMAND = 1024
"""The same for shell commands: those that browsers write are longer."""

HEADER_FIELDS = 5_000
"""Most header fields of one request or response in a text."""

KEYS_OF_SET = 5_000
"""Most keys of one key set."""

PEEL_LAYERS = 8
"""Most layers of encoding that are peeled off one blob."""

PEEL_READINGS = 120
"""Most readings of one blob that are tried before giving up."""

PEELED_BYTES = 160 * 1024 * 1024
"""Most bytes that all readings of one blob may have together."""

PARAMETERS = 5_000
"""Most parameters of one address or form."""

PARTS = 100_000
"""Most messages that are taken apart from one text; what lies beyond is told."""

BARREN_PARTS = 1_000
"""So many parts of one text, or tokens in it, may hold no message; where there are more, the rest is not looked at."""

RSA_BITS = 16_384
"""Largest RSA modulus of a bare key in a message that is tried."""

COMPARED_PARTS = 40
"""Up to this many messages of one text are compared with each other, to find those that are cut copies."""

TRIED_TIMES = 16
"""So many times over a text is gone through for beginnings without an end before it is refused."""

REPEATED_FIELDS = 8
"""Most further values of one form field that are looked at."""

KEYS_BROUGHT = 20
"""Most keys and certificates that come with one signature which are tried; none of them is ever trusted."""

ALTERED_BYTES = 1024 * 1024
"""Largest message in which it is tried whether the capture altered what was signed, in bytes."""

SIGNATURES = 20
"""Most XML signatures that one message may hold."""

SIGNED_BYTES = 20 * 1024 * 1024
"""The size of a message times the number of its signatures may not be more than this."""

ADDRESS_CHARACTERS = 320
"""Longest e-mail address (RFC 5321 §4.5.3.1: 64 octets of local part, 255 of domain); longer names are no guests."""

LOG_LINE = 4 * 1024 * 1024
"""Longest line of a log, in characters."""

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

CAPTURE_BYTES = 1024 * 1024 * 1024
"""Most bytes of a browser export, unpacked, that are streamed."""

CAPTURE_EXCHANGES = 400_000
"""Most exchanges of one browser export that are read."""

KEPT_BODY_BYTES = 4 * 1024 * 1024
"""Largest body of one exchange that is searched for messages."""

KEPT_PAGES_BYTES = 64 * 1024 * 1024
"""Most bytes of pages without a message in them that are kept of one export."""

PAGE_HEAD_BYTES = 2048
"""What is kept of a page in any case: its title stands there."""

PAGE_BYTES = 512 * 1024
"""How much of a page is looked at for forms, jumps and words."""

PAGE_TEXT = 20_000
"""How much of a page's text is searched for what it says, in characters."""

PAGE_LINKS = 2_000
"""How many links of a page are looked at."""

PLAIN_PAGE_BYTES = 64 * 1024
"""How much is kept of a page that leads nowhere by itself: what it says stands there."""

PAGE_WORDS = 160
"""How much of a page's text is shown, in characters."""

URL_BYTES = 8 * 1024
"""What common servers take as one request line."""

DATES_AGREE_SECONDS = 5.0
"""The Date fields of one host count as agreeing within this; a clock that is off by less counts as right."""

CODE_SECONDS = 10 * 60
"""The longest that an authorization code should live (RFC 6749 §4.1.2)."""

LAX_POST_SECONDS = 120
"""How long browsers still send a cookie without SameSite with a cross-site post after it was set."""

COOKIES_OF_DOMAIN = 180
"""Most cookies of one site that common browsers keep."""

COOKIE_DAYS = 400
"""The longest that a cookie may be kept (draft-ietf-httpbis-rfc6265bis §5.5)."""

STREAMED_BYTES = 16 * 1024 * 1024
"""A source larger than this that begins as a browser export is streamed, not read whole."""

SHOWN_HOPS = 40
"""Most hops that the terminal shows of one attempt; the ones in the middle are folded."""

LOOP_VISITS = 3
"""So many times by itself to the same address without any message is going round in a loop."""

PERSON_SECONDS = 2.0
"""A pause between two hops that is longer than this is taken for a person's."""

REMEMBERED_WORKSPACES = 200
"""So many workspaces are remembered as valid in the user's cache; the oldest ones are forgotten."""
ADDED_ENTITIES = 500
"""How many entities of one metadata file are put on record at once, without one being picked."""

CHOICES = 10_000
"""So many choices of an application by what a message says are remembered in a run."""

FETCH_SECONDS = 20.0
"""The time for one document from an address, in seconds, with all redirects."""

RECEIVED_BYTES = 20 * 1024 * 1024
"""The most that the receiver takes in one request."""

FETCHED_BYTES = 32 * 1024 * 1024
"""Largest document that is fetched, in bytes."""

REDIRECTS = 8
"""Most redirects that are followed to a document."""

REHEARSED_HOPS = 60
"""Most requests of one rehearsed sign-in."""
PASTED_LINES = 20_000
"""A paste of so many lines at most is looked at for marks before each line, and for a dump of octets."""
