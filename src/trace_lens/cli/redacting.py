"""What `redact` says of its copies, and the key that it makes them by."""

from __future__ import annotations

import os
import secrets
import stat
import sys
from collections import Counter
from pathlib import Path
from typing import TYPE_CHECKING

import click

from trace_lens.cli.options import tell

if TYPE_CHECKING:
    from trace_lens.handover.redaction.copying import Redaction
    from trace_lens.handover.redaction.record import Copies

_WORDS = {
    "address": ("network address", "network addresses"),
    "id": ("id", "ids"),
    "person": ("name of a person", "names of people"),
    "private-key": ("private key", "private keys"),
    "word": ("word that is not known", "words that are not known"),
    "number": ("number to call", "numbers to call"),
    "encrypted": ("ciphertext", "ciphertexts"),
    "hash": ("hash of a secret", "hashes of secrets"),
    "body": ("body that could not be read", "bodies that could not be read"),
}


def key_of(file: Path | None) -> bytes:
    """The key of the stand-ins: that of a file, made where it is missing, else a new one that nobody keeps."""
    from trace_lens.handover.redaction.substitutes import KEY_BYTES

    if file is None:
        return secrets.token_bytes(KEY_BYTES)
    try:
        if not file.exists():
            handle = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
            with os.fdopen(handle, "w") as stream:
                stream.write(secrets.token_hex(KEY_BYTES) + "\n")
            tell(f"Made a new key: {file}. Whoever has it can find out whom a stand-in means; keep it in the house.")
        if stat.S_IMODE(file.stat().st_mode) & 0o077:
            tell(f"--key-file: others can read {file}; chmod 600 it.")
        key = bytes.fromhex(file.read_text("ascii").strip())
    except (OSError, ValueError, UnicodeDecodeError) as error:
        reason = getattr(error, "strerror", None) or "it holds no key (64 hexadecimal digits)"
        raise click.UsageError(f"--key-file: {file} cannot be used: {reason.lower()}") from None
    if len(key) < KEY_BYTES // 2:
        raise click.UsageError(f"--key-file: the key in {file} is too short ({len(key)} bytes; {KEY_BYTES} are usual).")
    return key


def write_raw(redaction: Redaction) -> int:
    """The copy of one source on standard output; what was replaced on standard error."""
    from trace_lens.handover.redaction.copying import NotCopied

    try:
        made = redaction.one()
    except NotCopied as error:
        tell(f"Not copied: {error}.")
        return 1 if error.leaked else 3
    sys.stdout.buffer.write(made)
    sys.stdout.buffer.flush()
    tell(f"Replaced: {listed(redaction.counts)}.")
    tell("Its signatures hold no more. With --output DIR a record of what held is written beside it.")
    return 0


def tell_copies(copies: Copies, folder: Path) -> None:
    """What was written, and how sure it is that nothing is left."""
    for source, because in copies.left_out:
        tell(f"Not copied: {source}: {because}.")
    if copies.leaks:
        tell(
            f"{len(copies.leaks)} values that were replaced were found in the copies all the same: nothing is written. "
            "This is a fault of trace-lens."
        )
        return
    total: Counter[str] = Counter()
    for file in copies.files:
        total.update(file.kinds)
        click.echo(f"{folder / file.written}  {listed(file.kinds)}")
    if copies.settings:
        click.echo(f"{folder / 'trace-lens.toml'}  and {len(copies.settings) - 1} more files of settings")
    click.echo(f"{folder / 'redaction.json'}  what was replaced, and what the signatures were")
    if copies.files:
        click.echo("")
        click.echo("A last search through every decoding found nothing of what was replaced.")
    if copies.same and copies.without:
        click.echo("The copies diagnose as the originals do without lists and logs, which are not handed over:")
        click.echo("same codes, stages and first breaks. --with-settings puts what they need beside them.")
    elif copies.same:
        click.echo("The copies diagnose as the originals: same codes, stages and first breaks.")
    elif copies.same is False:
        click.echo("The copies do not diagnose as the originals:")
        for words in copies.differing:
            click.echo(f"  {words}")


def listed(kinds: dict[str, int] | Counter[str]) -> str:
    """How often what was replaced, the most first, in words."""
    parts = []
    for kind, count in sorted(kinds.items(), key=lambda item: (-item[1], item[0])):
        one, many = _WORDS.get(kind, (kind.replace("-", " "), f"{kind.replace('-', ' ')}s"))
        parts.append(f"{count} {one if count == 1 else many}")
    return ", ".join(parts) or "nothing"
