"""The application as it is served live: the last good version answers, and another one
takes its place when its code or its templates have changed."""

import importlib
import importlib.util
import sys
import traceback
from collections.abc import Collection, Iterable
from contextlib import suppress
from pathlib import Path
from typing import Any

from jinja2 import TemplateSyntaxError


class BrokenCode(Exception):
    """Changed code that cannot be loaded: what is wrong, with file and line."""


class LiveApplication:
    """A WSGI application whose code can be loaded again. It passes for the present
    version of the application itself."""

    def __init__(self, folder: Path, package: str) -> None:
        self.folder, self.package = folder, package
        self.version = 1
        self.problem = ""  # why the latest change is not in effect
        self._app: Any = None

    def start(self) -> "LiveApplication":
        """Load the application for the first time; its errors are left to the
        caller."""
        self._app = self._module().create_app()
        return self

    def _module(self) -> Any:
        return importlib.import_module(self.package)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._app, name)

    def __call__(self, environ: Any, start_response: Any) -> Iterable[bytes]:
        answer: Iterable[bytes] = self._app(environ, start_response)
        return answer

    def reload_code(self, changed: Collection[Path]) -> None:
        """Load all modules anew. Raises BrokenCode, with the last good version still in
        place."""
        for path in changed:
            # a cache names the second of a change, in which there may be several
            with suppress(NotImplementedError, OSError):
                Path(importlib.util.cache_from_source(str(path))).unlink()
        before = self._forget()
        importlib.invalidate_caches()
        try:
            made = self._module().create_app()
        except Exception as error:
            self._forget()
            sys.modules.update(before)
            raise BrokenCode(self._told(error)) from error
        self._replace(made)

    def reload_templates(self, changed: Collection[Path]) -> None:
        """Read all templates anew. Raises BrokenCode for one that cannot be parsed."""
        for path in changed:
            try:
                self._app.jinja_env.parse(path.read_text("utf-8"), filename=str(path))
            except FileNotFoundError:
                continue
            except TemplateSyntaxError as error:
                place = self._place(str(path), error.lineno)
                raise BrokenCode(f"{place}: {error.message}") from error
        self._replace(self._module().create_app())

    def reload_pages(self) -> None:
        """Let open pages load again, as styles and scripts have changed."""
        self.version += 1
        self.problem = ""

    def _forget(self) -> dict[str, Any]:
        """Forget all modules of the application; return them."""
        prefix = f"{self.package}."
        names = [n for n in sys.modules if n == self.package or n.startswith(prefix)]
        return {name: sys.modules.pop(name) for name in names}

    def _replace(self, made: Any) -> None:
        made.config["TRUSTED_HOSTS"] = self._app.config["TRUSTED_HOSTS"]
        before, self._app = self._app, made
        self.reload_pages()
        site = before.extensions["site"]
        for database in (site.database, site.users.store):
            database.engine.dispose()  # what is in use is closed when it is given back

    def _told(self, error: Exception) -> str:
        """Return an error with the file and the line of the project that raised it."""
        if isinstance(error, SyntaxError) and error.filename:
            return f"{self._place(error.filename, error.lineno or 1)}: {error.msg}"
        if type(error).__name__ == "CannotStart":
            return str(error)  # the application's own words, with file and line
        home = str(self.folder)
        frames = [
            frame
            for frame in traceback.extract_tb(error.__traceback__)
            if frame.filename.startswith(home)
        ]
        said = (
            f"{type(error).__name__}: {error}" if str(error) else type(error).__name__
        )
        if not frames:
            return said
        place = self._place(frames[-1].filename, frames[-1].lineno or 1)
        return f"{place}: {frames[-1].line}\n  {said}"

    def _place(self, filename: str, line: int) -> str:
        path = Path(filename)
        inside = path.is_relative_to(self.folder)
        name = path.relative_to(self.folder).as_posix() if inside else filename
        return f"{name}:{line}"
