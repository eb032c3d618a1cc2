"""Applications as they are run: by their own command, in a process of their own, with a
state folder, and perhaps behind nginx; and a client with cookies to call them by."""

import http.client
import os
import re
import socket
import ssl
import subprocess
import sys
import time
import unittest
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from http.cookies import SimpleCookie
from pathlib import Path
from queue import SimpleQueue
from threading import Thread
from typing import Any
from urllib.parse import urlencode

from lumet.browsing.pages import Page
from tests.support.capabilities import NGINX

PATIENCE = 30  # seconds that a server has to begin, or to end
_CONFIG = """
daemon off;
pid "{folder}/nginx.pid";
error_log "{folder}/error.log";
events {{ worker_connections 64; }}
http {{
  access_log off;
  client_body_temp_path "{folder}/body"; proxy_temp_path "{folder}/proxy";
  fastcgi_temp_path "{folder}/f"; uwsgi_temp_path "{folder}/u"; scgi_temp_path "{folder}/s";
  client_max_body_size 64m;
  server {{
    listen 127.0.0.1:{port} ssl;
    ssl_certificate "{folder}/cert.pem";
    ssl_certificate_key "{folder}/key.pem";
    location / {{
      proxy_pass http://127.0.0.1:{behind};
      proxy_set_header Host $host;
      proxy_set_header X-Forwarded-For $proxy_add_x_forwarded_for;
      proxy_set_header X-Forwarded-Proto $scheme;
    }}
  }}
}}
"""


def free_port() -> int:
    """Return a port that nobody listens on."""
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        return int(found.getsockname()[1])


def start(
    case: unittest.TestCase | type[unittest.TestCase],
    package: str,
    code: Path,
    state: Path,
    **settings: str,
) -> tuple[subprocess.Popen[str], int, str]:
    """Serve a package whose folder is `code` from the folder `state` until the test ends;
    return the process, its port, and what it said at its start."""
    environment = {k: v for k, v in os.environ.items() if k not in ("DATABASE_URL", "SECRET_KEY")}  # fmt: skip
    environment |= {"PYTHONPATH": str(code), "PYTHONUNBUFFERED": "1", **settings}
    port = free_port()
    process = subprocess.Popen(
        [sys.executable, "-m", package, "serve", "--port", str(port)],
        cwd=state,
        env=environment,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
    )
    add = case.addClassCleanup if isinstance(case, type) else case.addCleanup
    add(end, process)
    return process, port, wait_for(process, "State in")


def wait_for(process: subprocess.Popen[str], words: str) -> str:
    """Return what a process says up to the line that holds `words`; what it says behind
    that is read and thrown away, so that it never has to wait."""
    lines: SimpleQueue[str] = SimpleQueue()

    def read() -> None:
        assert process.stdout is not None
        with suppress(ValueError):  # closed at the end
            for line in process.stdout:
                lines.put(line)
        lines.put("")

    Thread(target=read, daemon=True).start()
    said = ""
    while words not in said:
        line = lines.get(timeout=PATIENCE)
        said += line
        if not line:
            raise AssertionError(f"it did not begin: {said}")
    return said


def end(process: subprocess.Popen[str]) -> None:
    """End a process, by force where it does not end by itself."""
    process.terminate()
    try:
        process.wait(PATIENCE)
    except subprocess.TimeoutExpired:
        process.kill()
        process.wait()
    if process.stdout is not None:
        process.stdout.close()


def start_nginx(case: type[unittest.TestCase], folder: Path, behind: int) -> int:
    """Start nginx, with a certificate of its own, in front of a port; return its port."""
    port = free_port()
    make = ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2",
            "-subj", "/CN=lights.example", "-keyout", f"{folder}/key.pem", "-out", f"{folder}/cert.pem"]  # fmt: skip
    subprocess.run(make, check=True, capture_output=True)
    config = folder / "nginx.conf"
    config.write_text(_CONFIG.format(folder=folder, port=port, behind=behind))
    process = subprocess.Popen(
        [NGINX or "nginx", "-p", str(folder), "-c", str(config)],
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
    )
    case.addClassCleanup(end, process)
    ends = time.monotonic() + PATIENCE
    while time.monotonic() < ends and process.poll() is None:
        with socket.socket() as tried:
            if tried.connect_ex(("127.0.0.1", port)) == 0:
                return port
    raise AssertionError((folder / "error.log").read_text())


@dataclass
class _Answer:
    status_code: int
    headers: Mapping[str, str]
    data: bytes

    @property
    def mimetype(self) -> str:
        return self.headers.get("Content-Type", "").partition(";")[0]

    def get_data(self) -> bytes:
        return self.data


@dataclass
class Client:
    """A browser's part: cookies, a referrer, and the address that it comes from."""

    port: int
    origin: str = "127.0.0.1"
    is_safe: bool = False
    host: str = ""
    cookies: SimpleCookie = field(default_factory=SimpleCookie)
    headers: Mapping[str, str] = field(default_factory=dict)

    def get(self, address: str) -> Page:
        """Open an address."""
        return self._ask("GET", address, None)

    def post(self, address: str, sent: Mapping[str, Any]) -> Page:
        """Send a form as a browser does."""
        return self._ask("POST", address, urlencode(sent, doseq=True))

    def post_file(
        self, address: str, sent: Mapping[str, Any], name: str, content: bytes
    ) -> Page:
        """Send a form with a file as a browser does."""
        mark = "lamp-and-chart"
        parts = [
            f'--{mark}\r\nContent-Disposition: form-data; name="{key}"\r\n\r\n{each}\r\n'
            for key, values in sent.items()
            for each in (values if isinstance(values, list) else [values])
        ]
        head = f'--{mark}\r\nContent-Disposition: form-data; name="{name}"; filename="a.png"\r\nContent-Type: image/png\r\n\r\n'  # fmt: skip
        body = "".join([*parts, head]).encode() + content + f"\r\n--{mark}--\r\n".encode()  # fmt: skip
        return self._ask("POST", address, body, f"multipart/form-data; boundary={mark}")

    def sign_in(self, name: str, password: str) -> Page:
        """Sign in through the page."""
        form = self.get("/sign-in").form("form")
        assert form is not None
        return self.post("/sign-in", form.sent(name=name, password=password))

    def connect(self) -> http.client.HTTPConnection:
        """Return a connection to the server."""
        source = (self.origin, 0)
        if not self.is_safe:
            return http.client.HTTPConnection(
                "127.0.0.1", self.port, timeout=PATIENCE, source_address=source
            )
        context = ssl.create_default_context()
        context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
        return http.client.HTTPSConnection(
            "127.0.0.1",
            self.port,
            timeout=PATIENCE,
            context=context,
            source_address=source,
        )

    def _ask(
        self,
        method: str,
        address: str,
        body: str | bytes | None,
        kind: str = "application/x-www-form-urlencoded",
    ) -> Page:
        connection = self.connect()
        host = self.host or f"127.0.0.1:{self.port}"
        scheme = "https" if self.is_safe else "http"
        headers = {"Host": host, "Referer": f"{scheme}://{host}/", **self.headers}
        headers["Cookie"] = "; ".join(f"{k}={v.value}" for k, v in self.cookies.items())
        if body is not None:
            headers["Content-Type"] = kind
        try:
            connection.request(method, address, body, headers)
            answer = connection.getresponse()
            data = answer.read()
        finally:
            connection.close()
        for line in answer.msg.get_all("Set-Cookie") or ():
            self.cookies.load(re.sub(r"(?i)expires=[^;]*;?", "", line))
        return Page(_Answer(answer.status, dict(answer.msg.items()), data), address)
