"""What each kind of server adds to what SQLAlchemy's inspector reads."""

import re
from collections.abc import Mapping, Sequence
from typing import Any, Protocol

from sqlalchemy.engine.interfaces import ReflectedColumn
from sqlalchemy.engine.reflection import Inspector

from lumet.facts.model import Check, Column, Default, TableKind, Type

_QUOTED = re.compile(r"'((?:[^']|'')*)'(?:::[\w\s\"\[\](),.]+)?")
_NUMBER = re.compile(r"\(?([+-]?\d+(?:\.\d+)?(?:[eE][+-]?\d+)?)\)?(?:::[\w\s\"]+)?")
_WORDS = re.compile(r"(true|false)", re.IGNORECASE)


class Supplement(Protocol):
    """The narrow interface over one kind of server."""

    kinds: Mapping[str, TableKind]  # every table and view that can be read
    unreadable: Sequence[str]
    comments: Mapping[str, str]
    unwritable: frozenset[str]  # what the connected user may not change

    def column(self, table: str, found: ReflectedColumn) -> Column:
        """Return a column with all that is known of it."""
        ...

    def rules(self, table: str, found: Any) -> tuple[str, str]:
        """Return ON DELETE and ON UPDATE of a foreign key, "" for no action."""
        ...

    def checks(self, table: str, found: Sequence[Any]) -> tuple[Check, ...]:
        """Return the check constraints of a table."""
        ...


class Plain:
    """A server that has no supplement: what the inspector alone says."""

    def __init__(self, inspector: Inspector) -> None:
        kinds: dict[str, TableKind] = dict.fromkeys(
            inspector.get_table_names(), "table"
        )
        kinds |= dict.fromkeys(inspector.get_view_names(), "view")
        self.kinds: Mapping[str, TableKind] = kinds
        self.unreadable: Sequence[str] = ()
        self.comments: Mapping[str, str] = {}
        self.unwritable: frozenset[str] = frozenset()

    def column(self, table: str, found: ReflectedColumn) -> Column:
        """Return the column as the inspector sees it."""
        automatic = bool(found.get("autoincrement") is True or found.get("identity"))
        return make_column(found, type_of(found["type"]), automatic=automatic)

    def rules(self, table: str, found: Any) -> tuple[str, str]:
        """Return the rules that the inspector knows."""
        options = found.get("options") or {}
        return rule_of(options.get("ondelete")), rule_of(options.get("onupdate"))

    def checks(self, table: str, found: Sequence[Any]) -> tuple[Check, ...]:
        """Return the constraints that the inspector knows."""
        checks = [Check(item["sqltext"].strip(), item["name"] or "") for item in found]
        return tuple(sorted(checks, key=lambda check: (check.name, check.text)))


def make_column(
    found: ReflectedColumn,
    type_: Type,
    *,
    automatic: bool = False,
    needed: bool = False,
    generated: str = "",
    comment: str | None = None,
) -> Column:
    """Return a column of a known type from what the inspector found; `needed` where it
    may not be empty for a reason that the inspector does not see."""
    computed = found.get("computed")
    generated = str(computed["sqltext"]) if computed else generated
    has_default = not automatic and not generated
    return Column(
        name=found["name"],
        type=type_,
        nullable=bool(found["nullable"]) and not needed,
        default=default_of(found.get("default")) if has_default else None,
        automatic=automatic,
        generated=generated,
        comment=(found.get("comment") if comment is None else comment) or "",
    )


def rule_of(text: str | None) -> str:
    """Return a referential action in lower case, "" for none."""
    lowered = (text or "").lower()
    return "" if lowered == "no action" else lowered


def default_of(text: str | None) -> Default | None:
    """Tell a literal default from an expression."""
    if text is None or text.upper() == "NULL" or text.startswith("NULL::"):
        return None
    if quoted := _QUOTED.fullmatch(text):
        return Default(quoted[1].replace("''", "'"), literal=True)
    if number := _NUMBER.fullmatch(text):
        return Default(number[1], literal=True)
    if _WORDS.fullmatch(text):
        return Default(text, literal=True)
    return Default(text, literal=False)


def type_of(found: Any) -> Type:
    """Return the canonical type of a SQLAlchemy type, by its Python type."""
    import datetime
    import decimal

    native = str(found)
    try:
        python = found.python_type
    except NotImplementedError:
        return Type("unknown", native)
    length = getattr(found, "length", None)
    if python is str:
        return Type("text", native, length=length)
    if python is decimal.Decimal:
        return Type("decimal", native, precision=found.precision, scale=found.scale)
    for kind, known in (
        ("boolean", bool),
        ("integer", int),
        ("float", float),
        ("moment", datetime.datetime),
        ("date", datetime.date),
        ("time", datetime.time),
        ("binary", bytes),
    ):
        if python is known:
            return Type(kind, native)  # type: ignore[arg-type]
    return Type("unknown", native)
