"""What this machine has, and what must be there."""

import os
import shutil
import socket
import subprocess
import unittest
from collections.abc import Callable
from typing import Any

REQUIRED = {name for name in os.environ.get("LUMET_REQUIRED", "").split(",") if name}
CHROMIUM = os.environ.get("CHROMIUM") or shutil.which("chromium") or ""
NGINX = shutil.which("nginx", path="/usr/sbin:/usr/bin:/usr/local/sbin")
_missing: dict[str, str] = {}


def _answers(port: int) -> bool:
    with socket.socket() as connection:
        connection.settimeout(2)
        return connection.connect_ex(("127.0.0.1", port)) == 0


def _knows_packages() -> bool:
    if not (shutil.which("apt-cache") and shutil.which("dpkg-deb")):
        return False
    asked = ["apt-cache", "show", "freeradius-config"]
    return subprocess.run(asked, capture_output=True, check=False).returncode == 0


_CHECKS: dict[str, tuple[Callable[[], bool], str]] = {
    "browser": (lambda: bool(CHROMIUM), "install Chromium (Debian: chromium)"),
    "nginx": (lambda: bool(NGINX), "install nginx (Debian: nginx-light)"),
    "postgresql": (lambda: _answers(5432), "start PostgreSQL on 127.0.0.1:5432"),
    "mariadb": (lambda: _answers(3306), "start MariaDB on 127.0.0.1:3306"),
    "packages": (_knows_packages, "run apt-get update on Debian"),
}


def is_there(name: str) -> bool:
    """Tell whether this machine has something, by its name."""
    return _CHECKS[name][0]()


def needs(name: str) -> Callable[[Any], Any]:
    """Skip a test where `name` is missing, unless it is required: then let it fail."""
    check, remedy = _CHECKS[name]
    if name in REQUIRED or check():
        return lambda test: test
    _missing[name] = remedy
    return unittest.skip(f"{name} is not here")


def left_out() -> list[str]:
    """Return a line for each capability whose tests were left out."""
    return [
        f"Left out: the tests that need {k}; to include them, {v}."
        for k, v in _missing.items()
    ]
