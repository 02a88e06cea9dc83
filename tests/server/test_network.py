"""The web server as others meet it on a network: slow, silent and greedy ones, and one that is told to end."""

from __future__ import annotations

import http.client
import os
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import pytest

from tests.server.test_serving import free_port, until

APPLICATION = """
import sys, time
from tansy.server import web
web.SLOW, web.RATE, web.SILENT = 2.0, 1_000.0, 3.0

def answers(environ, start_response):
    body = environ["wsgi.input"].read()
    if environ["PATH_INFO"] == "/long":
        time.sleep(3.0)
    size = 20_000_000 if environ["PATH_INFO"] == "/large" else 2
    start_response("200 OK", [("Content-Length", str(size)), ("X-Got", str(len(body)))])
    return [b"o" * size]

web.server_of(answers, "127.0.0.1", int(sys.argv[1]), most_bytes=1_000_000, behind_proxy=False).run()
"""


@pytest.fixture
def served(tmp_path: Path) -> Iterator[tuple[int, subprocess.Popen[bytes]]]:
    port = free_port()
    process = subprocess.Popen([sys.executable, "-c", APPLICATION, str(port)], env={**os.environ})

    def there() -> bool:
        try:
            socket.create_connection(("127.0.0.1", port), timeout=1.0).close()
        except OSError:
            return False
        return True

    try:
        assert until(there)
        yield port, process
    finally:
        process.kill()
        process.wait()


def took(port: int) -> float:
    """Seconds of a small call."""
    began = time.monotonic()
    line = http.client.HTTPConnection("127.0.0.1", port, timeout=20)
    line.request("GET", "/")
    assert line.getresponse().read() == b"oo"
    line.close()
    return time.monotonic() - began


def is_cut(one: socket.socket, within: float) -> bool:
    one.settimeout(within)
    try:
        while one.recv(65_536):
            pass
    except TimeoutError:
        return False
    except OSError:
        pass
    return True


def test_slow_and_silent_connections_hold_nobody_up_and_are_cut(served: tuple[int, subprocess.Popen[bytes]]) -> None:
    port, _ = served
    open_ = [socket.create_connection(("127.0.0.1", port)) for _ in range(90)]
    silent, headers, bodies = open_[:30], open_[30:60], open_[60:]
    for one in headers:
        one.sendall(b"GET / HTTP/1.1\r\nHost: x\r\n")
    for one in bodies:
        one.sendall(b"POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 900000\r\n\r\nabc")
    greedy = [socket.create_connection(("127.0.0.1", port)) for _ in range(12)]
    for one in greedy:  # ask for much and take none of it
        one.sendall(b"GET /large HTTP/1.1\r\nHost: x\r\n\r\n")
    until_ = time.monotonic() + 4.0
    while time.monotonic() < until_:  # a byte now and then does not keep a connection
        for one in (*headers[:5], *bodies[:5]):
            with suppress(OSError):
                one.sendall(b"a")
        assert took(port) < 5.0  # a busy machine is slow; held up it would be for ever
        time.sleep(0.3)
    assert all(is_cut(one, 8.0) for one in (*silent, *headers, *bodies))
    assert took(port) < 5.0  # a busy machine is slow; held up it would be for ever
    for one in greedy:
        one.close()


def test_what_is_too_large_is_refused_and_connections_are_kept(served: tuple[int, subprocess.Popen[bytes]]) -> None:
    port, _ = served
    line = http.client.HTTPConnection("127.0.0.1", port, timeout=20)
    for size in (0, 10, 999_999):  # on one connection
        line.request("POST", "/", body=b"a" * size)
        answer = line.getresponse()
        assert answer.status == 200 and answer.headers["X-Got"] == str(size) and answer.read() == b"oo"
    line.putrequest("POST", "/")  # told by its length alone, before it is sent
    line.putheader("Content-Length", "1000001")
    line.endheaders()
    assert line.getresponse().status == 413
    line.close()


def test_told_to_end_it_answers_what_is_under_way(served: tuple[int, subprocess.Popen[bytes]]) -> None:
    port, process = served
    line = http.client.HTTPConnection("127.0.0.1", port, timeout=20)
    line.request("GET", "/long")
    time.sleep(1.0)
    process.terminate()
    assert line.getresponse().read() == b"oo"
    assert process.wait(timeout=20) == 0
    with pytest.raises(OSError):
        socket.create_connection(("127.0.0.1", port), timeout=1.0)
