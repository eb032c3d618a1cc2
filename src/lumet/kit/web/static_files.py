"""Scripts, styles and fonts under addresses that change with them, so that browsers
need not ask for them again with every page."""

import time
from pathlib import Path

from flask import Flask, Response, current_app, request, send_from_directory

YEAR = 31_536_000  # seconds
FOLDER = "static"
LASTS = 1.0  # seconds for which the files are not looked at again
_known: dict[str, tuple[float, str]] = {}


def _revision(folder: str) -> str:
    """Return a word that differs when any file does: times and sizes take no
    reading."""
    now = time.monotonic()
    looked_at, found = _known.get(folder, (0.0, ""))
    if not found or now - looked_at > LASTS:
        found = _look(Path(folder))
        _known[folder] = (now, found)
    return found


def _look(folder: Path) -> str:
    stats = [each.stat() for each in sorted(folder.rglob("*")) if each.is_file()]
    newest = max((each.st_mtime_ns for each in stats), default=0)
    return f"{newest ^ sum(each.st_size for each in stats):x}"


def static_address() -> str:
    """Return the beginning of the addresses of static files."""
    revision = _revision(current_app.static_folder or FOLDER)
    return f"{request.script_root}/{FOLDER}/v-{revision}/"


def serve_revisions(app: Flask) -> None:
    """Answer the addresses that `static_address` begins."""

    @app.get(f"/{FOLDER}/v-<revision>/<path:filename>")
    def static_revision(revision: str, filename: str) -> Response:
        folder = app.static_folder or FOLDER
        answer = send_from_directory(folder, filename, max_age=YEAR)
        if revision == _revision(folder):
            answer.cache_control.immutable = True
        else:
            answer.cache_control.no_store = True
        return answer
