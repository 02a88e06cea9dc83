"""A small stand-in for an OpenID Connect provider: it signs in whoever it is told to, without asking."""

from __future__ import annotations

import base64
import hashlib
import json
import secrets
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qsl, urlencode, urlsplit

from joserfc import jwt
from joserfc.jwk import RSAKey

CLIENT, SECRET = "tansy", "quiet-secret"


class Provider(ThreadingHTTPServer):
    """person: claims of who is signed in there. forged: claims that are laid over those of the token, as somebody in
    between would. other_key: sign with one that is not published. lacks: what its description does not say."""

    daemon_threads = True

    def __init__(self) -> None:
        super().__init__(("127.0.0.1", 0), _Handler)
        self.issuer = f"http://127.0.0.1:{self.server_address[1]}"
        self.person: dict[str, Any] = {"sub": "7f3", "preferred_username": "ines"}
        self.forged: dict[str, Any] = {}
        self.other_key = False
        self.down = False
        self.lacks = ""
        self.key = RSAKey.generate_key(2048, {"kid": "one", "use": "sig"})
        self.codes: dict[str, dict[str, str]] = {}

    def token(self, nonce: str) -> str:
        now = int(time.time())
        usual = {"iss": self.issuer, "aud": CLIENT, "exp": now + 60, "iat": now, "nonce": nonce}
        key = RSAKey.generate_key(2048, {"kid": "one"}) if self.other_key else self.key
        return jwt.encode({"alg": "RS256", "kid": "one"}, usual | self.person | self.forged, key)


class _Handler(BaseHTTPRequestHandler):
    server: Provider

    def log_message(self, *args: Any) -> None:
        pass

    def _json(self, content: Any, status: int = 200) -> None:
        self.send_response(status)
        self.send_header("Content-Type", "application/json")
        self.end_headers()
        self.wfile.write(json.dumps(content).encode())

    def do_GET(self) -> None:
        at, own = urlsplit(self.path), self.server
        asked = dict(parse_qsl(at.query))
        if own.down:
            self._json({}, 503)
        elif at.path == "/.well-known/openid-configuration":
            places = {"authorization_endpoint": "authorize", "token_endpoint": "token", "jwks_uri": "keys"}
            told = {name: f"{own.issuer}/{place}" for name, place in places.items() if name != own.lacks}
            self._json(told | {"issuer": own.issuer, "id_token_signing_alg_values_supported": ["RS256"]})
        elif at.path == "/keys":
            self._json({"keys": [own.key.as_dict(private=False)]})
        else:  # authorize
            code = secrets.token_urlsafe(8)
            own.codes[code] = asked
            self.send_response(302)
            self.send_header(
                "Location", f"{asked['redirect_uri']}?{urlencode({'code': code, 'state': asked['state']})}"
            )
            self.end_headers()

    def do_POST(self) -> None:
        given = dict(parse_qsl(self.rfile.read(int(self.headers["Content-Length"])).decode()))
        asked = self.server.codes.pop(given["code"], None)
        proof = base64.urlsafe_b64encode(hashlib.sha256(given["code_verifier"].encode()).digest()).rstrip(b"=").decode()
        who = base64.b64encode(f"{CLIENT}:{SECRET}".encode()).decode()
        right = asked and asked["code_challenge"] == proof and asked["redirect_uri"] == given["redirect_uri"]
        if not right or self.headers["Authorization"] != f"Basic {who}":
            self._json({"error": "invalid_grant"}, 400)
        else:
            assert asked
            token = self.server.token(asked["nonce"])
            self._json({"access_token": "a", "token_type": "Bearer", "expires_in": 60, "id_token": token})


@contextmanager
def provider() -> Iterator[Provider]:
    running = Provider()
    thread = threading.Thread(target=running.serve_forever, kwargs={"poll_interval": 0.05}, daemon=True)
    thread.start()
    try:
        yield running
    finally:
        running.shutdown()
        running.server_close()
        thread.join()
