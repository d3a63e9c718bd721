"""The stand-in as servers on loopback: the provider at localhost, the application at 127.0.0.1, and the switch of
faults; and a workspace that knows both.
"""

from __future__ import annotations

import contextlib
import json
import logging
import socket
import ssl
import struct
import threading
import time
from collections.abc import Callable, Iterable, Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from werkzeug.serving import WSGIRequestHandler
from werkzeug.wrappers import Request, Response

from trace_lens.demo.keys import make_key
from trace_lens.live.listening import QuietServer
from trace_lens.live.stand_in.application import CLIENT_ID, Application
from trace_lens.live.stand_in.authority import SOUND, make_contexts
from trace_lens.live.stand_in.faults import FAULTS, Faults, UnknownFault
from trace_lens.live.stand_in.provider import PASSWORD, USER, Client, Provider, Service
from trace_lens.workspace.snapshots import keep

_HOST = "127.0.0.1"
_TLS_FAULTS = ("tls-name", "tls-expired", "tls-no-intermediate")


class _Handler(WSGIRequestHandler):
    """What answers one connection, by the clock of its server."""

    def date_time_string(self, timestamp: float | None = None) -> str:
        """The Date of an answer."""
        server = self.server
        told = timestamp if timestamp is not None or not isinstance(server, _Server) else server.clock()
        return super().date_time_string(told)


class _Server(QuietServer):
    """A server with faults that are switched on and off."""

    faults: Faults | None = None
    clock: Callable[[], float] = time.time

    def get_request(self) -> tuple[Any, Any]:
        """A connection; one that is to be cut is, before anything is read."""
        connection, address = super().get_request()
        if self.faults and "reset" in self.faults:
            connection.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
            connection.close()
            raise OSError("cut, as the fault says")
        return connection, address

    def finish_request(self, request: Any, client_address: Any) -> None:
        """Serve one connection, or none where the server is to hang."""
        if self.faults and "hang" in self.faults:
            threading.Event().wait(60)
            return
        super().finish_request(request, client_address)


