"""The fingerprint of an application: the survey, the decisions, and the version."""

import hashlib
import json
import os
from functools import cache
from importlib import resources
from pathlib import Path

from lumet import __version__
from lumet.generation.merge_writer import MANIFEST, keep_all_inside
from lumet.project import project_files as files
from lumet.project.surveyfile import Survey

REPORT = "report"  # and what its report says of the application
INPUTS = "inputs"  # what the record of a generation calls the inputs
_GENERATING = ("generation", "kinds", "kit", "design", "expressions")
_DECISIONS = (files.SETTINGS, files.ACCESS, "design/**/*.toml")

_INPUTS = (*_DECISIONS, "design/queries/*.sql")


def origin_of(folder: Path, package: str) -> dict[str, str]:
    """Return digests of all that the application in `folder` follows from."""
    decided = _decided(folder)
    return {
        "lumet": __version__,
        "code": _code(),
        "package": package,
        "survey": _digest(folder, [folder / files.SURVEY]),
        "decisions": _digest(folder, decided),
    }


def inputs_of(folder: Path, survey: Survey) -> dict[str, str]:
    """Return a digest of each thing that files follow from: the decision files by their
    path, and the surveyed tables by `survey:TABLE`."""
    found = {
        _name(folder, path): _short(path.read_bytes()) for path in _decided(folder)
    }
    for name, entries in survey.tables.items():
        facts = survey.database.by_name.get(name)
        found[f"survey:{name}"] = _short(repr((facts, entries)).encode())
    return found


def _decided(folder: Path) -> list[Path]:
    """Return the files of decisions, those that are included among them."""
    found = {path for pattern in _INPUTS for path in folder.glob(pattern)}
    shared = (folder / name for name in files.included_files(folder))
    return sorted(found | {path for path in shared if path.is_file()})


def _name(folder: Path, path: Path) -> str:
    return Path(os.path.relpath(path, folder)).as_posix()


def _short(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()[:16]


@cache
def _code() -> str:
    """Return a digest of the code that generates, and of the kit that is copied: a
    version under development keeps its number."""
    home = Path(str(resources.files("lumet")))
    found = hashlib.sha256()
    for path in sorted(p for part in _GENERATING for p in (home / part).rglob("*")):
        if path.suffix not in ("", ".pyc") and path.is_file():
            found.update(f"{path.relative_to(home)}\0".encode() + path.read_bytes())
    return found.hexdigest()[:16]


def _digest(folder: Path, paths: list[Path]) -> str:
    found = hashlib.sha256()
    for path in paths:
        name = _name(folder, path)
        content = path.read_bytes()
        found.update(f"{name}\0{len(content)}\0".encode() + content)
    return found.hexdigest()[:16]


def current_package(folder: Path) -> str | None:
    """Return the package of an application that is as the survey and the decisions want
    it, with every file there; None when it has to be generated."""
    try:
        manifest = json.loads((folder / MANIFEST).read_bytes())
        package = str(manifest["package"])
        is_current = origin_of(folder, package).items() <= manifest.items()
        settled = not manifest["pending"]
        needed = [*manifest["files"], f"{package}/custom/__init__.py"]
        keep_all_inside(folder, needed, MANIFEST)
        files_there = all((folder / path).exists() for path in needed)
    except (OSError, ValueError, KeyError, TypeError, AttributeError):
        return None
    return package if is_current and settled and files_there else None
