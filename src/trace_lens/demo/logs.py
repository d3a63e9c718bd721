"""What four systems wrote down in the fortnight, some 40,000 events: the captured sign-ins, and everybody else's.

The provider writes CSV in local time, the platform of the applications JSON Lines in milliseconds, the gateway of the
harbour syslog by a clock that is nine minutes ahead, and the server of Shore Tours a combined access log. Each writes
people and applications in its own way, and not every line carries an id.
"""

from __future__ import annotations

import csv
import gzip
import io
import json
import random
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from urllib.parse import urlsplit
from zoneinfo import ZoneInfo

from trace_lens.demo.captured import Capture
from trace_lens.demo.clients import CLIENTS
from trace_lens.demo.diary import Entry
from trace_lens.demo.log_descriptions import CODES, GATEWAY, PLATFORM, PROVIDER, PROVIDER_CODES, SHORE_TOURS, dictionary
from trace_lens.demo.scenario import APPLICATIONS, BY_ID, GUESTS, HOME, PARTNER, PEOPLE, ROLLOVER

AHEAD = timedelta(minutes=9, seconds=4)
"""How far the gateway's clock is ahead."""
SIGN_INS = 8_600
_BEGIN = datetime(2026, 11, 9, tzinfo=UTC)
_OSLO = ZoneInfo("Europe/Oslo")
_NEVER = datetime(2027, 1, 1, tzinfo=UTC)
_OLD_KEY_ONLY = {
    "berth-planner": _NEVER,
    "fuel-ledger": _NEVER,
    "weather-desk": datetime(2026, 11, 17, 14, 10, tzinfo=UTC),
}
"""The applications that trust the old signing key only, and when that was repaired."""
_OFFICE = "192.0.2.20"
"""The office of which Slip Booking loses the cookies."""
_BIRDS = (
    "auk",
    "brant",
    "bunting",
    "curlew",
    "diver",
    "dotterel",
    "fieldfare",
    "godwit",
    "goldeneye",
    "goosander",
    "guillemot",
    "knot",
    "lapwing",
    "merganser",
    "murre",
    "noddy",
    "osprey",
    "pipit",
    "puffin",
    "rail",
    "redshank",
    "ruff",
    "sanderling",
    "scaup",
    "scoter",
    "shag",
    "smew",
    "snipe",
    "stint",
    "turnstone",
    "whimbrel",
    "wigeon",
)
_SHORE = "shore-tours"
_NOT_PLATFORM = {_SHORE, "gangway"}
"""Applications that do not run on the platform: one is hosted elsewhere, one is a program on a desk."""
_REFUSED = {
    "04": "A-12",
    "05": "A-31",
    "06": "A-31",
    "07": "A-30",
    "08": "A-41",
    "09": "A-20",
    "10": "A-20",
    "12": "A-60",
    "14": "A-11",
    "15": "A-21",
    "16": "A-21",
    "17": "A-41",
    "22": "A-22",
    "23": "A-12",
    "25": "A-50",
    "28": "A-20",
    "32": "A-30",
    "35": "A-31",
    "36": "A-20",
    "42": "A-50",
    "43": "A-13",
    "45": "A-14",
    "51": "403",
    "52": "A-70",
    "53": "A-70",
    "54": "A-70",
    "66": "A-12",
}
"""What the application wrote of the captured sign-ins that it refused, by the number of the capture."""
_DENIED = {
    "13": "N-2207",
    "31": "O-14",
    "38": "O-15",
    "40": "O-16",
    "46": "O-17",
    "48": "N-2207",
    "57": "O-14",
    "59": "N-2207",
}
"""What the provider wrote of those that it refused."""
_NEVER_CAME = {"13", "29", "38", "46", "48", "59", "40"}
"""Captured sign-ins that never reached the application whole: it wrote nothing."""


@dataclass(frozen=True, slots=True)
class _SignIn:
    """One sign-in as the systems saw it; `denied` and `refused` are the codes of provider and application."""

    at: datetime
    login: str
    account: str
    app: str
    address: str
    request: str | None
    session: str
    denied: str | None = None
    refused: str | None = None
    reaches: bool = True
    of_partner: bool = False


