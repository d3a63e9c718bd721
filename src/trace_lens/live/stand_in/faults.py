"""The faults that the stand-in can have, each by its name; several at a time."""

from __future__ import annotations

import threading

FAULTS = {
    "tls-name": "the provider's TLS certificate is for another host",
    "tls-expired": "the provider's TLS certificate has ended",
    "tls-no-intermediate": "the provider does not send its intermediate certificate",
    "slow": "the provider answers after a second",
    "hang": "the provider takes connections and does not answer",
    "closed": "nothing listens at the provider's port",
    "reset": "the provider cuts every connection",
    "wrong-issuer": "the discovery document names another issuer",
    "empty-key-set": "the key set holds no key",
    "rolled-key": "the provider signs with a key that it does not publish",
    "clock": "the provider's clock is 10 minutes ahead",
    "loop": "the application sends the browser back to sign in, again and again",
    "cookie-lost": "the application's cookie does not come back (SameSite=Strict, another path)",
    "callback-500": "the application fails at its callback",
    "metadata-html": "a page stands in the place of the metadata and of the discovery document",
    "second-page": "the provider asks for name and password on two pages",
}


class UnknownFault(ValueError):
    """A fault by a name that there is not."""


class Faults:
    """The faults that are switched on now."""

    def __init__(self) -> None:
        self._on: frozenset[str] = frozenset()
        self._lock = threading.Lock()

    def set(self, names: list[str]) -> None:
        """Switch these on, and all others off. Raises UnknownFault."""
        for name in names:
            if name not in FAULTS:
                raise UnknownFault(f"{name!r} is no fault; there are {', '.join(FAULTS)}")
        with self._lock:
            self._on = frozenset(names)

    def __contains__(self, name: str) -> bool:
        return name in self._on

    @property
    def names(self) -> list[str]:
        """Those that are on."""
        return sorted(self._on)
