"""The catalogue of a database: its facts as SQLAlchemy's inspector reads them."""

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, fields, replace
from math import log10
from typing import Any, NamedTuple

from sqlalchemy import Connection
from sqlalchemy.engine.reflection import Inspector, ObjectKind

from lumet.facts.model import (
    Check,
    Column,
    Default,
    Index,
    Reference,
    Routine,
    TableKind,
    Type,
    Unique,
    Writing,
)

_QUOTED = re.compile(r"'((?:[^']|'')*)'(?:::[\w\s\"\[\](),.]+)?")
_NUMBER = re.compile(r"\(?([+-]?\d+(?:\.\d+)?(?:[eE][+-]?\d+)?)\)?(?:::[\w\s\"]+)?")
_WORDS = re.compile(r"(true|false)", re.IGNORECASE)
FEW = 1_000  # rows; an estimate below says nothing


@dataclass(frozen=True, slots=True)
class About:
    """Facts about a table as a whole, as in `Table`."""

    comment: str = ""
    denied: tuple[Writing, ...] = ()
    row_security: bool = False
    estimate: int = 0
    exclusions: tuple[Check, ...] = ()
    triggers: tuple[str, ...] = ()
    definition: str = ""
    updatable: bool = False
    refusal: str = ""

    def parts(self) -> dict[str, Any]:
        """Return the parts by their names."""
        return {each.name: getattr(self, each.name) for each in fields(self)}


class Outgoing(NamedTuple):
    """A foreign key, and the schema of the table it refers to; None is its own."""

    reference: Reference
    schema: str | None


class Catalogue:
    """The catalogue of one schema, as the inspector alone reads it.
    Tables are named as they are in their schema.

    `kinds` holds every table and view that can be read, `unreadable` those that the
    database itself cannot read. Those of a kind of server override what they know
    better.
    """

    def __init__(
        self, inspector: Inspector, schema: str | None, connection: Connection
    ) -> None:
        self.inspector = inspector
        self.schema = schema
        kinds: dict[str, TableKind] = dict.fromkeys(
            inspector.get_table_names(schema), "table"
        )
        kinds |= dict.fromkeys(inspector.get_view_names(schema), "view")
        self.kinds: Mapping[str, TableKind] = kinds
        self.unreadable: Sequence[str] = ()
        self._read: dict[str, dict[str, Any]] = {}

    def bulk(self, call: Callable[..., Any]) -> dict[str, Any]:
        """Return the result of one of the inspector's calls for all tables, by table;
        it is called once."""
        name = call.__name__
        if not self.kinds:
            return {}  # no filter would stand for all
        if name not in self._read:
            found = call(
                schema=self.schema, kind=ObjectKind.ANY, filter_names=list(self.kinds)
            )
            self._read[name] = {table: each for (_, table), each in found.items()}
        return self._read[name]

    def columns(self, table: str) -> tuple[Column, ...]:
        """Return the columns that may be read, as the inspector sees them."""
        found = self.bulk(self.inspector.get_multi_columns).get(table) or ()
        return tuple(
            make_column(
                each["name"],
                type_of(each["type"]),
                nullable=bool(each["nullable"]),
                default=each.get("default"),
                automatic=bool(
                    each.get("autoincrement") is True or each.get("identity")
                ),
                generated=str((each.get("computed") or {}).get("sqltext", "")),
                comment=each.get("comment") or "",
            )
            for each in found
        )

    def primary_key(self, table: str) -> tuple[str, ...]:
        """Return the columns of the primary key, in its order."""
        found = self.bulk(self.inspector.get_multi_pk_constraint).get(table) or {}
        return tuple(found.get("constrained_columns") or ())

    def uniques(self, table: str) -> Sequence[Unique]:
        """Return the unique constraints; unique indexes may be left to `indexes`."""
        found = self.bulk(self.inspector.get_multi_unique_constraints).get(table) or ()
        return [Unique(tuple(i["column_names"]), i["name"] or "") for i in found]

    def references(self, table: str) -> Sequence[Outgoing]:
        """Return the foreign keys that the inspector knows."""
        found = self.bulk(self.inspector.get_multi_foreign_keys).get(table) or ()
        return [
            Outgoing(self._reference(each), each.get("referred_schema"))
            for each in found
        ]

    def _reference(self, found: Any) -> Reference:
        options = found.get("options") or {}
        return Reference(
            columns=tuple(found["constrained_columns"]),
            referred_table=found["referred_table"],
            referred_columns=tuple(found["referred_columns"] or ()),
            name=found.get("name") or "",
            on_delete=rule_of(options.get("ondelete")),
            on_update=rule_of(options.get("onupdate")),
            deferrable=bool(options.get("deferrable")),
            deferred=str(options.get("initially")).upper() == "DEFERRED",
        )

    def indexes(self, table: str) -> tuple[Index, ...]:
        """Return the indexes that the inspector knows: all but those behind the key and
        the unique constraints."""
        found = self.bulk(self.inspector.get_multi_indexes).get(table) or ()
        return sorted_indexes(map(_index, found))

    def checks(self, table: str) -> tuple[Check, ...]:
        """Return the constraints that the inspector knows."""
        found = self.bulk(self.inspector.get_multi_check_constraints).get(table) or ()
        return sorted_checks(
            Check(item["sqltext"].strip(), item["name"] or "") for item in found
        )

    def about(self, table: str) -> About:
        """Return nothing: the inspector knows no more."""
        return About()

    def routines(self) -> Sequence[Routine]:
        """Return none: the inspector knows of no procedures and functions."""
        return ()


