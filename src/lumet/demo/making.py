"""Making the demo: its folder, its database, its users."""

import secrets
from dataclasses import dataclass
from pathlib import Path

from lumet.demo.scenario import build_database
from lumet.errors import CannotRun, LumetError
from lumet.project.serving import NewUser, add_users

DATABASE = "skerry_lights.db"


@dataclass(frozen=True, slots=True)
class DemoUser:
    """A user of the demo, and what its role may do in words."""

    name: str
    role: str
    password: str
    may: str


def make_demo_database(folder: Path) -> Path:
    """Build the demo's database in `folder`, which must be new or empty; return its path.

    Raises LumetError when the folder holds something.
    """
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise LumetError(
            f"{folder} is there already, and not empty.",
            f"Name a new one: lumet demo FOLDER   or serve this: "
            f"lumet serve --project {folder}",
        )
    try:
        folder.mkdir(parents=True, exist_ok=True)
        path = folder / DATABASE
        build_database(path)
    except OSError as error:
        raise CannotRun(
            f"{folder} cannot be written: {error.strerror}.", "Choose another folder."
        ) from error
    return path.resolve()


def add_demo_users(folder: Path, package: str) -> list[DemoUser]:
    """Add one user for each ready role, each with a random password."""
    made = [
        DemoUser("ina", "steward", secrets.token_urlsafe(12), "everything"),
        DemoUser("tove", "worker", secrets.token_urlsafe(12), "all but reference data"),
        DemoUser("rolf", "reader", secrets.token_urlsafe(12), "looks, changes nothing"),
    ]
    add_users(folder, package, [NewUser(u.name, u.role, u.password) for u in made])
    return made
