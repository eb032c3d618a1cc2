"""Classification of database errors, for each server."""

import re
from dataclasses import dataclass
from typing import Literal

from flask_babel import gettext as _
from sqlalchemy.exc import DBAPIError

Kind = Literal[
    "unique", "needed", "reference", "rule", "range", "busy", "lost", "other"
]

_SQLITE = re.compile(
    r"^(UNIQUE|NOT NULL|CHECK|FOREIGN KEY) constraint failed(?:: (.+))?$"
)
_SQLITE_KINDS: dict[str, Kind] = {
    "UNIQUE": "unique",
    "NOT NULL": "needed",
    "CHECK": "rule",
    "FOREIGN KEY": "reference",
}
_POSTGRESQL: dict[str, Kind] = {
    "23505": "unique",
    "23502": "needed",
    "23503": "reference",
    "23514": "rule",
    "23P01": "rule",
    "22001": "range",
    "22003": "range",
    "22007": "range",
    "22008": "range",
    "22P02": "range",
    "40001": "busy",
    "40P01": "busy",
    "55P03": "busy",
    "57014": "busy",
}
_MARIADB: dict[int, Kind] = {
    1062: "unique",
    1048: "needed",
    1364: "needed",
    1451: "reference",
    1452: "reference",
    4025: "rule",
    1264: "range",
    1265: "range",
    1366: "range",
    1406: "range",
    1205: "busy",
    1213: "busy",
    1969: "busy",
}
_KEY = re.compile(r"Key \((.+?)\)=\(")
_COLUMN = re.compile(r"[Cc]olumn '([^']*)'|Field '([^']*)'")
_CONSTRAINT = re.compile(r"CONSTRAINT `([^`]*)`")


@dataclass(frozen=True, slots=True)
class DatabaseError:
    """The kind of refusal, the columns that it names, and the rule or its text."""

    kind: Kind
    columns: tuple[str, ...] = ()
    rule: str = ""


def not_allowed(told: DatabaseError) -> str:
    """Return the message of a refusal that belongs to no field and no reference."""
    if told.kind == "needed" and told.columns:
        names = ", ".join(told.columns)
        text = _("The database requires a value in %(names)s, which is not on this "
                 "form.",
                 names=names)  # fmt: skip
    elif told.rule:
        text = _(
            "The database does not allow this: %(rule)s.", rule=told.rule.rstrip(".")
        )
    else:
        text = _("The database does not allow this.")
    return str(text)


def classify(error: DBAPIError) -> DatabaseError:
    """Return the class of a driver's error."""
    original = error.orig
    said = str(original)
    if name := getattr(original, "sqlite_errorname", ""):
        return _of_sqlite(str(name), said)
    if (state := getattr(original, "sqlstate", None)) and state in _POSTGRESQL:
        return _of_postgresql(_POSTGRESQL[state], original)
    number = original.args[0] if original is not None and original.args else 0
    if is_lost(error):
        return DatabaseError("lost")
    kind = _MARIADB.get(number) if isinstance(number, int) else None
    if kind is None:
        return DatabaseError("other", rule=said.split("\n")[0])
    columns = tuple(first or second for first, second in _COLUMN.findall(said))
    constraint = _CONSTRAINT.search(said)
    return DatabaseError(kind, columns, constraint[1] if constraint else "")


def is_lost(error: DBAPIError) -> bool:
    """Tell whether the database cannot be reached, or the connection broke off."""
    if error.connection_invalidated:
        return True
    original = error.orig
    if type(original).__module__.startswith("psycopg"):
        state = getattr(original, "sqlstate", None)
        is_down = state is None and type(original).__name__ == "OperationalError"
        return is_down or str(state or "").startswith(("08", "57P"))
    number = original.args[0] if original is not None and original.args else 0
    return number in (2002, 2003, 2006, 2013)


def is_passing(error: DBAPIError) -> bool:
    """Tell whether transactions got in each other's way, so that the same work, done
    again from its beginning, will do."""
    original = error.orig
    if getattr(original, "sqlstate", None) in ("40001", "40P01"):
        return True
    if getattr(original, "sqlite_errorname", "") == "SQLITE_BUSY_SNAPSHOT":
        return True
    number = original.args[0] if original is not None and original.args else 0
    return number in (1213, 1020)


def _of_sqlite(name: str, said: str) -> DatabaseError:
    if name.startswith(("SQLITE_BUSY", "SQLITE_LOCKED", "SQLITE_INTERRUPT")):
        return DatabaseError("busy")
    if name.startswith(("SQLITE_CANTOPEN", "SQLITE_IOERR")):
        return DatabaseError("lost")
    found = _SQLITE.match(said)
    if found is None:
        return DatabaseError("other", rule=said)
    kind = _SQLITE_KINDS[found[1]]
    named = (found[2] or "").split(", ")
    if kind == "rule":
        return DatabaseError(kind, rule=named[0])
    return DatabaseError(kind, tuple(each.partition(".")[2] for each in named))


def _of_postgresql(kind: Kind, original: object) -> DatabaseError:
    told = getattr(original, "diag", None)
    column = getattr(told, "column_name", None)
    columns: tuple[str, ...] = (str(column),) if column else ()
    if found := _KEY.search(getattr(told, "message_detail", None) or ""):
        columns = tuple(part.strip().strip('"') for part in found[1].split(","))
        if "(" in found[1]:  # of an index over expressions, such as lower(name::text)
            columns = tuple(dict.fromkeys(re.findall(r"\w+", found[1])))
    if kind == "needed" and not columns:
        columns = tuple(re.findall(r'column "([^"]+)"', str(original))[:1])
    rule = getattr(told, "constraint_name", None) or ""
    return DatabaseError(
        kind, columns, rule or str(getattr(told, "message_primary", ""))
    )
