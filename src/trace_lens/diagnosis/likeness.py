"""What makes two messages alike: for the whole diagnosis of one to be told again of another (`retold`)."""

from __future__ import annotations

import json
from collections.abc import Hashable, Iterator, Mapping
from contextlib import suppress
from datetime import UTC, datetime
from functools import partial
from typing import Any

from trace_lens.checks.oidc.case import PROTOCOL_CLAIMS, values_of
from trace_lens.common import limits
from trace_lens.common.sentences import Person
from trace_lens.diagnosis import strict, strict_tokens
from trace_lens.diagnosis.alike import Held, Said
from trace_lens.diagnosis.judging import Diagnosis
from trace_lens.diagnosis.persons import Values, seeing
from trace_lens.diagnosis.prepared import Prepared, prepared
from trace_lens.diagnosis.repeated import SPANS, brought_in, kind_key, mended_fits
from trace_lens.diagnosis.retold import Likeness
from trace_lens.diagnosis.strict_tokens import HeldToken
from trace_lens.intake.found import FoundMessage
from trace_lens.intake.straight import straight
from trace_lens.workspace.problems import SettingsError
from trace_lens.workspace.records import Workspace
from trace_lens.workspace.sources import SourceFile
from trace_lens.workspace.token_keys import published

_IDS = ("jti", "nonce", "sid", "at_hash", "c_hash")
_MOMENTS = ("iat", "exp", "nbf", "auth_time")
_OTHERS = {*_IDS, *_MOMENTS}
_NAME = Said._fields.index("name")
_RELAY = "RelayState"
_CLOSED = PROTOCOL_CLAIMS - {"sub"}
"""Claims that checks read one by one; all others are of the person."""


def likeness(source: SourceFile, workspace: Workspace) -> Likeness | None:
    """What the one message of a source is like; None where nothing can be known to be like it. Raises SettingsError."""
    data = source.data
    if data is None or source.path is not None or source.redaction is not None or len(data) > strict.MOST_BYTES:
        return None
    if data[:3] == b"eyJ":
        token = strict_tokens.read_token(data)
        return _of_token(token, data, workspace) if token else None
    found = straight(data)
    if found is None or found.kind != "saml-response" or found.repairs:
        return None
    held = strict.read(found.data, workspace)
    return _of_response(held, found, workspace) if held and held.written else None


def _of_response(held: Held, found: FoundMessage, workspace: Workspace) -> Likeness | None:
    said = held.said
    try:
        kind = kind_key(held)
        at = strict.moment(said.issued)
    except (strict.Other, ValueError, OverflowError):
        return None
    assert at is not None
    lines = (said.digest.count("\n"), said.signature.count("\n"))
    ids = len({said.id, said.assertion_id, said.asked, said.confirmed, said.session})
    lengths = tuple([value and len(value) for value in (*said[:_NAME], *said[_NAME + 1 :])])
    relay = found.context.get(_RELAY)
    long = relay if relay and len(relay) > limits.RELAY_STATE_BYTES else None
    wrapping = (found.layers, found.where, tuple(found.context), long)
    claims = {name: tuple(values) for name, values in held.attributes}
    return Likeness(
        held.written,
        (kind, lengths, lines, ids, wrapping),
        (*held.values, relay),
        Person(said.name),
        claims,
        at,
        tuple(span for span in kind[-len(SPANS) :] if span),
        partial(_bases, found.data, workspace),
        partial(_seen, said.name, claims, relay, workspace),
        partial(_fits, held),
        partial(_dates, found.data, workspace),
    )


def _bases(data: bytes, workspace: Workspace, diagnosis: Diagnosis) -> Iterator[Prepared]:
    """The application that a response was judged for, with each of the keys that may have signed."""
    for to in prepared(workspace).values():
        if (to.app.id, to.provider.id) == (diagnosis.app, diagnosis.provider):
            brought = brought_in(data)
            for key in [*([brought.public_key] if brought else []), *to.keys]:
                yield to._replace(keys=[key])


