"""Serving on a terminal: what a change did, and opening the browser."""

import threading
import time
import urllib.error
import urllib.request
import webbrowser
from pathlib import Path

import typer

from lumet.cli.visible import visible
from lumet.live.serving import Serving, serve_live

WAIT, EVERY = 60.0, 0.2  # seconds


def run_live(
    folder: Path, package: str, host: str, port: int, is_read_only: bool
) -> int:
    """Serve the application and say on the terminal what each change did."""

    def told(text: str) -> None:
        typer.echo(visible(text), err=True)

    return serve_live(folder, package, Serving(host, port, is_read_only), told)


def open_when_ready(host: str, port: int) -> None:
    """Open the browser once the application answers; in a thread of its own."""
    name = f"[{host}]" if ":" in host else host
    address = f"http://{'127.0.0.1' if host in ('0.0.0.0', '') else name}:{port}/"

    def wait() -> None:
        ends = time.monotonic() + WAIT
        while time.monotonic() < ends:
            try:
                urllib.request.urlopen(address, timeout=WAIT).close()
            except urllib.error.HTTPError:
                pass  # an answer all the same
            except OSError:
                time.sleep(EVERY)
                continue
            webbrowser.open(address)
            return

    threading.Thread(target=wait, daemon=True).start()