def log_files(made: Iterable[tuple[Capture, list[Entry]]], seed: int = 1111) -> dict[str, bytes]:
    """The files of all four logs with their descriptions; `made` are the captures with what the diary holds of them."""
    draw = random.Random(seed)
    sign_ins = [*_captured(draw, made), *_everybody(draw)]
    sign_ins.sort(key=lambda item: item.at)
    return {
        "logs/northmere-id.toml": PROVIDER.encode() + dictionary(PROVIDER_CODES),
        "logs/northmere-id-2026-11.csv.gz": _provider(draw, sign_ins),
        "logs/platform.toml": PLATFORM.encode() + dictionary(CODES),
        "logs/platform.jsonl": _platform(draw, sign_ins),
        "logs/harbour-gate.toml": GATEWAY.encode(),
        "logs/harbour-gate.log": _gateway(draw, sign_ins),
        "logs/shore-tours.toml": SHORE_TOURS.encode(),
        "logs/shore-tours-access.log": _shore_tours(draw, sign_ins),
    }


def _captured(draw: random.Random, made: Iterable[tuple[Capture, list[Entry]]]) -> Iterator[_SignIn]:
    """The sign-ins that were captured."""
    by_host = {urlsplit(application.acs_url).hostname: application.id for application in APPLICATIONS}
    by_host |= {urlsplit(client.redirect_uri).hostname: client.id for client in CLIENTS}
    for capture, entries in made:
        number = capture.file[:2]
        for entry in entries:
            login = entry.account.partition("@")[0].casefold()
            known = {guest.held: guest.login for guest in GUESTS} | {guest.email: guest.login for guest in GUESTS}
            yield _SignIn(
                at=entry.issued,
                login=known.get(entry.account, login if "." in login else "a.fulmar"),
                account=entry.account,
                app=by_host[urlsplit(entry.address).hostname],
                address=_address(draw, login),
                request=entry.request,
                session=entry.session,
                denied=_DENIED.get(number),
                refused=None if number in _NEVER_CAME else _REFUSED.get(number),
                reaches=number not in _NEVER_CAME,
                of_partner=entry.issuer == PARTNER,
            )


def _everybody(draw: random.Random) -> Iterator[_SignIn]:
    """Everybody else's sign-ins: by day, on weekdays mostly; some go wrong, and those who fail try again."""
    logins = [f"{letter}.{bird}" for bird in _BIRDS for letter in "abcdefghiklmnoprst"]
    draw.shuffle(logins)
    apps = [application.id for application in (*APPLICATIONS, *CLIENTS)]
    weights = [application.users**0.5 for application in (*APPLICATIONS, *CLIENTS)]
    days = [day for day in range(12) for _ in range(7 if day % 7 < 5 else 2)]
    trouble = random.Random(117)
    made = 0
    while made < SIGN_INS:
        login = draw.choice(logins) if draw.random() < 0.93 else draw.choice(PEOPLE).login
        at = _BEGIN + timedelta(days=draw.choice(days), hours=min(max(draw.gauss(9.6, 2.9), 0.2), 23.8))
        app = draw.choices(apps, weights)[0]
        session = f"_se{draw.getrandbits(64):016x}"
        address = _address(draw, login)
        for _ in range(4):
            chance = draw.random()
            denied = "D-1001" if chance < 0.045 else "N-2207" if chance < 0.052 else None
            refused = draw.choice(("A-31", "A-41", "A-70")) if denied is None and draw.random() < 0.03 else None
            refused = refused or (_trouble(trouble, app, at, address) if denied is None else None)
            yield _SignIn(
                at=at,
                login=login,
                account=f"{login}@{HOME}",
                app=app,
                address=address,
                request=f"_rq{draw.getrandbits(96):024x}",
                session=session,
                denied=denied,
                refused=refused,
                reaches=denied is None,
            )
            made += 1
            if (denied is None and refused is None) or draw.random() < 0.35:
                break
            at += timedelta(seconds=11 + draw.expovariate(1 / 55))