class StandIn:
    """The running stand-in; a context manager."""

    def __init__(self, folder: Path) -> None:
        logging.getLogger("werkzeug").setLevel(logging.CRITICAL)
        self.folder = folder
        self.faults = Faults()
        own = folder / ".trace-lens" / "stand-in"
        own.mkdir(parents=True, exist_ok=True, mode=0o700)
        self._contexts = make_contexts(own)
        self.authority = own / "authority.pem"
        self._ports = [_free_port() for _ in range(3)]
        trusted = ssl.create_default_context(cafile=self.authority)
        self.provider = Provider(f"https://localhost:{self._ports[0]}", self.faults)
        begin = datetime.now(UTC) - timedelta(days=1)
        self.key = make_key("Stand-in desk", begin, begin + timedelta(days=800), "Northmere Ferries")
        self.application = Application(
            f"https://{_HOST}:{self._ports[1]}",
            self.provider.base,
            trusted,
            self.faults,
            self.key.private,
            self.provider.metadata().encode(),
        )
        self.provider.clients[CLIENT_ID] = Client(
            CLIENT_ID, (self.application.redirect_uri, "http://127.0.0.1/callback")
        )
        self.provider.services[self.application.entity_id] = Service(
            self.application.entity_id, self.application.acs_url, self.key
        )
        self._servers: dict[str, _Server] = {}
        self._lock = threading.Lock()

    @property
    def switch(self) -> str:
        """The address at which faults are set."""
        return f"http://{_HOST}:{self._ports[2]}/faults"

    def told(self) -> dict[str, Any]:
        """The addresses, as one line of JSON has them."""
        return {
            "provider": self.provider.base,
            "application": self.application.base,
            "faults": self.switch,
            "authority": str(self.authority.resolve()),
            "workspace": str(self.folder.resolve()),
            "apps": ["stand-in-web", "stand-in-desk"],
            "user": USER,
            "password": PASSWORD,
            "faults_on": self.faults.names,
        }

    def __enter__(self) -> StandIn:
        self._start("provider", self._ports[0], self.provider)
        self._start("application", self._ports[1], self.application)
        self._start("switch", self._ports[2], self._switch)
        return self

    def __exit__(self, *_: object) -> None:
        for name in list(self._servers):
            self._stop(name)

    def set(self, names: list[str]) -> None:
        """Switch faults on, all others off. Raises UnknownFault."""
        with self._lock:
            self.faults.set(names)
            if "closed" in self.faults:
                self._stop("provider")
            elif "provider" not in self._servers:
                self._start("provider", self._ports[0], self.provider)

    def _start(self, name: str, port: int, application: Any) -> None:
        server = _Server(_HOST, port, application, _Handler)
        server.daemon_threads = True
        if name != "switch":
            server.shown = self._shown if name == "provider" else lambda: self._contexts[SOUND]
        if name == "provider":
            server.faults = self.faults
            server.clock = self.provider.now
        self._servers[name] = server
        threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.05}, daemon=True).start()

    def _stop(self, name: str) -> None:
        server = self._servers.pop(name, None)
        if server is not None:
            server.shutdown()
            server.server_close()

    def _shown(self) -> ssl.SSLContext:
        wrong = next((name for name in _TLS_FAULTS if name in self.faults), SOUND)
        return self._contexts[wrong]

    def _switch(self, environ: dict[str, Any], start: Any) -> Iterable[bytes]:
        """GET tells the faults, POST sets them: a JSON list of names, or one name a line."""
        request = Request(environ)
        answer = Response("There is nothing here.", 404)
        if request.path == "/faults" and request.method == "GET":
            answer = _json({"on": self.faults.names, "there_are": FAULTS})
        elif request.path == "/faults" and request.method == "POST":
            try:
                self.set(_names(request.get_data(as_text=True)))
                answer = _json({"on": self.faults.names})
            except (UnknownFault, ValueError) as error:
                answer = _json({"error": str(error)}, 400)
        return answer(environ, start)

    # -- the workspace

    def write_workspace(self) -> None:
        """Write settings that match, with the provider's documents as they are now."""
        there, here = self.provider, self.application
        files = {
            "trace-lens.toml": "",
            "providers/stand-in.toml": (
                f'name = "Stand-in ID"\nmetadata = "{there.base}/metadata"\nissuer = "{there.base}"\n'
                f'discovery = "{there.base}/.well-known/openid-configuration"\nkey_set = "{there.base}/keys"\n'
            ),
            "apps/stand-in-web.toml": (
                'name = "Stand-in desk, by OpenID Connect"\nprotocol = "oidc"\nprovider = "stand-in"\n\n[application]\n'
                f'client_id = "{CLIENT_ID}"\nredirect_uris = ["{here.redirect_uri}"]\nresponse_mode = "form_post"\n'
                f'scopes = ["openid", "profile", "email"]\nsign_in_url = "{here.base}/login"\npublic = true\n'
            ),
            "apps/stand-in-desk.toml": (
                'name = "Stand-in desk, by SAML"\nprotocol = "saml"\nprovider = "stand-in"\n\n[application]\n'
                f'entity_id = "{here.entity_id}"\nacs_urls = ["{here.acs_url}"]\n'
                f'sign_in_url = "{here.base}/saml/login"\n'
                'trust_from = "metadata"\ndecryption_key = "keys/stand-in-desk.key"\naccepts_unsolicited = true\n'
            ),
            "keys/stand-in-desk.key": self.key.private_pem,
        }
        for name, text in files.items():
            path = self.folder / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text)
            if path.parent.name == "keys":
                path.chmod(0o600)
        now = datetime.now(UTC)
        for url, data in (
            (f"{there.base}/metadata", there.metadata()),
            (f"{there.base}/.well-known/openid-configuration", json.dumps(there.discovery())),
            (f"{there.base}/keys", json.dumps(there.key_set())),
        ):
            keep(self.folder, url, data.encode(), now)


def _names(text: str) -> list[str]:
    """Names of faults: a JSON list, an object with `faults`, or one name a line."""
    text = text.strip()
    if text.startswith(("[", "{")):
        told = json.loads(text)
        told = told.get("faults", []) if isinstance(told, dict) else told
        return [str(name) for name in told]
    return text.split()


def _free_port() -> int:
    with socket.socket() as held:
        held.bind((_HOST, 0))
        return int(held.getsockname()[1])


def _json(told: dict[str, Any], status: int = 200) -> Response:
    return Response(json.dumps(told), status, content_type="application/json")


@contextlib.contextmanager
def serving(folder: Path, faults: list[str]) -> Iterator[StandIn]:
    """The stand-in with a workspace in a folder, until the block ends.

    Raises UnknownFault before anything is written, or OSError.
    """
    Faults().set(faults)
    made = StandIn(folder)
    made.write_workspace()
    with made:
        made.set(faults)
        yield made
