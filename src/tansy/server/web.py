"""The web server: `python -m tansy.server.web HOST PORT`.

One thread reads and writes all connections; a request goes to one of a few others when all of it is there, and its
answer is taken off them whole. So a connection that is slow or silent holds nothing that others need, and is cut.
"""

from __future__ import annotations

import os
import signal
import sys
import time
from typing import Any

from waitress.channel import HTTPChannel
from waitress.server import TcpWSGIServer

THREADS = 8
MOST_CONNECTIONS = 500
SILENT = 60.0
"""Seconds without a byte in either direction after which a connection is cut, an idle one kept for the next request
too."""
SLOW, RATE = 20.0, 1_000.0
"""Seconds within which a request has come whole, or else has come by so many bytes a second."""
_PATIENCE = 20.0  # seconds for what is under way when the server is told to end
_ON_DISK = 1 << 20  # bytes of a request or an answer from which on it waits on the disk


class Channel(HTTPChannel):
    """A connection that knows since when a request has been coming."""

    began = 0.0

    def received(self, data: bytes) -> bool:
        if self.request is None:
            self.began = time.monotonic()
        return bool(super().received(data))

    def is_slow(self) -> bool:
        coming = self.request
        if coming is None:
            return False
        took = time.monotonic() - self.began
        return took > SLOW and (coming.header_bytes_received + coming.body_bytes_received) / took < RATE


class Server(TcpWSGIServer):
    channel_class = Channel
    ending = False

    def maintenance(self, now: float) -> None:
        super().maintenance(now)
        for channel in list(self.active_channels.values()):
            if channel.is_slow():
                channel.will_close = True

    def run(self) -> None:
        """Serve until told to end; what is being answered then is answered."""
        signal.signal(signal.SIGTERM, self._end)
        signal.signal(signal.SIGINT, self._end)
        while not self.ending:
            self._turn(1.0)
        self.accepting = False
        last = time.monotonic() + _PATIENCE
        while time.monotonic() < last and any(map(_busy, self.active_channels.values())):
            self._turn(0.1)
        self.task_dispatcher.shutdown(timeout=2)  # those without work end at once

    def _turn(self, seconds: float) -> None:
        self.asyncore.loop(timeout=seconds, map=self._map, use_poll=True, count=1)

    def _end(self, signum: int, frame: object) -> None:
        self.ending = True
        self.pull_trigger()


def _busy(channel: Any) -> bool:
    return bool(channel.requests or channel.total_outbufs_len)


def server_of(application: Any, host: str, port: int, most_bytes: int, behind_proxy: bool) -> Server:
    """most_bytes: of a request. behind_proxy: what a proxy says of whom it asks for counts."""
    return Server(
        application,
        host=host,
        port=port,
        threads=THREADS,
        connection_limit=MOST_CONNECTIONS,
        channel_timeout=SILENT,
        cleanup_interval=2,
        inbuf_overflow=_ON_DISK,
        outbuf_overflow=_ON_DISK,
        outbuf_high_watermark=1 << 40,  # an answer never waits for its reader
        max_request_body_size=most_bytes,
        clear_untrusted_proxy_headers=not behind_proxy,
        ident="",
    )


def main(host: str, port: int) -> None:
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "tansy.server.settings")
    from django.conf import settings
    from django.core.wsgi import get_wsgi_application

    application = get_wsgi_application()
    most = 4 * settings.MAX_UPLOAD_BYTES  # what is a little too large is told so in a sentence, by the view
    try:
        server = server_of(application, host, port, most, settings.BEHIND_PROXY)
    except OSError as error:
        raise SystemExit(
            f"Port {port} of {host} cannot be had: {error.strerror}. Try another, as --port {port + 1}."
        ) from None
    print(f"Tansy is served at http://{host}:{port}  (Ctrl-C stops it)", file=sys.stderr, flush=True)
    server.run()


if __name__ == "__main__":
    main(sys.argv[1], int(sys.argv[2]))
