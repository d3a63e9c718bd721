"""An encrypted token opened with the client's key, as far as that goes, and the token that was inside."""

from __future__ import annotations

from trace_lens.common.sentences import say
from trace_lens.common.tuples import NamedTuple
from trace_lens.oidc.jose import JoseDamaged, Jwe, Jws, read_jws
from trace_lens.oidc.tokens import NoClaims, Token, read_token
from trace_lens.workspace.private_keys import other_keys, private_key
from trace_lens.workspace.records import App, Workspace


class Decryption(NamedTuple):
    """What came of opening: the token inside, or a code and the reason that completes its sentence.

    `unsigned` says that bare claims were inside, which nobody signed.
    """

    jwe: Jwe
    token: Token | None = None
    unsigned: bool = False
    code: str | None = None
    reason: str = ""


def open_token(jwe: Jwe, app: App | None, workspace: Workspace) -> Decryption:
    """Open an encrypted token. Raises SettingsError where the key on record cannot be used."""
    from trace_lens.oidc.encryption import Broken, NotForKey, Refused, decrypt, refusal

    refused = refusal(jwe.header)
    if refused:
        return Decryption(jwe, code="encryption-form-refused", reason=refused)
    key = private_key(app, workspace) if app else None
    if app is None or key is None:
        reason = f"no decryption_key on record for {app.id}" if app else "no application, and so no key, is known"
        return Decryption(jwe, code="encrypted-no-key", reason=reason)
    try:
        return _inside(jwe, decrypt(jwe, key))
    except Refused as error:
        return Decryption(jwe, code="encryption-form-refused", reason=str(error))
    except NotForKey:
        return Decryption(jwe, code="encrypted-to-other-key", reason=_whose(jwe, app, workspace))
    except Broken:
        return Decryption(jwe, code="decryption-failed", reason="what comes out of it is not intact")


def _inside(jwe: Jwe, plain: bytes) -> Decryption:
    text = plain.decode("utf-8", "replace")
    try:
        if text.lstrip()[:1] == "{":
            return Decryption(
                jwe, read_token(Jws(text="", header={}, payload=plain, signing_input=b"", signature=b"")), unsigned=True
            )
        return Decryption(jwe, read_token(read_jws(text)))
    except JoseDamaged as error:
        code = "capture-truncated" if error.truncated else "malformed-message"
        return Decryption(jwe, code=code, reason=f"what was inside cannot be read: {error.reason}")
    except NoClaims as error:
        return Decryption(jwe, code="malformed-message", reason=f"what was inside cannot be read: {error}")


def _whose(jwe: Jwe, app: App, workspace: Workspace) -> str:
    from trace_lens.oidc.encryption import Broken, NotForKey, Refused, decrypt

    for words, key in other_keys(app, workspace):
        try:
            decrypt(jwe, key)
        except (NotForKey, Refused, Broken):
            continue
        return say("it opens with {words}", words=words)
    named = jwe.header.get("kid")
    return say("its header names the key {named}", named=named) if named else "its header does not say whose"
