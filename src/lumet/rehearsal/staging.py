"""The stage of a rehearsal: the application within this process, over a copy of a file or
over a server in transactions that are rolled back, with users and uploads of its own."""

import importlib
import os
import secrets
import shutil
import sqlite3
import sys
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from dotenv import dotenv_values

from lumet.errors import CannotRun
from lumet.rehearsal.probe import Probe, url_of

SQLITE = "sqlite:///"
MOST_UPLOADS = 500_000_000  # bytes that are copied


@dataclass(slots=True)
class Stage:
    """An application for a rehearsal, the probe of its database, what undoes a case, and
    the tables where nothing may be written, with the reason."""

    app: Any
    probe: Probe
    end_case: Callable[[], None] = lambda: None
    unsafe: dict[str, str] = field(default_factory=dict)
    is_copy: bool = True


@contextmanager
def staged(folder: Path, package: str) -> Iterator[Stage]:
    """Set the stage for the application of a project, whose database is left as it is.

    Raises CannotRun where it cannot start.
    """
    folder = folder.resolve()
    kept = dotenv_values(folder / ".env", interpolate=False)
    given = {name: value for name, value in kept.items() if value is not None}
    given |= os.environ
    address = given.get("DATABASE_URL", "")
    if not address:
        raise CannotRun(f"DATABASE_URL: not set, neither in the environment nor in {folder / '.env'}.")  # fmt: skip
    with tempfile.TemporaryDirectory(prefix="rehearsal ") as name:
        home = Path(name)
        is_file = address.startswith(SQLITE)
        if is_file:
            address = f"{SQLITE}{_copied(folder, address, home)}"
        _copy_uploads(folder / (given.get("UPLOADS") or "uploads"), home / "uploads")
        environment = {
            **given,
            "DATABASE_URL": address,
            "ACCOUNTS_URL": f"{SQLITE}accounts.db",
            "SECRET_KEY": secrets.token_urlsafe(48),
            "UPLOADS": "uploads",
            "REHEARSAL": "1",
            **dict.fromkeys(("READ_ONLY", "HTTPS"), "0"),
            **dict.fromkeys(("URL_PREFIX", "PROXY", "TRUSTED_HOSTS"), ""),
        }
        sys.path.insert(0, str(folder))
        try:
            app = _created(package, home, environment)
            try:
                yield _stage(app, package, address, is_file)
            finally:
                site = app.extensions["site"]
                for database in (site.database, site.users.store):
                    database.engine.dispose()
        finally:
            sys.path.remove(str(folder))
            for module in [m for m in sys.modules if m.split(".")[0] == package]:
                del sys.modules[module]


def _created(package: str, home: Path, environment: dict[str, str]) -> Any:
    importlib.invalidate_caches()
    try:
        made = importlib.import_module(package)
        settings = importlib.import_module(f"{package}.kit.common.settings")
        return made.create_app(settings.read_settings(home, environment))
    except Exception as error:
        said = str(error) or type(error).__name__
        raise CannotRun(f"The application does not start: {said}") from error


def _stage(app: Any, package: str, address: str, is_file: bool) -> Stage:
    if is_file:
        return Stage(app, Probe.at(address.removeprefix(SQLITE)))
    database = app.extensions["site"].database
    reach = importlib.import_module(f"{package}.kit.access.reach")
    option = importlib.import_module(f"{package}.kit.access.row_reach").OPTION

    def run(words: str) -> list[Any]:
        # within the case, so that it sees what that did; past all rights
        options = {option: reach.UNBOUNDED}
        escaped = words.replace("%", "%%")
        connection = database.connection
        return list(connection.exec_driver_sql(escaped, execution_options=options))

    probe = Probe(url_of(address), run)  # it spells names, and never connects itself
    return Stage(app, probe, database.roll_back, _unsafe(app, probe), is_copy=False)


def _unsafe(app: Any, probe: Probe) -> dict[str, str]:
    """Return the tables that a rollback does not restore, with the reason."""
    query = probe.server.unsafe_query
    reasons = {row[0]: row[1] for row in probe.rows(query)} if query else {}
    return {
        name: reasons[pages.table.name]
        for name, pages in app.extensions["site"].registry.pages.items()
        if pages.table.name in reasons
    }


def _copied(folder: Path, address: str, home: Path) -> Path:
    """Copy the file that an address names, as it is now; return the copy."""
    path = folder / address.removeprefix(SQLITE)
    if not path.is_file():
        raise CannotRun(f"DATABASE_URL: there is no file {path}.")
    target = home / "rehearsal.db"
    source = sqlite3.connect(f"{path.as_uri()}?mode=ro", uri=True)
    copy = sqlite3.connect(target)
    try:
        source.backup(copy)
    finally:
        source.close()
        copy.close()
    return target


def _copy_uploads(source: Path, target: Path) -> None:
    target.mkdir()
    if source.is_dir():
        size = sum(p.stat().st_size for p in source.rglob("*") if p.is_file())
        if size <= MOST_UPLOADS:
            shutil.copytree(source, target, dirs_exist_ok=True)
