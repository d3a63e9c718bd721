"""Made-up exports of sign-in logs with columns that nobody has described, and what each column really holds.

The writers know nothing of how columns are recognised: each is one system with its language, abbreviations, format and
habits. Used by log_columns.py and by the tests.
"""

from __future__ import annotations

import csv
import io
import json
import random
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import UTC, datetime, timedelta, timezone
from typing import Any, NamedTuple

from trace_lens.workspace.records import App, Workspace

BEGIN = datetime(2026, 11, 16, 5, tzinfo=UTC)
OSLO = timezone(timedelta(hours=1))
_AGENTS = ("Mozilla/5.0 (X11; Linux x86_64) Sea/118.0", "Mozilla/5.0 (Tablet; rv:121.0) Wind/121.0", "portal-agent/2.4")


class SignIn(NamedTuple):
    """One sign-in as every system may write it down."""

    number: int
    at: datetime
    login: str
    email: str
    app: App
    good: bool
    code: str
    reason: str
    ip: str
    request: str
    session: str
    agent: str


class Export(NamedTuple):
    """A file, and what is true of it: the columns that a field may be read from, the ids, the words of outcomes.

    A field that is not in `fields` is told by no column.
    """

    name: str
    file: str
    content: bytes
    fields: Mapping[str, Sequence[str]]
    ids: Sequence[str]
    success: Sequence[str]
    failure: Sequence[str]
    role: str
    app: str | None = None
    provider: str | None = None


def sign_ins(workspace: Workspace, carried: Sequence[str], seed: int, count: int = 400) -> list[SignIn]:
    """Sign-ins by people on record at applications on record, some with an id that a capture carries."""
    draw = random.Random(seed)
    apps = [app for app in workspace.apps.values() if app.accounts]
    people = {(row.login or row.user, row.email or row.user) for app in apps for row in app.accounts or ()}
    named = sorted(pair for pair in people if "@" in pair[1] and "@" not in pair[0])
    some = draw.sample(named, min(70, len(named)))
    at = BEGIN
    made = []
    for number in range(count):
        at += timedelta(seconds=draw.expovariate(1 / 400))
        login, email = draw.choice(some)
        good = draw.random() > 0.09
        code, reason = draw.choice([("41", "no such account"), ("22", "not assigned to you"), ("7", "message too old")])
        known = carried and draw.random() < 0.1
        made.append(
            SignIn(
                number,
                at,
                login,
                email,
                draw.choice(apps),
                good,
                "" if good else code,
                "" if good else reason,
                f"192.0.2.{draw.randint(1, 250)}" if draw.random() < 0.8 else f"2001:db8::{draw.randint(1, 65000):x}",
                draw.choice(carried) if known else f"_{draw.getrandbits(96):024x}",
                f"{draw.getrandbits(128):032x}",
                draw.choice(_AGENTS),
            )
        )
    return made


def as_csv(rows: Sequence[Mapping[str, Any]], delimiter: str = ",", encoding: str = "utf-8", before: str = "") -> bytes:
    """Rows as CSV with a header."""
    text = io.StringIO()
    writer = csv.DictWriter(text, list(rows[0]), delimiter=delimiter, lineterminator="\r\n")
    writer.writeheader()
    writer.writerows(rows)
    return (before + text.getvalue()).encode(encoding)


def as_lines(rows: Sequence[Mapping[str, Any]]) -> bytes:
    """Rows as JSON, one on a line."""
    return "".join(json.dumps(row, ensure_ascii=False) + "\n" for row in rows).encode()


def stamp(at: datetime, zone: timezone | None = None, form: str | None = None) -> str:
    """A moment as it is written."""
    moment = at.astimezone(zone or UTC)
    return moment.strftime(form) if form else moment.isoformat(timespec="milliseconds")


def told_in(**columns: list[str]) -> dict[str, list[str]]:
    """The columns that each field may be read from."""
    return columns


