"""Serving the generated application, in a process of its own."""

import json
import os
import signal
import subprocess
import sys
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path

from lumet.errors import CannotRun

ENDS = [signal.SIGTERM, *([signal.SIGHUP] if hasattr(signal, "SIGHUP") else [])]


@dataclass(frozen=True, slots=True)
class NewUser:
    """A user to add, with a password made up for this user alone."""

    name: str
    role: str
    password: str
    attributes: Mapping[str, str] = field(default_factory=dict)


def serve(
    folder: Path, package: str, host: str, port: int, is_read_only: bool = False
) -> int:
    """Run the application until it ends; return its exit status."""
    arguments = ["serve", "--host", host, "--port", str(port)]
    environment = {**os.environ, **({"READ_ONLY": "1"} if is_read_only else {})}
    process = subprocess.Popen(
        _command(package, arguments), cwd=folder, env=environment
    )
    with _passing_on(process):
        while True:
            try:
                return process.wait()
            except KeyboardInterrupt:
                continue  # the application got the same signal and is ending


@contextmanager
def _passing_on(process: subprocess.Popen[bytes]) -> Iterator[None]:
    """Let the application end when this process is told to: else it would go on, on its
    port, with nobody to end it."""

    def end(number: int, frame: object) -> None:
        process.terminate()

    before = {number: signal.signal(number, end) for number in ENDS}
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
        if process.poll() is None:
            process.terminate()


# Run in the project's folder: adds the users that standard input lists as JSON.
_ADD_USERS = """
import importlib, json, pathlib, sys
store = importlib.import_module(sys.argv[1] + ".kit.accounts.store")
users = importlib.import_module(sys.argv[1] + ".kit.accounts.users")
settings = importlib.import_module(sys.argv[1] + ".kit.common.settings")
found = settings.read_settings()
kept = users.Users(store.open_store(found.accounts_url, found.folder))
for name, role, password, attributes in json.load(sys.stdin):
    kept.add(name, password, [role], attributes)
"""


def add_users(folder: Path, package: str, users: Sequence[NewUser]) -> None:
    """Add users to the application's accounts; the passwords go by standard input.

    Raises CannotRun when the application refuses.
    """
    listed = [
        [user.name, user.role, user.password, dict(user.attributes)] for user in users
    ]
    ran = subprocess.run(
        [sys.executable, "-c", _ADD_USERS, package],
        cwd=folder,
        input=json.dumps(listed),
        capture_output=True,
        text=True,
        check=False,
    )
    if ran.returncode:
        said = ran.stderr.strip().rpartition("\n")[2]
        raise CannotRun(f"The users could not be added: {said}")


def run_command(folder: Path, package: str, arguments: Sequence[str]) -> str:
    """Run a command of the application; return its output. Raises CannotRun where
    it fails."""
    ran = subprocess.run(
        _command(package, arguments),
        cwd=folder,
        capture_output=True,
        text=True,
        check=False,
    )
    if ran.returncode:
        raise CannotRun(ran.stderr.strip() or "The application does not run.")
    return ran.stdout


def _command(package: str, arguments: Sequence[str]) -> list[str]:
    return [sys.executable, "-m", package, *arguments]
