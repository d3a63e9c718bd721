"""How the logs of the demo are to be read, and the codes that they use."""

from __future__ import annotations

CODES = {
    "A-11": ("the message is of another issuer than the one set", "intended", "application"),
    "A-12": ("the message is made out to another audience", "intended", "provider"),
    "A-13": ("another kind of token came where the ID token belongs", "intended", "application"),
    "A-14": ("no ID token came", "answered", "application"),
    "A-20": ("signed by a key that is not trusted here", "authentic", "application"),
    "A-21": ("the signature does not fit what was signed", "authentic", "provider"),
    "A-22": ("it is encrypted to another key", "readable", "provider"),
    "A-30": ("a claim that must be there is missing", "entitled", "provider"),
    "A-31": ("no role that is known here", "entitled", "provider"),
    "A-41": ("no account of that name", "identified", "application"),
    "A-50": ("a second factor was asked for and not used", "entitled", "provider"),
    "A-60": ("the message is from the future: the clocks differ", "current", "application"),
    "A-70": ("the browser brought no sign-in of ours back", "delivered", "application"),
}
"""The platform's own codes, in the organisation's words: meaning, stage, side."""


PROVIDER_CODES = {
    "D-1001": ("wrong password", "answered", "user"),
    "N-2207": ("nobody has assigned the application to this person", "entitled", "provider"),
    "O-14": ("the code verifier does not fit the challenge", "delivered", "application"),
    "O-15": ("the client's secret has ended", "answered", "application"),
    "O-16": ("the code was redeemed before", "delivered", "application"),
    "O-17": ("this redirect URI is not registered", "delivered", "application"),
}


PROVIDER = """name      = "Northmere ID sign-ins"
role      = "provider"
provider  = "northmere-id"
files     = ["logs/northmere-id-*.csv.gz"]
format    = "csv"
time_zone = "Europe/Oslo"

[fields]
time = "When"
user = "Account"
app  = "Target"
outcome = "Result"
code = "Code"
reason = "Message"
ip   = "From"
ids  = ["Request", "Session"]

[outcomes]
success = ["granted"]
failure = ["denied"]
"""


PLATFORM = """name   = "Application platform, sign-in history"
role   = "application"
files  = ["logs/platform*.jsonl"]
format = "jsonl"

[fields]
time = "ts"
user = "who.login"
app  = "service"
outcome = "result"
code = "error.code"
reason = "error.text"
ip   = "client"
ids  = ["request"]

[outcomes]
success = ["ok"]
failure = ["refused"]
"""


GATEWAY = """name   = "Gateway of the harbour"
role   = "gateway"
files  = ["logs/harbour-gate*.log"]
format = "syslog"

[fields]
user = "user"
app  = "host"
outcome = "verdict"
ip   = "src"
ids  = ["sid"]

[outcomes]
success = ["pass"]
failure = ["block"]
"""


SHORE_TOURS = """name   = "Shore Tours, web server"
role   = "application"
app    = "shore-tours"
files  = ["logs/shore-tours-access*.log"]
format = "combined"
"""


def dictionary(codes: dict[str, tuple[str, str, str]]) -> bytes:
    lines = [
        f'"{code}" = {{ means = "{means}", stage = "{stage}", side = "{side}" }}'
        for code, (means, stage, side) in codes.items()
    ]
    return ("\n[codes]\n" + "\n".join(lines) + "\n").encode()
