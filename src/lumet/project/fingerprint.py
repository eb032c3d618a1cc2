"""The fingerprint of an application: the survey, the decisions, and the version."""

import hashlib
import json
from pathlib import Path

from lumet import __version__
from lumet.generation.merge_writer import MANIFEST
from lumet.project import project_files as files

_DECISIONS = (files.SETTINGS, files.ACCESS, "design/**/*.toml")


def origin_of(folder: Path, package: str) -> dict[str, str]:
    """Return digests of all that the application in `folder` follows from."""
    decided = sorted({path for pattern in _DECISIONS for path in folder.glob(pattern)})
    return {
        "lumet": __version__,
        "package": package,
        "survey": _digest(folder, [folder / files.SURVEY]),
        "decisions": _digest(folder, decided),
    }


def _digest(folder: Path, paths: list[Path]) -> str:
    found = hashlib.sha256()
    for path in paths:
        name = path.relative_to(folder).as_posix()
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
        files_there = all((folder / path).exists() for path in manifest["files"])
    except (OSError, ValueError, KeyError, TypeError, AttributeError):
        return None
    return package if is_current and settled and files_there else None