def _seen(name: str, claims: Mapping[str, Values], relay: str | None, workspace: Workspace, to: Prepared) -> Hashable:
    """What the checks see of the person, and whether the relay state is the default one."""
    source = to.app.settings.account.source
    by = name if source in ("NameID", "sub") else _first(claims.get(source, ()))
    default = relay == to.app.settings.application.saml.relay_state
    return (default, seeing(to.app, to.provider, workspace).seen((name, by), claims))


def _first(values: Values) -> str:
    return next((value for value in values if value.strip()), "")


def _fits(held: Held, to: Prepared) -> Any:
    try:
        return mended_fits(held, to)
    except (strict.Other, ValueError, OverflowError):
        return None


def _dates(data: bytes, workspace: Workspace) -> Iterator[datetime]:
    """Those of the certificate that came with a signature."""
    brought = brought_in(data)
    if brought:
        yield from (brought.not_before, brought.not_after)
        yield from (brought.not_after - warn for warn in {app.warn_before for app in workspace.apps.values()})


def _of_token(held: HeldToken, data: bytes, workspace: Workspace) -> Likeness | None:
    claims = held.claims
    moments = [claims.get(name) for name in _MOMENTS]
    ids = [claims.get(name) for name in _IDS]
    if not all(one is None or type(one) is int for one in moments) or not all(
        one is None or isinstance(one, str) for one in ids
    ):
        return None
    try:
        at, *others = [datetime.fromtimestamp(one or 0, UTC) for one in moments]
    except (ValueError, OverflowError, OSError):
        return None
    spans = tuple(other - at for other, there in zip(others, moments[1:], strict=True) if there is not None)
    told = {name: values_of(value) for name, value in claims.items()}
    person = {name: told[name] for name, value in claims.items() if name not in _CLOSED and _of_texts(value)}
    written = tuple((name, len(person[name]) if name in person else None) for name in claims)
    return Likeness(
        (held.head, written),
        (
            held.head,
            written,
            tuple(_plain(value) for name, value in claims.items() if name not in person and name not in _OTHERS),
            spans,
            tuple(one and len(one) for one in ids),
            len(set(ids)),
            data[len(held.text) :],
        ),
        (
            *ids,
            *(str(one) for one in moments),
            held.text.decode(),
            *(one for those in person.values() for one in those),
        ),
        Person(claims["sub"]) if "sub" in person else None,
        told,
        at,
        spans,
        lambda diagnosis: (workspace,),
        partial(_seen_of_token, claims, person, workspace),
        partial(strict_tokens.sound_as_read, held),
        partial(_dates_of_keys, workspace),
    )


def _of_texts(value: Any) -> bool:
    """Whether the value of a claim is a text, or a list of texts."""
    return isinstance(value, str) or (isinstance(value, list) and all(isinstance(one, str) for one in value))


def _seen_of_token(
    claims: Mapping[str, Any], person: Mapping[str, Values], workspace: Workspace, base: Workspace
) -> Hashable:
    audience = claims.get("aud")
    client = audience[0] if isinstance(audience, list) and len(audience) == 1 else audience
    to = strict_tokens.prepared_clients(workspace).get(client) if isinstance(client, str) else None
    if to is None:
        return None
    source, subject = to.app.settings.account.source, person.get("sub", ("",))[0]
    by = subject if source in ("NameID", "sub") else _first(person.get(source, ()))
    of_checks = {name: values for name, values in person.items() if name in to.read or name not in PROTOCOL_CLAIMS}
    return (client, seeing(to.app, to.provider, workspace).seen((by or subject, by), of_checks))


def _dates_of_keys(workspace: Workspace) -> frozenset[datetime]:
    """Those of the certificates in key sets."""
    return workspace.once("dates of token keys", lambda: frozenset(_of_keys(workspace)))


def _of_keys(workspace: Workspace) -> Iterator[datetime]:
    warned = {app.warn_before for app in workspace.apps.values()}
    for provider in workspace.providers.values():
        with suppress(SettingsError):
            for held in published(provider, workspace):
                certificate = held.key.certificate
                if certificate:
                    yield from (certificate.not_before, certificate.not_after)
                    yield from (certificate.not_after - warn for warn in warned)


def _plain(value: Any) -> str | tuple[str]:
    """A value of a claim, such that two are equal where they are written alike."""
    return value if isinstance(value, str) else (json.dumps(value),)