def _german(rows: list[SignIn]) -> Export:
    told = [
        {
            "Lfd. Nr.": row.number + 1,
            "Zeitpunkt": stamp(row.at, OSLO, "%d.%m.%Y %H:%M:%S"),
            "Kennung": row.login,
            "Anwendung": row.app.name,
            "Ergebnis": "erfolgreich" if row.good else "abgelehnt",
            "Fehlernr.": row.code and f"F-{row.code}",
            "Begründung": row.reason,
            "Herkunft": row.ip,
            "Vorgangs-ID": row.request,
        }
        for row in rows
    ]
    fields = told_in(time=["Zeitpunkt"], user=["Kennung"], app=["Anwendung"], outcome=["Ergebnis"], code=["Fehlernr."])
    fields |= told_in(reason=["Begründung"], ip=["Herkunft"])
    content = as_csv(told, ";", "cp1252")
    return Export(
        "German", "anmeldungen.csv", content, fields, ["Vorgangs-ID"], ["erfolgreich"], ["abgelehnt"], "provider"
    )


def _german_two_columns(rows: list[SignIn]) -> Export:
    told = [
        {
            "Datum": stamp(row.at, OSLO, "%d.%m.%Y"),
            "Uhrzeit": stamp(row.at, OSLO, "%H:%M:%S"),
            "Benutzer": row.email,
            "Zielsystem": row.app.id,
            "Status": "OK" if row.good else "Fehlgeschlagen",
            "IP-Adresse": row.ip,
        }
        for row in rows
    ]
    fields = told_in(
        time=["Datum Uhrzeit"], user=["Benutzer"], app=["Zielsystem"], outcome=["Status"], ip=["IP-Adresse"]
    )
    return Export(
        "German, date and time apart",
        "protokoll.csv",
        as_csv(told, ";"),
        fields,
        [],
        ["OK"],
        ["Fehlgeschlagen"],
        "provider",
    )


def _french(rows: list[SignIn]) -> Export:
    told = [
        {
            "horodatage": stamp(row.at),
            "compte": row.email,
            "fournisseur de service": row.app.entity_id or row.app.id,
            "résultat": "réussite" if row.good else "échec",
            "motif": row.reason,
            "adresse": row.ip,
            "navigateur": row.agent,
            "corrélation": row.request,
        }
        for row in rows
    ]
    fields = told_in(time=["horodatage"], user=["compte"], app=["fournisseur de service"], outcome=["résultat"])
    fields |= told_in(reason=["motif"], ip=["adresse"])
    return Export(
        "French", "journal.csv", as_csv(told, ";"), fields, ["corrélation"], ["réussite"], ["échec"], "provider"
    )


def _spanish(rows: list[SignIn]) -> Export:
    told = [
        {
            "fecha_hora": stamp(row.at, OSLO, "%d/%m/%Y %H:%M:%S"),
            "persona": f"NORTHMERE\\{row.login}",
            "aplicacion": row.app.name,
            "acceso": "permitido" if row.good else "denegado",
            "cod": row.code and f"E{row.code}",
            "origen": row.ip,
            "mfa": "si" if row.number % 3 else "no",
        }
        for row in rows
    ]
    fields = told_in(time=["fecha_hora"], user=["persona"], app=["aplicacion"], outcome=["acceso"], code=["cod"])
    fields |= told_in(ip=["origen"])
    return Export("Spanish", "accesos.csv", as_csv(told), fields, [], ["permitido"], ["denegado"], "provider")


def _abbreviated(rows: list[SignIn]) -> Export:
    told = [
        {
            "ts": int(row.at.timestamp() * 1000),
            "ing": int(row.at.timestamp() * 1000) + 4_000 + row.number % 900,
            "u": row.login,
            "a": row.app.id,
            "rc": 0 if row.good else int(row.code),
            "src": row.ip,
            "dst": "192.0.2.250",
            "rid": row.request,
            "ms": 40 + row.number % 211,
        }
        for row in rows
    ]
    fields = told_in(time=["ts"], user=["u"], app=["a"], outcome=["rc"], code=["rc"], ip=["src"])
    return Export("abbreviated", "x.jsonl", as_lines(told), fields, ["rid"], ["0"], ["41", "22", "7"], "provider")


