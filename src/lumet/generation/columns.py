"""The code of the columns of a table, and of its constraints."""

from lumet.design.decision_schema import FieldDecisions
from lumet.facts.model import Column, Reference
from lumet.generation.model import TableSource
from lumet.kinds import KIND_OF

_OWN_TYPES = {
    "decimal": "Decimal()",
    "boolean": "YesNo",
    "date": "Date",
    "time": "Time",
    "datetime": "DateTime",
    "unknown": "AnyValue",
}
_SQLALCHEMY_TYPES = {
    "integer": "Integer",
    "float": "Float",
    "text": "String",
    "binary": "LargeBinary",
    "json": "Text",
    "uuid": "String",
}


def column_code(source: TableSource, column: Column) -> str:
    """Return the declaration of a column."""
    table, key = source.table, source.keys[column.name]
    parts = [repr(column.name)] if key != column.name else []
    none = none_code(source, column)
    type_code = _type_code(source, column)
    parts.append(f"NoneAs.of({none}, {type_code})" if none else type_code)
    reference = table.reference_of(column.name)
    if reference and source.has(reference):
        referred, (name,) = reference.referred_table, reference.referred_columns
        target = f"{referred}.{source.all_keys[referred][name]}"
        parts.append(f"ForeignKey({target!r}{_action_code(reference)})")
    if column.name in table.primary_key:
        parts.append("primary_key=True")
        if not column.automatic and column.type.kind == "integer":
            parts.append("autoincrement=False")
    elif not column.nullable and not none:
        parts.append("nullable=False")
    if column.generated:
        parts.append("server_default=FetchedValue()")
    elif column.default is not None and not (none and _is_none(source, column)):
        code = repr(column.default.text)
        code = code if column.default.literal else f"TextClause({code})"
        parts.append(f"server_default={code}")
    return f"{key} = Column({', '.join(parts)})"


def _is_none(source: TableSource, column: Column) -> bool:
    """Tell whether the default of a column is the value that stands for none."""
    none = source.field(column).none
    default = column.default.text if column.default is not None else None
    return default == none or (default is not None and default.strip() == none)


def none_code(source: TableSource, column: Column) -> str:
    """Return the value that stands for none in a column, "" where NULL does."""
    decided = source.field(column)
    if decided.none is None:
        return ""
    return repr(int(decided.none) if column.type.kind in ("integer", "decimal", "float") else decided.none)  # fmt: skip


def constraint_codes(source: TableSource) -> list[str]:
    """Return the constraints over several columns, and the unique ones."""
    found = []
    for unique in source.table.uniques:
        if unique.columns != source.table.primary_key:
            names = ", ".join(repr(source.keys[name]) for name in unique.columns)
            if unique.name in source.decisions.messages:
                names += f", name={unique.name!r}"
            found.append(f"UniqueConstraint({names})")
    for reference in source.table.references:
        if len(reference.columns) > 1 and source.has(reference):
            referred = reference.referred_table
            ours = [source.keys[name] for name in reference.columns]
            theirs = [f"{referred}.{source.all_keys[referred][name]}"
                      for name in reference.referred_columns]  # fmt: skip
            action = _action_code(reference)
            found.append(f"ForeignKeyConstraint({ours!r}, {theirs!r}{action})")
    return found


def table_code(source: TableSource) -> str:
    """Return the arguments of Table behind its columns."""
    table = source.table
    parts = constraint_codes(source)
    if table.schema:
        parts.append(f"schema={table.schema!r}")
    where, is_query = source.decisions.where, table.kind == "query"
    if where or is_query:
        info = f'"where": {where!r},' if where else ""
        if is_query:
            info += f'"query": {source.in_reach(table.definition)!r},'
        parts.append(f"info={{{info}}}")
    return "".join(f", {each}" for each in parts)


def _action_code(reference: Reference) -> str:
    if not reference.enforced:
        return ', info={"enforced": False}'
    if not reference.on_delete:
        return ""
    return f", ondelete={reference.on_delete.upper()!r}"


def _type_code(source: TableSource, column: Column) -> str:
    type_, decided = column.type, source.field(column)
    kind = KIND_OF[decided.kind]
    stored, usual = kind.storage
    if stored and (decided.storage_format or is_stored_otherwise(column, decided)):
        return f"{stored}.stored_as({decided.storage_format or usual!r})"
    if type_.kind == "binary" and kind.is_text:
        return "TextBytes"
    if type_.kind == "binary" and _is_key(source, column):
        return "KeyBytes"
    if type_.kind == "decimal" and type_.precision is not None:
        return f"Decimal({type_.precision}, {type_.scale or 0})"
    if own := source.server.column_type(type_, decided.kind):
        return own
    if type_.kind == "text" and type_.length is not None:
        return f"String({type_.length})"
    return _OWN_TYPES.get(type_.kind) or _SQLALCHEMY_TYPES[type_.kind]


def _is_key(source: TableSource, column: Column) -> bool:
    """Tell whether a column is of the key, refers to a record or is referred to."""
    table, database = source.table, source.application.database
    is_own = column.name in table.primary_key or bool(table.reference_of(column.name))
    return is_own or any(
        column.name in reference.referred_columns
        for _referring, reference in database.referring_to(table.name)
    )


def is_stored_otherwise(column: Column, decided: FieldDecisions) -> bool:
    """Tell whether a column is of another type than the kind of its values: a date in a
    text, say."""
    if not KIND_OF[decided.kind].storage[1]:
        return False
    if column.type.kind == "text":
        return True
    return decided.kind != "yes/no" and column.type.kind in ("integer", "float")