def _trouble(draw: random.Random, app: str, at: datetime, address: str) -> str | None:
    """The code of a sign-in that fails by what went wrong in this fortnight, of which the captures show some."""
    if app in _OLD_KEY_ONLY and ROLLOVER <= at < _OLD_KEY_ONLY[app]:
        return "A-20"
    days = (at - _BEGIN) / timedelta(days=1)
    if app == "ticket-desk" and draw.random() < 0.02 * days:
        return "A-31"
    if app == "slip-booking" and address == _OFFICE and draw.random() < 0.85:
        return "A-70"
    return None


def _address(draw: random.Random, login: str) -> str:
    """Where somebody is: at a desk of one of three offices that share an address each, or on the way."""
    home = random.Random(login)
    if draw.random() < 0.75:
        return f"192.0.2.{home.choice((10, 20, 30))}"
    return f"2001:db8:{home.randrange(1, 64):x}::{home.randrange(2, 250):x}"


def _later(draw: random.Random, mean: float) -> timedelta:
    return timedelta(seconds=draw.gammavariate(2, mean / 2))


def _name_of(app: str) -> str:
    return BY_ID[app].name if app in BY_ID else next(client.name for client in CLIENTS if client.id == app)


def _host_of(app: str) -> str:
    address = BY_ID[app].base if app in BY_ID else next(client.redirect_uri for client in CLIENTS if client.id == app)
    return urlsplit(address).hostname or ""


def _provider(draw: random.Random, sign_ins: list[_SignIn]) -> bytes:
    """CSV, local times without a zone, newest last; guests by the name that the directory holds."""
    held = {guest.login: guest.held for guest in GUESTS}
    rows: list[tuple[datetime, list[str]]] = []
    for item in sign_ins:
        if item.of_partner:
            continue
        name = held.get(item.login, f"{item.login}@{HOME}")
        ids = [item.request or "", item.session]
        if item.denied == "D-1001" or draw.random() < 0.35:
            typed = item.at - timedelta(seconds=1) - _later(draw, 4)
            result, code = ("denied", "D-1001") if item.denied == "D-1001" else ("accepted", "")
            words = PROVIDER_CODES[code][0] if code else "password accepted"
            rows.append((typed, [name, _name_of(item.app), result, code, words, item.address, ids[0], ""]))
        if item.denied == "D-1001":
            continue
        words = PROVIDER_CODES[item.denied][0] if item.denied else ""
        result = "denied" if item.denied else "granted"
        row = [name, _name_of(item.app), result, item.denied or "", words, item.address, *ids]
        rows.append((item.at + _later(draw, 0.3), row))
    for _ in range(3_800):
        login, day = draw.choice(sign_ins).login, draw.choice(range(12))
        at = _BEGIN + timedelta(days=day, hours=min(max(draw.gauss(10, 3), 0.2), 23.8))
        rows.append(
            (
                at,
                [
                    held.get(login, f"{login}@{HOME}"),
                    "",
                    "renewed",
                    "",
                    "session renewed",
                    _address(draw, login),
                    "",
                    "",
                ],
            )
        )
    rows.sort(key=lambda row: row[0])
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\r\n")
    writer.writerow(["When", "Account", "Target", "Result", "Code", "Message", "From", "Request", "Session"])
    for at, row in rows:
        writer.writerow([at.astimezone(_OSLO).strftime("%Y-%m-%d %H:%M:%S"), *row])
    return gzip.compress(text.getvalue().encode(), mtime=0)