def _nested(rows: list[SignIn]) -> Export:
    told = {
        "export": {"made": "2026-11-28T06:00:00Z", "by": "auditor"},
        "payload": {
            "records": [
                {
                    "when": {"occurred": stamp(row.at), "stored": stamp(row.at + timedelta(seconds=9))},
                    "actor": {"display": row.login.replace(".", " ").title(), "mail": row.email, "type": "Person"},
                    "object": {"clientRef": row.app.settings.application.oidc.client_id or row.app.entity_id},
                    "verdict": {"word": "PASS" if row.good else "REJECT", "detail": row.reason or None},
                    "net": {"peer": row.ip, "server": "192.0.2.250"},
                    "flow": row.request,
                }
                for row in rows
            ]
        },
    }
    fields = told_in(time=["when.occurred"], user=["actor.mail"], app=["object.clientRef"], outcome=["verdict.word"])
    fields |= told_in(reason=["verdict.detail"], ip=["net.peer"])
    content = json.dumps(told, indent=1).encode()
    return Export("nested", "audit.json", content, fields, ["flow"], ["PASS"], ["REJECT"], "provider")


def _one_app(rows: list[SignIn]) -> Export:
    told = [
        {
            "logged_at": stamp(row.at, None, "%Y-%m-%d %H:%M:%S.%f"),
            "level": "INFO" if row.good else "WARN",
            "event": "session opened" if row.good else "assertion refused",
            "member": row.email,
            "remote": row.ip,
            "why": f"A-{row.code} {row.reason}" if row.code else "",
            "response": row.request,
        }
        for row in rows
    ]
    fields = told_in(time=["logged_at"], user=["member"], outcome=["event", "level"], reason=["why"], ip=["remote"])
    return Export(
        "one application",
        "crew-roster-2026-11.csv",
        as_csv(told),
        fields,
        ["response"],
        ["session opened"],
        ["assertion refused"],
        "application",
        app="crew-roster",
    )


def _gateway(rows: list[SignIn]) -> Export:
    lines = []
    for row in rows:
        host = next((url.split("/")[2] for url in row.app.acs_urls if "//" in url), "desk.northmere.example")
        lines.append(
            f"<134>1 {stamp(row.at)} edge1.northmere.example edge 88 - - "
            f"site={host} person={row.login} from={row.ip} act={'let' if row.good else 'stopped'} conn={row.session}"
        )
    fields = told_in(time=["time"], user=["person"], app=["site"], outcome=["act"], ip=["from"], reason=["message"])
    content = "\n".join(lines).encode()
    return Export("gateway", "edge.log", content, fields, ["conn"], ["let"], ["stopped"], "gateway")


def _web(rows: list[SignIn]) -> Export:
    lines = ["#Version: 1.0", "#Fields: date time cs-method cs-uri-stem sc-status c-ip cs-username time-taken"]
    lines += [
        f"{stamp(row.at, None, '%Y-%m-%d %H:%M:%S')} POST /acs {302 if row.good else 403} {row.ip} {row.login} 12"
        for row in rows
    ]
    fields = told_in(time=["date time"], user=["cs-username"], ip=["c-ip"], outcome=["sc-status"], code=["sc-status"])
    return Export(
        "web server", "deck-log-web.log", "\n".join(lines).encode(), fields, [], [], [], "application", app="deck-log"
    )


def _finnish(rows: list[SignIn]) -> Export:
    told = [
        {
            "aika": stamp(row.at, OSLO),
            "käyttäjä": row.login,
            "palvelu": row.app.name,
            "tulos": "onnistui" if row.good else "epäonnistui",
            "virhe": row.reason,
            "osoite": row.ip,
        }
        for row in rows
    ]
    fields = told_in(time=["aika"], user=["käyttäjä"], app=["palvelu"], outcome=["tulos"], reason=["virhe"])
    fields |= told_in(ip=["osoite"])
    return Export("Finnish", "loki.csv", as_csv(told, "\t"), fields, [], ["onnistui"], ["epäonnistui"], "provider")


def _letters(rows: list[SignIn]) -> Export:
    told = [
        {
            "DT": stamp(row.at, None, "%Y%m%d%H%M%S"),
            "UID": row.email.upper(),
            "SP": row.app.entity_id or row.app.name,
            "R": "Y" if row.good else "N",
            "RSN": row.reason,
            "ADR": row.ip,
            "TX": row.request,
        }
        for row in rows
    ]
    fields = told_in(time=["DT"], user=["UID"], app=["SP"], outcome=["R"], reason=["RSN"], ip=["ADR"])
    return Export("letters", "MFXP01.TXT", as_csv(told, "|"), fields, ["TX"], ["Y"], ["N"], "provider")


