"""Making the demo: its folder, its database, its users."""

import secrets
from dataclasses import dataclass
from pathlib import Path

from lumet.demo.pictures import FOLDER, draw_vessels
from lumet.demo.scenario import build_database
from lumet.demo.words import VESSELS
from lumet.errors import CannotRun, LumetError
from lumet.project.project_files import ACCESS, CARD_PAGES, TABLES
from lumet.project.queries import QUERIES
from lumet.project.serving import NewUser, add_users

DATABASE = "skerry_lights.db"
_WARDENS = """
# Wardens see everything, and change the stations and inspections of their own district.

[user]
district = "text"

[role.warden]
label = "Warden"

[role.warden.tables]
"*" = ["view"]
station = ["view", "edit"]
inspection = ["view", "add", "edit"]
inspection_finding = ["view", "add", "edit", "delete"]

[role.warden.changes]
station = "district_code = :user.district"
inspection = "station_id IN (SELECT s.id FROM station s WHERE s.district_code = :user.district)"

[role.warden.fields]
"station.code" = "read-only"
"keeper.phone" = "hidden"
"keeper.email" = "hidden"
"""


_REPAIRS = """
# Repairs are worked through in their list, with what they used beside them.

[list]
edit = "cells"
columns = ["light_id.lens_code", "status", "done_on", "labour_eur", "parts_used"]

[field.parts_used]
label = "Parts used"
formula = "(SELECT sum(p.quantity) FROM repair_part p WHERE p.repair_id = repair.id)"
"""
_ROUNDS = """\
-- the stations by when somebody was last there
SELECT s.id AS station, s.district_code, s.state,
       max(i.inspected_on) AS last_inspected_on, count(i.id) AS inspections
FROM station s
LEFT JOIN inspection i ON i.station_id = s.id
GROUP BY s.id, s.district_code, s.state
"""
_ROUNDS_SHOWN = """\
singular = "Round"
plural = "Rounds due"
title = "{station}"

[list]
columns = ["district_code", "state", "last_inspected_on", "inspections"]
order = ["last_inspected_on"]
"""


_WARDEN_PAGE = """\
label = "Your district"
group = "Records"
roles = ["warden"]

[cards]
dark = { kind = "number", table = "station", filter = "state.is=dark&district_code.is=:user.district" }
dim = { kind = "number", table = "station", filter = "state.is=dim&district_code.is=:user.district" }
next = { kind = "rows", table = "rounds_due", filter = "district_code.is=:user.district", label = "Next rounds" }
kinds = { kind = "shares", table = "station", by = "kind", filter = "district_code.is=:user.district" }
"""
_PHOTOS = f"""
[field.photo]
folder = "{FOLDER}"  # among the uploads; what people add goes there too
"""


@dataclass(frozen=True, slots=True)
class DemoUser:
    """A user of the demo, and what its role may do in words."""

    name: str
    role: str
    password: str
    may: str


def make_demo_database(folder: Path) -> Path:
    """Build the demo's database in `folder`, which must be new or empty; return its
    path.

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
        draw_vessels(folder / "uploads", [code for code, *_ in VESSELS])
    except OSError as error:
        raise CannotRun(
            f"{folder} cannot be written: {error.strerror}.", "Choose another folder."
        ) from error
    return path.resolve()


def decide_demo(folder: Path) -> None:
    """Decide what no survey can know: a role whose people change their own district, a
    list that is edited in its place, where pictures lie, a query with a page of its
    own."""
    for name, added in (
        (ACCESS, _WARDENS),
        (f"{TABLES}/repair.toml", _REPAIRS),
        (f"{TABLES}/vessel.toml", _PHOTOS),
        (f"{TABLES}/rounds_due.toml", _ROUNDS_SHOWN),
        (f"{QUERIES}/rounds_due.sql", _ROUNDS),
        (f"{CARD_PAGES}/district.toml", _WARDEN_PAGE),
    ):
        path = folder / name
        path.parent.mkdir(exist_ok=True)
        before = path.read_text(encoding="utf-8") if path.exists() else ""
        path.write_text(before + added, encoding="utf-8", newline="\n")


def add_demo_users(folder: Path, package: str) -> list[DemoUser]:
    """Add one user for each role, each with a random password."""
    made = [
        DemoUser("ina", "administrator", secrets.token_urlsafe(12), "everything"),
        DemoUser("tove", "editor", secrets.token_urlsafe(12), "all but reference data"),
        DemoUser("rolf", "viewer", secrets.token_urlsafe(12), "looks, changes nothing"),
        DemoUser(
            "siv", "warden", secrets.token_urlsafe(12), "changes its own district"
        ),
    ]
    own = {"warden": {"district": "NR"}}
    listed = [NewUser(u.name, u.role, u.password, own.get(u.role, {})) for u in made]
    add_users(folder, package, listed)
    return made
