"""Serving the generated application, in a process of its own."""

import subprocess
import sys
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from lumet.errors import CannotRun


@dataclass(frozen=True, slots=True)
class NewUser:
    """A user to add, with a password made up for this user alone."""

    name: str
    role: str
    password: str


def serve(folder: Path, package: str, host: str, port: int) -> int:
    """Run the application until it ends; return its exit status."""
    arguments = ["serve", "--host", host, "--port", str(port)]
    process = subprocess.Popen(_command(package, arguments), cwd=folder)
    while True:
        try:
            return process.wait()
        except KeyboardInterrupt:
            continue  # the application got the same signal and is ending


def add_users(folder: Path, package: str, users: Sequence[NewUser]) -> None:
    """Add users to the application's accounts, all at the same time."""
    started = []
    for user in users:
        arguments = ["user", "add", user.name, "--role", user.role, "--password-stdin"]
        process = subprocess.Popen(
            _command(package, arguments),
            cwd=folder,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        started.append((user, process))
    for user, process in started:
        _, said = process.communicate(user.password + "\n")
        if process.returncode:
            raise CannotRun(f"User {user.name} could not be added: {said.strip()}")


def _command(package: str, arguments: Sequence[str]) -> list[str]:
    return [sys.executable, "-m", package, *arguments]