def _unknown_words(rows: list[SignIn]) -> Export:
    told = [
        {
            "moment": stamp(row.at),
            "who": row.email,
            "where": row.app.id,
            "end": "zelk" if row.good else "brun",
            "cause": row.code and f"X{int(row.code):04}",
            "peer": row.ip,
        }
        for row in rows
    ]
    fields = told_in(time=["moment"], user=["who"], app=["where"], outcome=["end"], code=["cause"], ip=["peer"])
    return Export("unknown words", "out.csv", as_csv(told), fields, [], ["zelk"], ["brun"], "provider")


def _report(rows: list[SignIn]) -> Export:
    told = [
        {
            "Date (UTC)": stamp(row.at, None, "%m/%d/%Y %I:%M:%S %p"),
            "Request": row.request,
            "Person name": row.login.replace(".", " ").title(),
            "Person address": row.email,
            "Manager": "a.fulmar@northmere.example",
            "Application": row.app.name,
            "Device managed": "true" if row.number % 4 else "false",
            "Sign-in": "Success" if row.good else "Failure",
            "Error": row.code or "0",
            "Failure reason": row.reason or "Other.",
            "IP address": row.ip,
            "Second factor": "done" if row.number % 3 else "",
            "Agent": row.agent,
        }
        for row in rows
    ]
    before = "Sign-ins of the last days\r\nmade by: auditor\r\n\r\n"
    fields = told_in(time=["Date (UTC)"], user=["Person address"], app=["Application"], outcome=["Sign-in"])
    fields |= told_in(code=["Error"], reason=["Failure reason"], ip=["IP address"])
    return Export(
        "report with a title",
        "report.csv",
        as_csv(told, before=before),
        fields,
        ["Request"],
        ["Success"],
        ["Failure"],
        "provider",
    )


def _norwegian(rows: list[SignIn]) -> Export:
    told = [
        {
            "tidspunkt": stamp(row.at, OSLO, "%Y-%m-%d %H:%M:%S"),
            "bruker": row.login,
            "tjeneste": row.app.id,
            "utfall": "vellykket" if row.good else "avvist",
            "feilkode": row.code,
            "klientadresse": row.ip,
            "økt": row.session,
            "sporing": row.request,
        }
        for row in rows
    ]
    fields = told_in(time=["tidspunkt"], user=["bruker"], app=["tjeneste"], outcome=["utfall"], code=["feilkode"])
    fields |= told_in(ip=["klientadresse"])
    return Export(
        "Norwegian", "innlogging.csv", as_csv(told), fields, ["økt", "sporing"], ["vellykket"], ["avvist"], "provider"
    )


def _flags(rows: list[SignIn]) -> Export:
    told = [
        {
            "eventTime": stamp(row.at),
            "principal": row.email,
            "relyingParty": row.app.entity_id or row.app.id,
            "interactive": bool(row.number % 2),
            "allowed": row.good,
            "compliant": bool(row.number % 5),
            "denyReason": None if row.good else row.reason,
            "sourceAddress": row.ip,
            "proxyAddress": f"192.0.2.{240 + row.number % 3}",
            "messageId": row.request,
        }
        for row in rows
    ]
    fields = told_in(time=["eventTime"], user=["principal"], app=["relyingParty"], outcome=["allowed"])
    fields |= told_in(reason=["denyReason"], ip=["sourceAddress"])
    return Export("flags", "events.jsonl", as_lines(told), fields, ["messageId"], ["true"], ["false"], "provider")


def _status_numbers(rows: list[SignIn]) -> Export:
    told = [
        {
            "t": f"{row.at.timestamp():.3f}",
            "acct": row.login,
            "svc": row.app.name.lower(),
            "http": 200 if row.good else 403,
            "bytes": 1200 + row.number % 77,
            "client": row.ip,
        }
        for row in rows
    ]
    fields = told_in(time=["t"], user=["acct"], app=["svc"], outcome=["http"], code=["http"], ip=["client"])
    return Export("status numbers", "svc.csv", as_csv(told), fields, [], ["200"], ["403"], "provider")


