"""Serving live: the application within this process, watched."""

import importlib
import os
import sys
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from lumet.live.application import LiveApplication
from lumet.live.middleware import LiveMiddleware
from lumet.live.watching import Watcher


@dataclass(frozen=True, slots=True)
class Serving:
    """How the application is served: where it listens, and whether nothing can be
    written."""

    host: str
    port: int
    is_read_only: bool = False


def serve_live(
    folder: Path, package: str, serving: Serving, told: Callable[[str], None]
) -> int:
    """Serve the application of a project until it ends, and let it follow the changes
    of its files; return its exit status. `told` is called with what happened."""
    folder = folder.resolve()
    os.chdir(folder)
    sys.path.insert(0, str(folder))
    if serving.is_read_only:
        os.environ["READ_ONLY"] = "1"
    module = importlib.import_module(package)
    access = importlib.import_module(f"{package}.access")
    commands = importlib.import_module(f"{package}.kit.web.cli")
    live = LiveApplication(folder, package)
    watcher = Watcher(live, told)

    def create_app() -> LiveMiddleware:
        live.start()
        watcher.start()
        return LiveMiddleware(live)

    arguments: Sequence[str] = ("serve", "--host", serving.host, "--port", str(serving.port))  # fmt: skip
    roles = [role.name for role in access.ROLES]
    try:
        status: int = commands.run(package, module.NAME, create_app, roles, arguments)
        return status
    finally:
        watcher.stop()
