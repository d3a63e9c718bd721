"""Words of a text, one by one: what is known to tell nothing stays, everything else gets a stand-in."""

from __future__ import annotations

import ipaddress
import re
from collections import Counter

from trace_lens.common.expressions import expression
from trace_lens.handover.redaction.kept import RUN, Kept
from trace_lens.handover.redaction.leaks import Leaks
from trace_lens.handover.redaction.substitutes import Substitutes
from trace_lens.people.guests import DOMAIN_ENDINGS, GUEST_MARKERS

_GUID = expression(r"[0-9a-fA-F]{8}-(?:[0-9a-fA-F]{4}-){3}[0-9a-fA-F]{12}")
_OF_NAMES = expression(r"(?:0?x|u)?0{0,2}[0-9a-f]{2}|at|commat|cn|ou|dc|uid|ad|ldap|nt|authority|dn", re.IGNORECASE)
"""Runs in a name that are no part of it: how a sign was written, and what the parts of a distinguished name are."""
_V4 = expression(r"\d{1,3}(?:\.\d{1,3}){3}")


class Words:
    """Replaces words by one key, and counts what it replaced by kind; `leaks` is told of each, to be looked for."""

    def __init__(self, substitutes: Substitutes, kept: Kept) -> None:
        self.substitutes, self.kept = substitutes, kept
        self.counts: Counter[str] = Counter()
        self.leaks = Leaks(kept)

    def note(self, kind: str, value: str, stand_in: str) -> str:
        """Count a value of a kind that was replaced, and give its stand-in."""
        if value != stand_in:
            self.counts[kind] += 1
            self.leaks.add(value, stand_in, is_name=kind == "person")
        return stand_in

    def secret(self, value: str, kind: str) -> str:
        """A secret, whole."""
        return self.note(kind, value, self.substitutes.secret(value)) if value.strip() else value

    def token(self, token: str) -> str:
        """A word of running text, with what stands in it: kept where each part of it is known."""
        bare = token.strip()
        if bare in self.kept.values and not self._names_somebody(bare):
            return token
        runs = RUN.findall(token)
        if all(self.kept.keeps_word(run) for run in runs):
            return token
        if _GUID.fullmatch(bare):
            return self.note("id", token, self.substitutes.secret(token))
        kind = "person" if self._names_somebody(token) else "id" if any(map(str.isdigit, token)) else "word"
        return self.note(kind, token, RUN.sub(lambda match: self._run(match[0]), token))

    def _names_somebody(self, text: str) -> bool:
        return any(run.casefold() in self.kept.people for run in RUN.findall(text))

    def whole_run(self, run: str) -> str:
        """The stand-in of a run of letters and digits, whatever it is."""
        return self.substitutes.number(run) if run.isdigit() else self.substitutes.word(run)

    def _run(self, run: str) -> str:
        """The stand-in of a run; one that joins the words of a name has theirs."""
        parts = self.kept.joined.get(run.casefold())
        if not parts or len("".join(parts)) != len(run):
            return self.whole_run(run)
        made, start = "", 0
        for part in parts:
            made += self.substitutes.word(run[start : start + len(part)])
            start += len(part)
        return made

    def person(self, name: str) -> str:
        """The name of somebody, whole: every word of it but those that a rule for names holds itself."""
        if name.strip() in ("", "-"):
            return name
        if _GUID.fullmatch(name.strip()):
            return self.note("person", name, self.substitutes.secret(name))
        local, at, domain = name.rpartition("@")
        if at and "." in domain and " " not in domain.strip():
            return self.note("person", name, f"{self._of_name(local)}@{self.host(domain)}")
        return self.note("person", name, self._of_name(name))

    def _of_name(self, text: str) -> str:
        """A local part, login or name; a domain that a folded one holds has its labels' stand-ins."""
        folded = "~" in text or "#" in text or "_" in text
        made, end = [], 0
        for match in RUN.finditer(text):
            made.append(text[end : match.start()])
            made.append(self._part_of_name(match[0], edge=text[match.end() : match.end() + 1], folded=folded))
            end = match.end()
        return "".join([*made, text[end:]])

    def _part_of_name(self, run: str, *, edge: str, folded: bool) -> str:
        known = run.casefold()
        if known in self.kept.people:
            return self._run(run)
        if known in self.kept.literals or known in GUEST_MARKERS or _OF_NAMES.fullmatch(run):
            return run
        if edge == "\\" or (folded and known in self.kept.labels):
            return run if self.kept.keeps_label(run) else self.substitutes.word(run)
        return self._run(run)

    def host(self, text: str) -> str:
        """A host, label by label, so that it stays within the domains that it is in; an address as such."""
        bare = text.strip("[]")
        if _V4.fullmatch(bare) or ":" in bare:
            made = self.address(bare)
            return f"[{made}]" if text[:1] == "[" else made
        if not text or self.kept.keeps_host(text):
            return text
        *labels, last = text.split(".")
        parts = [
            label if label in ("", "*") else RUN.sub(lambda match: self._label(match[0]), label) for label in labels
        ]
        known = parts and (DOMAIN_ENDINGS.fullmatch(last.casefold()) or self.kept.keeps_label(last))
        ending = last if known else RUN.sub(lambda match: self._label(match[0]), last)
        return self.note("host", text, ".".join([*parts, ending]))

    def host_in_words(self, text: str) -> str:
        """What looks like a host in running text: `m.tern` is the name of somebody, and no host."""
        last = text.rpartition(".")[2]
        if not self.kept.keeps_host(text) and not DOMAIN_ENDINGS.fullmatch(last.casefold()):
            return self.token(text)
        return self.token(text) if self._names_somebody(text) else self.host(text)

    def _label(self, run: str) -> str:
        return run if self.kept.keeps_label(run) else self.substitutes.word(run)

    def address(self, text: str) -> str:
        """An address in the network; what is none is a word."""
        if text in self.kept.values:
            return text
        try:
            ipaddress.ip_address(text)
        except ValueError:
            return self.token(text)
        return self.note("address", text, self.substitutes.address(text))