def _italian(rows: list[SignIn]) -> Export:
    told = [
        {
            "Data": stamp(row.at, OSLO, "%d/%m/%Y"),
            "Ora": stamp(row.at, OSLO, "%H.%M.%S"),
            "Utente": row.email,
            "Servizio": row.app.name,
            "Esito": "riuscito" if row.good else "non riuscito",
            "Motivo": row.reason,
            "Indirizzo": row.ip,
        }
        for row in rows
    ]
    fields = told_in(time=["Data Ora"], user=["Utente"], app=["Servizio"], outcome=["Esito"], reason=["Motivo"])
    fields |= told_in(ip=["Indirizzo"])
    return Export("Italian", "accessi.csv", as_csv(told, ";"), fields, [], ["riuscito"], ["non riuscito"], "provider")


def _dutch(rows: list[SignIn]) -> Export:
    told = [
        {
            "Tijdstip": stamp(row.at, OSLO, "%d-%m-%Y %H:%M:%S"),
            "Medewerker": row.login.upper(),
            "Toepassing": row.app.name,
            "Uitkomst": "geslaagd" if row.good else "geweigerd",
            "Foutcode": row.code and f"NL-{row.code}",
            "Werkplek": f"wp{row.number % 40:03}",
            "Adres": row.ip,
        }
        for row in rows
    ]
    fields = told_in(
        time=["Tijdstip"], user=["Medewerker"], app=["Toepassing"], outcome=["Uitkomst"], code=["Foutcode"]
    )
    fields |= told_in(ip=["Adres"])
    return Export("Dutch", "log.csv", as_csv(told, ";"), fields, [], ["geslaagd"], ["geweigerd"], "provider")


def _kinds(rows: list[SignIn]) -> Export:
    told = [
        {
            "id": f"{row.number:08}",
            "published": stamp(row.at),
            "kind": "signin.completed" if row.good else "signin.failed",
            "subject": {"login": row.login, "guid": f"{sum(row.login.encode()) * 7_919:012}"},
            "target": [{"name": row.app.name}],
            "address": row.ip,
            "txn": row.request,
            "text": row.reason or "Signed in to the application",
        }
        for row in rows
    ]
    fields = told_in(time=["published"], user=["subject.login"], app=["target.0.name"], outcome=["kind"])
    fields |= told_in(reason=["text"], ip=["address"])
    return Export(
        "kinds of events",
        "stream.json",
        json.dumps(told).encode(),
        fields,
        ["txn"],
        ["signin.completed"],
        ["signin.failed"],
        "provider",
    )


def _newest_first(rows: list[SignIn]) -> Export:
    told = [
        {
            "Registered": stamp(row.at, OSLO, "%d %b %Y %H:%M:%S"),
            "Person": row.email,
            "System": row.app.name,
            "Result": "Signed in" if row.good else "Turned away",
            "Address": row.ip,
            "Ticket": row.request,
        }
        for row in reversed(rows)
    ]
    fields = told_in(time=["Registered"], user=["Person"], app=["System"], outcome=["Result"], ip=["Address"])
    return Export(
        "newest first", "list.csv", as_csv(told), fields, ["Ticket"], ["Signed in"], ["Turned away"], "provider"
    )


def _polish(rows: list[SignIn]) -> Export:
    told = [
        {
            "czas": stamp(row.at, OSLO, "%Y/%m/%d %H:%M:%S"),
            "uzytkownik": row.login,
            "aplikacja": row.app.name,
            "wynik": "sukces" if row.good else "odmowa",
            "kod bledu": row.code and f"PL{row.code}",
            "adres": row.ip,
        }
        for row in rows
    ]
    fields = told_in(time=["czas"], user=["uzytkownik"], app=["aplikacja"], outcome=["wynik"], code=["kod bledu"])
    fields |= told_in(ip=["adres"])
    return Export("Polish", "dziennik.csv", as_csv(told, ";"), fields, [], ["sukces"], ["odmowa"], "provider")