def _index(found: Any) -> Index:
    options = found.get("dialect_options") or {}
    names = found["column_names"]
    sorting = found.get("column_sorting") or {}
    return Index(
        name=found["name"] or "",
        columns=tuple(name for name in names if name is not None),
        unique=bool(found["unique"]),
        partial=any(
            name.endswith("_where") and value is not None
            for name, value in options.items()
        ),
        descending=tuple(name for name in names if "desc" in sorting.get(name, ())),
        computed=None in names,
    )


def sorted_indexes(found: Iterable[Index]) -> tuple[Index, ...]:
    """Return indexes in the order of their columns."""
    return tuple(sorted(found, key=lambda index: (index.columns, index.name)))


def sorted_checks(found: Iterable[Check]) -> tuple[Check, ...]:
    """Return checks in the order of their names."""
    return tuple(sorted(found, key=lambda check: (check.name, check.text)))


def told_apart(found: Iterable[Routine]) -> tuple[Routine, ...]:
    """Return routines in the order of their names, several of one name with the types
    of their parameters behind it."""
    by_name: dict[str, list[Routine]] = {}
    for each in found:
        by_name.setdefault(each.name, []).append(each)
    told: dict[str, Routine] = {}
    for name, several in by_name.items():
        for each in several:
            given = (p.type.native for p in each.parameters if p.mode != "out")
            own = name if len(several) == 1 else f"{name}({', '.join(given)})"
            told.setdefault(own, replace(each, name=own))
    return tuple(told[name] for name in sorted(told))


def about_many(rows: float | None) -> int:
    """Return an estimate as a power of ten, so that it seldom changes; 0 for few."""
    return 10 ** round(log10(rows)) if rows and rows >= FEW else 0


def make_column(
    name: str,
    type_: Type,
    *,
    nullable: bool = True,
    default: str | None = None,
    automatic: bool = False,
    generated: str = "",
    comment: str = "",
    denied: tuple[Writing, ...] = (),
) -> Column:
    """Return a column; `default` is what the database fills in, as it spells it."""
    has_default = not automatic and not generated
    return Column(
        name=name,
        type=type_,
        nullable=nullable,
        default=default_of(default) if has_default else None,
        automatic=automatic,
        generated=generated,
        comment=comment,
        denied=denied,
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
        ("datetime", datetime.datetime),
        ("date", datetime.date),
        ("time", datetime.time),
        ("binary", bytes),
    ):
        if python is known:
            return Type(kind, native)  # type: ignore[arg-type]
    return Type("unknown", native)