def _platform(draw: random.Random, sign_ins: list[_SignIn]) -> bytes:
    """JSON Lines, epoch milliseconds, logins only; the request's id stands where the application keeps it."""
    rows = []
    for item in sign_ins:
        if item.app in _NOT_PLATFORM or not item.reaches or draw.random() < 0.01:
            continue
        at = item.at + timedelta(seconds=0.3) + _later(draw, 0.8)
        row: dict[str, object] = {
            "ts": int(at.timestamp() * 1000),
            "service": item.app,
            "who": {"login": item.login},
            "client": item.address,
            "result": "refused" if item.refused else "ok",
        }
        if item.refused:
            row["error"] = {"code": item.refused, "text": CODES[item.refused][0]}
        if item.request and sum(map(ord, item.app)) % 2:
            row["request"] = item.request
        rows.append((at, row))
    for _ in range(6_200):
        item = draw.choice(sign_ins)
        at = item.at + timedelta(seconds=draw.uniform(20, 3_000))
        if item.app not in _NOT_PLATFORM:
            row = {
                "ts": int(at.timestamp() * 1000),
                "service": item.app,
                "who": {"login": item.login},
                "client": item.address,
                "result": "page",
            }
            rows.append((at, row))
    rows.sort(key=lambda row: row[0])
    return "".join(json.dumps(row, separators=(",", ":")) + "\n" for _, row in rows).encode()


def _gateway(draw: random.Random, sign_ins: list[_SignIn]) -> bytes:
    """RFC 5424 in UTC, nine minutes ahead; it sees who is inside the house, by DOMAIN and login."""
    rows = []
    for item in sign_ins:
        if item.app == _SHORE or not item.reaches or not item.address.startswith("192.") or draw.random() < 0.02:
            continue
        at = item.at + AHEAD + _later(draw, 0.4)
        sid = f' sid="{item.session}"' if draw.random() < 0.5 else ""
        rows.append(
            (
                at,
                f'user="NORTHMERE\\\\{item.login}" host="{_host_of(item.app)}" '
                f'src="{item.address}" verdict="pass"{sid}',
            )
        )
    for _ in range(7_200):
        item = draw.choice(sign_ins)
        at = item.at + AHEAD + timedelta(seconds=draw.uniform(-20_000, 20_000))
        verdict = "pass" if draw.random() < 0.97 else "block"
        rows.append(
            (at, f'user="NORTHMERE\\\\{item.login}" host="files.{HOME}" src="{item.address}" verdict="{verdict}"')
        )
    rows.sort(key=lambda row: row[0])
    return "".join(
        f"<134>1 {at:%Y-%m-%dT%H:%M:%S}.{at.microsecond // 1000:03d}Z gate.{HOME} gate 411 ACCESS "
        f"[access@32473 {text}]\n"
        for at, text in rows
    ).encode()


def _shore_tours(draw: random.Random, sign_ins: list[_SignIn]) -> bytes:
    """The combined log of Shore Tours, in its own zone."""
    rows = []

    def line(at: datetime, item: _SignIn, request: str, status: int, user: str = "-") -> None:
        when = at.astimezone(_OSLO).strftime("%d/%b/%Y:%H:%M:%S %z")
        size = draw.randrange(300, 9_000)
        text = f'{item.address} - {user} [{when}] "{request} HTTP/1.1" {status} {size} "-" "Panel/1.0"\n'
        rows.append((at, text))

    for item in sign_ins:
        if item.app != _SHORE:
            continue
        line(item.at - timedelta(seconds=21) - _later(draw, 4), item, "GET /", 302)
        if not item.reaches:
            continue
        back = item.at + timedelta(seconds=0.2) + _later(draw, 0.3)
        line(back, item, "POST /saml/acs", 403 if item.refused else 302, "-" if item.refused else item.login)
        line(back + _later(draw, 0.6), item, "GET /assets/site.css", 200)
        if not item.refused:
            line(back + timedelta(seconds=0.2) + _later(draw, 0.3), item, "GET /home", 200, item.login)
            for _ in range(draw.randrange(4)):
                later = back + timedelta(seconds=draw.uniform(30, 2_400))
                line(later, item, f"GET /tours/{draw.randrange(80)}", 200, item.login)
    rows.sort(key=lambda row: row[0])
    return "".join(text for _, text in rows).encode()