def _turkish(rows: list[SignIn]) -> Export:
    told = [
        {
            "tarih_saat": stamp(row.at, OSLO, "%d.%m.%Y %H:%M"),
            "kullanıcı": row.login,
            "uygulama": row.app.name,
            "sonuç": "başarılı" if row.good else "başarısız",
            "hata_kodu": row.code and f"TR-{row.code}",
            "ip_adresi": row.ip,
        }
        for row in rows
    ]
    fields = told_in(time=["tarih_saat"], user=["kullanıcı"], app=["uygulama"], outcome=["sonuç"], code=["hata_kodu"])
    fields |= told_in(ip=["ip_adresi"])
    return Export("Turkish", "gunluk.csv", as_csv(told, ";"), fields, [], ["başarılı"], ["başarısız"], "provider")


def _greek(rows: list[SignIn]) -> Export:
    told = [
        {
            "Χρόνος": stamp(row.at, OSLO, "%d/%m/%Y %H:%M:%S"),
            "Χρήστης": row.email,
            "Εφαρμογή": row.app.id,
            "Αποτέλεσμα": "Επιτυχία" if row.good else "Αποτυχία",
            "Διεύθυνση": f"{row.ip}:{50_000 + row.number}"
            if ":" not in row.ip
            else f"[{row.ip}]:{50_000 + row.number}",
            "Αίτημα": row.request,
        }
        for row in rows
    ]
    fields = told_in(time=["Χρόνος"], user=["Χρήστης"], app=["Εφαρμογή"], outcome=["Αποτέλεσμα"])
    return Export(
        "Greek",
        "arxeio.csv",
        as_csv(told, ";"),
        fields | told_in(ip=["Διεύθυνση"]),
        ["Αίτημα"],
        ["Επιτυχία"],
        ["Αποτυχία"],
        "provider",
    )


def _japanese(rows: list[SignIn]) -> Export:
    told = [
        {
            "日時": stamp(row.at, None, "%Y/%m/%d %H:%M:%S"),
            "利用者": row.login,
            "システム": row.app.name,
            "結果": "成功" if row.good else "失敗",
            "理由": row.code and f"{row.code}番の誤り",
            "接続元": row.ip,
        }
        for row in rows
    ]
    fields = told_in(time=["日時"], user=["利用者"], app=["システム"], outcome=["結果"], ip=["接続元"], reason=["理由"])
    return Export("Japanese", "log.csv", as_csv(told), fields, [], ["成功"], ["失敗"], "provider")


def _audit(rows: list[SignIn]) -> Export:
    told = [
        {
            "performed_at": stamp(row.at),
            "performed_by": "svc-portal" if row.number % 7 else "a.fulmar@northmere.example",
            "on_behalf_of": row.email,
            "operation": f"op{row.number % 23}",
            "resource": row.app.name,
            "state": "done" if row.good else "not done",
            "remark": row.reason,
            "terminal": row.ip,
            "started": stamp(row.at - timedelta(seconds=2)),
            "chain": row.request,
        }
        for row in rows
    ]
    fields = told_in(time=["performed_at", "started"], user=["on_behalf_of"], app=["resource"], outcome=["state"])
    fields |= told_in(reason=["remark"], ip=["terminal"])
    return Export("audit", "audit.jsonl", as_lines(told), fields, ["chain"], ["done"], ["not done"], "provider")


def _numbered_people(rows: list[SignIn]) -> Export:
    numbers = {
        row.login or row.user: row.id
        for sign_in in rows
        for row in sign_in.app.accounts or ()
        if row.id and (row.login or row.user)
    }
    told = [
        {
            "sec": f"{row.at.timestamp():.6f}",
            "emp": numbers[row.login],
            "badge": 7_000_000 + row.number % 900,
            "prog": row.app.id.upper(),
            "res": "A" if row.good else "D",
            "cc": row.code,
            "adr": row.ip,
        }
        for row in rows
        if row.login in numbers
    ]
    fields = told_in(time=["sec"], user=["emp"], app=["prog"], outcome=["res"], code=["cc"], ip=["adr"])
    return Export("numbered people", "hr.csv", as_csv(told), fields, [], ["A"], ["D"], "provider")


def _only_good(rows: list[SignIn]) -> Export:
    told = [
        {
            "Login time": stamp(row.at),
            "Login name": row.login,
            "Module": row.app.name,
            "IP": row.ip,
            "Duration": 30 + row.number % 600,
            "Language": "nb" if row.number % 3 else "en",
        }
        for row in rows
        if row.good
    ]
    fields = told_in(time=["Login time"], user=["Login name"], app=["Module"], ip=["IP"])
    return Export("no outcome", "logins.csv", as_csv(told), fields, [], [], [], "provider")


