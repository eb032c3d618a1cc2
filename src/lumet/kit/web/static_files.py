"""Scripts, styles and fonts under addresses that change with them, so that browsers
need not ask for them again with every page."""

import time
from pathlib import Path

from flask import Flask, Response, current_app, request, send_from_directory

YEAR = 31_536_000  # seconds
FOLDER = "static"
OWN = "own"  # below which there are files of custom/static
STYLE = "style.css"
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


def own_address() -> str:
    """Return the beginning of the addresses of your own static files."""
    folder = str(_own_folder(current_app))
    return f"{request.script_root}/{OWN}/v-{_revision(folder)}/"


def own_style() -> str:
    """Return the address of your own stylesheet, "" where there is none."""
    is_there = (_own_folder(current_app) / STYLE).is_file()
    return own_address() + STYLE if is_there else ""


def _own_folder(app: Flask) -> Path:
    return Path(app.root_path) / "custom" / FOLDER


def serve_revisions(app: Flask) -> None:
    """Answer the addresses that `static_address` and `own_address` begin."""

    @app.get(f"/{FOLDER}/v-<revision>/<path:filename>")
    def static_revision(revision: str, filename: str) -> Response:
        return sent(app.static_folder or FOLDER, revision, filename)

    @app.get(f"/{OWN}/v-<revision>/<path:filename>")
    def own_revision(revision: str, filename: str) -> Response:
        return sent(str(_own_folder(app)), revision, filename)

    def sent(folder: str, revision: str, filename: str) -> Response:
        answer = send_from_directory(folder, filename, max_age=YEAR)
        if revision == _revision(folder):
            answer.cache_control.immutable = True
        else:
            answer.cache_control.no_store = True
        return answer