def _only_bad(rows: list[SignIn]) -> Export:
    told = [
        {
            "error_time": stamp(row.at),
            "severity": "ERROR",
            "error_user": row.email,
            "error_application": row.app.id,
            "error_number": f"E-{row.code}",
            "error_text": row.reason,
        }
        for row in rows
        if not row.good
    ]
    fields = told_in(time=["error_time"], user=["error_user"], app=["error_application"], code=["error_number"])
    fields |= told_in(reason=["error_text"], outcome=["severity"])
    return Export("only failures", "errors.csv", as_csv(told), fields, [], [], ["ERROR"], "provider")


def _strangers(rows: list[SignIn]) -> Export:
    told = [
        {
            "occurredOn": stamp(row.at),
            "accountName": f"guest{row.number % 60}",
            "appGuid": f"{sum(row.app.id.encode()) * 7_919:08x}-0000-4000-8000-000000000000",
            "appTitle": row.app.name,
            "loginResult": "OK" if row.good else "BAD_ASSERTION",
            "clientIp": row.ip,
            "correlationGuid": f"{row.session[:8]}-{row.session[8:12]}-4{row.session[13:16]}-8{row.session[17:20]}"
            f"-{row.session[20:32]}",
        }
        for row in rows
    ]
    fields = told_in(time=["occurredOn"], user=["accountName"], app=["appTitle"], outcome=["loginResult"])
    return Export(
        "strangers",
        "guests.jsonl",
        as_lines(told),
        fields | told_in(ip=["clientIp"]),
        ["correlationGuid"],
        ["OK"],
        ["BAD_ASSERTION"],
        "provider",
    )


WRITERS: tuple[Callable[[list[SignIn]], Export], ...] = (
    _german,
    _german_two_columns,
    _french,
    _spanish,
    _abbreviated,
    _nested,
    _one_app,
    _gateway,
    _web,
    _finnish,
    _letters,
    _unknown_words,
    _report,
    _norwegian,
    _flags,
    _status_numbers,
    _italian,
    _dutch,
    _kinds,
    _newest_first,
    _polish,
    _turkish,
    _greek,
    _japanese,
    _audit,
    _numbered_people,
    _only_good,
    _only_bad,
    _strangers,
)


def nameless(export: Export) -> Export | None:
    """The same export with columns whose names say nothing; None where the format names them itself."""
    names: dict[str, str] = {}

    def other(name: str) -> str:
        return names.setdefault(name, f"c{len(names) + 1}")

    def renamed(value: Any) -> Any:
        if isinstance(value, dict):
            return {other(key): renamed(inner) for key, inner in value.items()}
        return [renamed(inner) for inner in value] if isinstance(value, list) else value

    def path(column: str) -> str:
        if column in names:
            return names[column]
        parts = column.split(" " if " " in column else ".")
        return (" " if " " in column else ".").join(names.get(part, part) for part in parts)

    if export.content.startswith((b"<", b"#")):
        return None
    if export.content[:1] in (b"{", b"["):
        lines = export.content.decode().splitlines() if export.file.endswith(".jsonl") else [export.content.decode()]
        content = "\n".join(json.dumps(renamed(json.loads(line))) for line in lines).encode()
    else:
        encoding = "cp1252" if export.name == "German" else "utf-8"
        text = export.content.decode(encoding)
        lead, blank, rest = text.rpartition("\r\n\r\n")
        header, _, body = rest.partition("\r\n")
        delimiter = max(",;\t|", key=header.count)
        content = (lead + blank + delimiter.join(map(other, header.split(delimiter))) + "\r\n" + body).encode(encoding)
    fields = {field: [path(column) for column in columns] for field, columns in export.fields.items()}
    return export._replace(content=content, fields=fields, ids=[path(column) for column in export.ids])


def exports(workspace: Workspace, carried: Sequence[str], seed: int = 1) -> Iterator[Export]:
    """All exports, each of sign-ins of its own."""
    for number, write in enumerate(WRITERS):
        yield write(sign_ins(workspace, carried, seed * 100 + number))
