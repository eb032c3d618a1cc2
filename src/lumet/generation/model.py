"""The model of the generated code: everything is decided here, nothing in the
templates."""

import ast
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING

from lumet.design.access import RIGHTS, AccessDecisions, RoleDecisions
from lumet.design.decision_schema import (
    EDIT_CELLS,
    EDIT_CHOSEN,
    EDIT_ROWS,
    TITLE_PART,
    Detail,
    FieldDecisions,
    FieldKind,
    TableDecisions,
)
from lumet.design.dependent_lookups import columns_followed, lookup_reference
from lumet.design.details import joined_reference
from lumet.design.indexes import MANY_ROWS, is_served, unserved
from lumet.facts.dialects import server_of
from lumet.facts.model import WRITINGS, Column, Database, Reference, Table

if TYPE_CHECKING:
    from lumet.expressions.check_translation import Tree
from lumet.generation.names import FIELD_NAMES, MODULE_NAMES, class_name, python_names


@dataclass(frozen=True, slots=True)
class Application:
    """The application: its name, its package, its tables and roles."""

    name: str
    package: str
    dialect: str
    database: Database
    decisions: Mapping[str, TableDecisions]
    files: Mapping[str, str]  # the decision file of each table, for the headers
    access: AccessDecisions
    language: str = "en_GB"
    rows: Mapping[str, int] = field(default_factory=dict)  # about how many, by table


@dataclass(frozen=True, slots=True)
class TableModel:
    """One table's module."""

    name: str
    source: str
    schema: str
    where: str
    file: str
    module: str
    class_name: str
    constraints: tuple[str, ...]
    columns: tuple[str, ...]
    fields: tuple[str, ...]
    rules: tuple[str, ...]
    editable_keys: tuple[str, ...]
    generated_values: tuple[tuple[str, str], ...]
    automatic_values: tuple[tuple[str, str], ...]
    database_rules: tuple[tuple[str, str, str], ...]
    singular: str
    plural: str
    title: str
    group: str
    list_columns: tuple[str, ...]
    list_wide_columns: tuple[str, ...]
    list_order: tuple[str, ...]
    sections: tuple[tuple[str, tuple[str, ...]], ...]
    details: tuple[str, ...]
    external_references: tuple[str, ...]
    read_only: tuple[str, ...]
    totals: tuple[tuple[str, str], ...]
    formula_fields: tuple[str, ...]
    formulas: tuple[tuple[str, str], ...]
    lookup_columns: tuple[str, ...]
    list_layouts: tuple[str, ...]
    subtitle: tuple[str, ...]
    is_large: bool
    list_edit: str
    list_unindexed: tuple[str, ...]
    prefix_searchable: tuple[str, ...]
    query: str
    is_read_only_source: bool
    changeable: bool
    denied_by_database: tuple[str, ...]
    disabled_pages: tuple[str, ...]
    list_parent: str
    soft_delete: str
    has_list: bool
    record_columns: tuple[str, ...]
    add_columns: tuple[str, ...]
    edit_columns: tuple[str, ...]
    for_lookups: bool
    lists: tuple[tuple[str, str], ...]
    sqlalchemy: tuple[str, ...]
    types: tuple[str, ...]
    forms: tuple[str, ...]
    pages: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class RoleModel:
    """One role as code: its rights everywhere and the tables where they differ, its
    conditions and limits by table, and what else it may."""

    name: str
    label: str
    rights: str
    tables: tuple[tuple[str, str], ...]
    rows: tuple[tuple[str, str], ...]
    changes: tuple[tuple[str, str], ...]
    fields: tuple[tuple[str, str], ...]
    switches: tuple[str, ...]


_FIELDS = {
    "text": "TextField",
    "long text": "LongTextField",
    "e-mail": "EmailField",
    "web address": "WebAddressField",
    "phone": "PhoneField",
    "colour": "ColourField",
    "image": "TextField",
    "file": "TextField",
    "integer": "IntegerField",
    "money": "DecimalField",
    "percent": "DecimalField",
    "latitude": "DegreesField",
    "longitude": "DegreesField",
    "code": "CodeField",
    "decimal": "DecimalField",
    "yes/no": "YesNoField",
    "date": "DateField",
    "time": "TimeField",
    "datetime": "DateTimeField",
    "duration": "DurationField",
    "choice": "ChoiceField",
    "multiple choice": "MultipleChoiceField",
    "secret": "SecretField",
    "lookup": "LookupField",
    "json": "JsonField",
    "other": "OtherField",
}
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
_TEXT_FIELDS = frozenset({"TextField", "LongTextField", "EmailField", "WebAddressField",
                          "PhoneField", "ColourField"})  # fmt: skip
_TEXT_KINDS = frozenset(
    {"text", "long text", "e-mail", "web address", "phone", "colour"}
)
_NUMBER_FIELDS = frozenset({"IntegerField", "CodeField", "DecimalField", "FloatField",
                            "DegreesField"})  # fmt: skip
_NEVER_ENTERED = ("OtherField",)
_FILE_FIELDS = ("FileField", "PictureField")
ALL = "ALL"


def build_tables(application: Application) -> list[TableModel]:
    """Return the modules of all tables that the application has, by module name."""
    included = [
        t for t in application.database.tables if t.name in _wanted(application)
    ]
    modules = python_names([table.name for table in included], MODULE_NAMES)
    keys = {
        table.name: python_names([c.name for c in table.columns], FIELD_NAMES)
        for table in included
    }
    builder = _Builder(application, modules, keys)
    models = [builder.table(table) for table in included]
    return sorted(models, key=lambda model: model.module)


def _wanted(application: Application) -> set[str]:
    """Return the tables that are included, and those they refer to."""
    names = {name for name, each in application.decisions.items() if each.include}
    waiting = sorted(names)
    while waiting:
        for reference in application.database.table(waiting.pop()).references:
            referred = reference.referred_table
            if referred in application.decisions and referred not in names:
                names.add(referred)
                waiting.append(referred)
    return names


class _Builder:
    """Builds the model of each table; knows the Python names of all."""

    def __init__(
        self,
        application: Application,
        modules: Mapping[str, str],
        keys: Mapping[str, Mapping[str, str]],
    ) -> None:
        self.application = application
        self.modules = modules
        self.keys = keys

    def table(self, table: Table) -> TableModel:
        decisions = self.application.decisions[table.name]
        keys = self.keys[table.name]
        module = self.modules[table.name]
        shown = [c for c in table.columns if not decisions.field[c.name].hidden]
        columns = [self._column(table, column) for column in table.columns]
        constraints = self._constraints(table)
        lists = {c.name: self._choices_name(c, table) for c in shown}
        fields = [self._field(table, c, decisions.field[c.name], lists[c.name])
                  for c in shown]  # fmt: skip
        details = self._details(decisions) if _is_parted(table.name) else []
        external = self._external_references(table)
        sections = self._sections(decisions, [c.name for c in shown], keys)
        read_only = [
            keys[c.name]
            for c in shown
            if decisions.field[c.name].read_only
            or decisions.field[c.name].automatic
            or decisions.soft_delete == c.name
        ]
        formulas = _formulas(table, decisions)
        mine = {**keys, **{name: name for name in formulas}}
        formula_fields = [
            self._formula_field(table, name, decisions.field[name]) for name in formulas
        ]
        rules, database_rules = self._rules(table, decisions)
        mentioned = _mentioned(
            [*columns, *constraints, *fields, *formula_fields, *rules]
        )
        mentioned |= {"Table", "TypedColumns", "RecordForm"}
        pages = {"ListPage", "TablePages", *({"Section"} if sections else ())}
        pages |= {"RecordPage"} if sections or decisions.record.columns else set()
        pages |= (
            {"FormPage"} if decisions.add.columns or decisions.edit.columns else set()
        )
        pages |= {each.partition("(")[0] for each in details}
        pages |= {"DatabaseRule"} if database_rules else set()
        pages |= {"ExternalReference"} if external else set()
        order = [self._order(name, keys) for name in decisions.list.order]
        return TableModel(
            name=table.name,
            source=repr(table.own_name),
            schema=repr(table.schema) if table.schema else "",
            where=repr(decisions.where) if decisions.where else "",
            file=self.application.files[table.name],
            module=module,
            class_name=class_name(module),
            constraints=tuple(constraints),
            columns=tuple(columns),
            fields=tuple(fields),
            rules=tuple(rules),
            editable_keys=tuple(
                repr(keys[c.name])
                for c in shown
                if decisions.field[c.name].editable_key
            ),
            generated_values=tuple(
                (repr(keys[column.name]), repr(made))
                for column in table.columns
                if (made := _made_by(table, column, decisions.field[column.name]))
            ),
            automatic_values=tuple(
                (repr(keys[c.name]), repr(decisions.field[c.name].automatic))
                for c in table.columns
                if decisions.field[c.name].automatic
            ),
            database_rules=tuple(database_rules),
            singular=repr(decisions.singular or table.name),
            plural=repr(decisions.plural or table.name),
            title=repr(_with_keys(decisions.title or _key_title(table), keys)),
            group=repr(decisions.group or "Tables"),
            list_columns=tuple(
                repr(self._shown_key(table, name, mine))
                for name in decisions.list.columns
                if not decisions.field[_own_part(table, name)].hidden
            ),
            list_wide_columns=tuple(
                repr(self._shown_key(table, name, mine))
                for name in decisions.list.wide_columns
                if not decisions.field[_own_part(table, name)].hidden
            ),
            list_order=tuple(order),
            sections=tuple(sections),
            details=tuple(details),
            external_references=tuple(external),
            read_only=tuple(repr(key) for key in read_only),
            totals=tuple(
                (repr(keys[c.name]), repr(decisions.field[c.name].total))
                for c in shown
                if decisions.field[c.name].total
            ),
            formula_fields=tuple(formula_fields),
            formulas=tuple(
                (repr(name), repr(self._in_reach(decisions.field[name].formula)))
                for name in formulas
            ),
            lookup_columns=tuple(
                repr(self._shown_key(table, f"{column.name}.{each}", mine))
                for column in shown
                for each in decisions.field[column.name].lookup_columns
            ),
            list_layouts=tuple(repr(way) for way in decisions.list.layouts),
            subtitle=tuple(repr(keys[name]) for name in decisions.subtitle),
            is_large=self.application.rows.get(table.name, 0) >= MANY_ROWS,
            list_edit=repr(EDIT_CELLS) if decisions.list.edit == EDIT_CELLS else "",
            list_unindexed=self._unserved(table, decisions, keys),
            prefix_searchable=self._begins(table, decisions, keys),
            query=repr(self._in_reach(table.definition))
            if table.kind == "query"
            else "",
            is_read_only_source=table.is_view,
            for_lookups=not decisions.include,
            denied_by_database=_denied(table),
            disabled_pages=_without(table, decisions),
            list_parent=_key_of(decisions.list.parent, keys)
            if _is_parted(table.name)
            else "",
            soft_delete=_key_of(decisions.soft_delete, keys),
            changeable=table.is_changeable,
            has_list="list" in decisions.pages,
            record_columns=tuple(repr(keys[n]) for n in decisions.record.columns),
            add_columns=tuple(repr(keys[n]) for n in decisions.add.columns),
            edit_columns=tuple(repr(keys[n]) for n in decisions.edit.columns),
            lists=tuple(
                (lists[c.name], repr(decisions.field[c.name].choices))
                for c in shown
                if decisions.field[c.name].kind == "choice"
                or (
                    decisions.field[c.name].kind == "multiple choice"
                    and decisions.field[c.name].choices
                )
            ),
            sqlalchemy=_used(mentioned, _SQLALCHEMY_NAMES),
            types=_used(mentioned, _OWN_TYPE_NAMES),
            forms=_used(mentioned, _FORM_NAMES),
            pages=tuple(sorted(pages, key=_import_order)),
        )

    def _begins(
        self, table: Table, decisions: TableDecisions, keys: Mapping[str, str]
    ) -> tuple[str, ...]:
        """Return the texts and references, of the title and the list, that a search can
        look up in an index; () for a table with few rows, which is read whole."""
        many = self.application.rows.get(table.name, 0) >= MANY_ROWS
        if not many or not table.primary_key:
            return ()
        searched = [*TITLE_PART.findall(decisions.title), *decisions.list.columns]
        return tuple(
            repr(keys[name])
            for name in dict.fromkeys(searched)
            if name in keys
            and is_served(table, (name,))
            and not decisions.field[name].hidden
            and (
                table.column(name).type.kind == "text"
                or table.reference_of(name) is not None
            )
        )

    def _unserved(
        self, table: Table, decisions: TableDecisions, keys: Mapping[str, str]
    ) -> tuple[str, ...]:
        """Return the columns that are neither sorted nor filtered by, since no index
        serves them, there are many rows, and that was decided."""
        many = self.application.rows.get(table.name, 0) >= MANY_ROWS
        if decisions.list.unindexed == "limited" or not many:
            return ()
        return tuple(repr(keys[name]) for name in unserved(table))

    def _in_reach(self, text: str) -> str:
        """Return a value or a query with a mark for the rows of each table of the
        application, and no colon that binds."""
        from lumet.expressions.queries import with_rows_marked  # slow to import

        marked = with_rows_marked(text, self.application.database, set(self.modules))
        return marked.replace(":", "\\:")

    def _shown_key(self, table: Table, name: str, keys: Mapping[str, str]) -> str:
        """Return the key of a column of a list; a borrowed one's has a dot in it."""
        lookup, dot, column = name.partition(".")
        if not dot or name in keys:
            return keys[name]
        reference = table.reference_of(lookup)
        assert reference is not None
        return f"{keys[lookup]}.{self.keys[reference.referred_table][column]}"

    def _formula_field(self, table: Table, name: str, decided: FieldDecisions) -> str:
        from lumet.expressions.queries import value_type  # slow to import

        made = value_type(decided.formula, table, self.application.database)
        kind = decided.kind if decided.kind != "text" else _FORMULA_KINDS[made.kind]
        column = Column(name, made)
        if kind == "choice":
            label = decided.label or name
            return f"{name} = ChoiceField(_({label!r}), choices={decided.choices!r})"
        label = decided.label or name.replace("_", " ").capitalize()
        return self._field_code(
            table, name, column, replace(decided, kind=kind, label=label)
        )

    def _column(self, table: Table, column: Column) -> str:
        key = self.keys[table.name][column.name]
        parts = [repr(column.name)] if key != column.name else []
        decided = self.application.decisions[table.name].field[column.name]
        parts.append(_type_code(column, decided, self.application.dialect))
        reference = table.reference_of(column.name)
        target = self._target(reference) if reference else ""
        if reference and target:
            parts.append(f"ForeignKey({target!r}{_rule_of(reference)})")
        if column.name in table.primary_key:
            parts.append("primary_key=True")
            if not column.automatic and column.type.kind == "integer":
                parts.append("autoincrement=False")
        elif not column.nullable:
            parts.append("nullable=False")
        if column.generated:
            parts.append("server_default=FetchedValue()")
        elif column.default is not None:
            code = repr(column.default.text)
            code = code if column.default.literal else f"TextClause({code})"
            parts.append(f"server_default={code}")
        return f"{key} = Column({', '.join(parts)})"

    def _target(self, reference: Reference) -> str:
        """Return the target of a one-column reference, "" when the application does
        not have it."""
        if not self._is_kept(reference):
            return ""
        table = reference.referred_table
        return f"{table}.{self.keys[table][reference.referred_columns[0]]}"

    def _is_kept(self, reference: Reference) -> bool:
        """Tell whether the application has what a reference points at, by a name that
        SQLAlchemy can take apart at its dots."""
        if not _is_parted(reference.referred_table):
            return False
        theirs = self.keys.get(reference.referred_table, {})
        referred = reference.referred_columns
        return bool(referred) and set(referred) <= set(theirs)

    def _constraints(self, table: Table) -> list[str]:
        keys = self.keys[table.name]
        found = []
        for unique in table.uniques:
            if unique.columns != table.primary_key:
                names = ", ".join(repr(keys[name]) for name in unique.columns)
                found.append(f"UniqueConstraint({names})")
        for reference in table.references:
            if len(reference.columns) > 1 and self._is_kept(reference):
                referred = reference.referred_table
                ours = [keys[name] for name in reference.columns]
                theirs = [f"{referred}.{self.keys[referred][name]}"
                          for name in reference.referred_columns]  # fmt: skip
                rule = _rule_of(reference)
                found.append(f"ForeignKeyConstraint({ours!r}, {theirs!r}{rule})")
        return found

    def _field(
        self, table: Table, column: Column, decided: FieldDecisions, choices: str
    ) -> str:
        key = self.keys[table.name][column.name]
        return self._field_code(table, key, column, decided, choices)

    def _field_code(
        self,
        table: Table,
        key: str,
        column: Column,
        decided: FieldDecisions,
        choices: str = "",
    ) -> str:
        if decided.kind == "choice" and not (decided.choices or decided.other_values):
            plain: FieldKind = "integer" if column.type.kind == "integer" else "text"
            decided = replace(decided, kind=plain)  # nothing could be chosen
        kind = _FIELDS[decided.kind]
        if (decided.kind in ("image", "file") and column.type.kind == "binary") or (
            decided.kind in ("image", "file") and decided.folder
        ):
            kind = "PictureField" if decided.kind == "image" else "FileField"
        elif column.type.kind == "binary" and decided.kind not in _TEXT_KINDS:
            kind = "OtherField"
        elif kind == "DecimalField" and column.type.kind in ("float", "integer"):
            kind = "FloatField" if column.type.kind == "float" else "IntegerField"
        elif kind == "DurationField" and not _takes_time(column):
            kind = _FIELDS.get(column.type.kind, "TextField")
        label = decided.label or column.name
        parts = [f"_({label!r})"]
        if kind == "LookupField":
            reference = lookup_reference(table, column.name)
            if reference is None or not self._is_kept(reference):
                kind = _FIELDS["integer" if column.type.kind == "integer" else "text"]
            else:
                parts += self._lookup_parts(table, column, reference, decided)
        if kind == "ChoiceField":
            parts.append(f"choices={choices}")
            if column.type.kind == "integer":
                parts.append("whole=True")
            if decided.other_values:
                parts.append("other_values=True")
            if decided.colours:
                parts.append(f"colours={decided.colours!r}")
        if kind == "DegreesField":
            parts.append(f"axis={decided.kind!r}")
            if column.type.kind == "float":
                parts.append("measured=True")
        if kind in ("DecimalField", "DegreesField") and column.type.precision:
            parts.append(f"precision={column.type.precision}")
        if kind in ("DecimalField", "DegreesField") and column.type.scale is not None:
            parts.append(f"scale={column.type.scale}")
        if kind == "MultipleChoiceField":
            parts += _several_parts(column, choices if decided.choices else "")
        if kind in _FILE_FIELDS and column.type.kind != "binary":
            parts.append(f"folder={decided.folder!r}")
        elif kind in _FILE_FIELDS and (
            most := server_of(self.application.dialect).max_bytes.get(
                column.type.native
            )
        ):
            parts.append(f"most={most}")
        if kind == "DurationField" and column.type.kind == "time":
            parts.append("clock=True")
        if kind == "DateTimeField" and column.type.timezone:
            parts.append("zoned=True")
        elif kind == "DateTimeField" and decided.time_zone:
            parts.append(f"time_zone={decided.time_zone!r}")
        if kind == "YesNoField" and column.type.kind == "integer":
            parts.append("whole=True")
        if kind == "ColourField" and column.type.length in (3, 6):
            parts.append("bare=True")
        if _keeps_empty(column, decided):
            parts.append("empty_text=True")
        for name in ("unit", "width"):
            if given := getattr(decided, name):
                parts.append(f"{name}={given!r}")
        if decided.placeholder:
            parts.append(f"placeholder=_({decided.placeholder!r})")
        if decided.help:
            parts.append(f"help=_({decided.help!r})")
        validators = self._validators(table, column, decided, kind)
        if validators:
            parts.append(f"validators=[{', '.join(validators)}]")
        return f"{key} = {kind}({', '.join(parts)})"

    def _lookup_parts(
        self,
        table: Table,
        column: Column,
        reference: Reference,
        decided: FieldDecisions,
    ) -> list[str]:
        """Return the arguments of a lookup: its table, the lookups it depends on, and
        which of the records can be chosen."""
        ours, theirs = self.keys[table.name], self.keys[reference.referred_table]
        parts = [f"to={self.modules[reference.referred_table]!r}"]
        possible = columns_followed(table, column.name, self.application.database)
        needed = reference.columns if len(reference.columns) > 1 else ()
        followed = dict.fromkeys(
            n for n in (*needed, *decided.depends_on) if n in possible
        )
        if followed:
            pairs = (f"({ours[n]!r}, {theirs[possible[n]]!r})" for n in followed)
            parts.append(f"depends_on=({', '.join(pairs)},)")
        if decided.where:
            words = decided.where.replace(":", "\\:")
            parts.append(f"where={words!r}")
        return parts

    def _validators(
        self, table: Table, column: Column, decided: FieldDecisions, kind: str
    ) -> list[str]:
        if (
            decided.read_only
            or decided.automatic
            or kind in _NEVER_ENTERED
            or table.is_view
        ):
            return []
        found = []
        # a key that refers to another record is that one's, and never the next number
        fills_itself = (
            (column.automatic and table.reference_of(column.name) is None)
            or (column.default is not None and not column.default.literal)
            or _made_by(table, column, decided)
        )
        is_required = not (
            column.nullable or fills_itself or kind == "MultipleChoiceField"
        )
        if decided.required is not None:
            is_required = decided.required
        if is_required:
            found.append("Required()")
        if kind in _FILE_FIELDS and column.type.length and decided.folder:
            found.append(f"MaxLength({column.type.length})")
        if kind in _TEXT_FIELDS and column.type.kind == "binary":
            if found_length := _bytes_of(column):
                found.append(f"MaxBytes({found_length})")
        elif kind in _TEXT_FIELDS and column.type.length:
            found.append(f"MaxLength({column.type.length})")
        if kind in _TEXT_FIELDS and column.type.kind == "uuid":
            found.append("Uuid()")
        most = server_of(self.application.dialect).max_bytes.get(column.type.native)
        if kind in _TEXT_FIELDS and most:
            found.append(f"MaxBytes({most})")
        if kind in _NUMBER_FIELDS:
            found += self._bounds(table, column) or _usual_bounds(column, decided.kind)
        return found

    def _bounds(self, table: Table, column: Column) -> list[str]:
        low = high = None
        if table.checks:  # the parser of expressions is slow to import
            from lumet.expressions.checks import Within, read_check
        for check in table.checks:
            for rule in read_check(check.text, self.application.dialect):
                if isinstance(rule, Within) and (
                    rule.column.casefold() == column.name.casefold()
                ):
                    low = rule.lowest if rule.lowest is not None else low
                    high = rule.highest if rule.highest is not None else high
        if low is None and high is None:
            return []
        if low is None:
            return [f"NumberRange(highest={high})"]
        return [
            f"NumberRange({low})" if high is None else f"NumberRange({low}, {high})"
        ]

    def _rules(
        self, table: Table, decisions: TableDecisions
    ) -> tuple[list[str], list[tuple[str, str, str]]]:
        """Return the rules over a form's fields as code: what the checks say that no
        field says for itself, and what was decided. And those decided ones that only
        the database can work out: in SQL, with what is said, and at which field."""
        decided = [
            (name, each.rule, each.message)
            for name, each in decisions.field.items()
            if each.rule
        ]
        if not (table.checks or decided) or table.is_view:
            return [], []
        from lumet.expressions.check_translation import read_trees  # slow to import

        dialect = self.application.dialect
        found, held = [], []
        for check in table.checks:
            for tree in read_trees(check.text, table, dialect) or ():
                if not self._is_said(tree, table, decisions):
                    found.append(self._rule(tree, table, decisions, "", ""))
        for name, text, message in decided:
            trees = read_trees(text, table, dialect)
            if trees is not None and self._has_fields(trees, table, decisions):
                found += [
                    self._rule(tree, table, decisions, message, name) for tree in trees
                ]
                continue
            said = message or f"This condition is not met: {text}"
            key = self.keys[table.name][name]
            words = text.replace(":", "\\:")
            held.append((repr(key), repr(words), f"_({said!r})"))
        return [rule for rule in found if rule], held

    def _is_said(self, tree: "Tree", table: Table, decisions: TableDecisions) -> bool:
        """Tell whether a field says a check by itself: a choice, the bounds of a
        number."""
        names = list(dict.fromkeys(tree.columns()))
        if not names or not self._has_fields((tree,), table, decisions):
            return True  # or nothing that a form could: the database does
        if len(names) > 1:
            return False
        kind = _FIELDS[decisions.field[names[0]].kind]
        if tree.kind == "one of":
            listed = (
                kind == "ChoiceField" and not decisions.field[names[0]].other_values
            )
            return listed or kind == "YesNoField"
        if kind not in _NUMBER_FIELDS - {"FloatField"}:
            return False
        compared = tree.parts if tree.kind == "and" else (tree,)
        return all(
            each.kind == "compare"
            and each.value in (">=", "<=")
            and [part.kind for part in each.parts] == ["column", "number"]
            for each in compared
        )

    def _has_fields(
        self, trees: "Sequence[Tree]", table: Table, decisions: TableDecisions
    ) -> bool:
        """Tell whether all columns of some trees are in the form, spelled as they
        are."""
        names = {name for tree in trees for name in tree.columns()}
        return all(
            not (each.hidden or each.storage_format)
            and each.kind not in ("json", "other")
            and not (
                each.kind in _SPELLED and _is_odd(table.column(n).type.kind, each.kind)
            )
            for n in names
            for each in (decisions.field[n],)
        )

    def _rule(
        self,
        tree: "Tree",
        table: Table,
        decisions: TableDecisions,
        message: str,
        at: str,
    ) -> str:
        from lumet.generation.rules import Wording, code_of

        keys = self.keys[table.name]
        names = list(dict.fromkeys(tree.columns()))
        if not names:
            return ""
        labels = {name: each.label for name, each in decisions.field.items()}
        choices = {name: each.choices for name, each in decisions.field.items()}
        folds = server_of(self.application.dialect).like_ignores_case
        said = message or Wording(table, labels, choices).message(tree)
        places = [keys[name] for name in names if name != at] + (
            [keys[at]] if at else []
        )
        listed = ", ".join(repr(each) for each in places)
        return f"Rule({code_of(tree, keys, folds=folds)}, _({said!r}), ({listed},))"

    def _choices_name(self, column: Column, table: Table) -> str:
        key = self.keys[table.name][column.name]
        return f"{key.upper().strip('_')}_CHOICES"

    def _order(self, word: str, keys: Mapping[str, str]) -> str:
        is_down = word not in keys and word.startswith("-")
        key = keys[word.removeprefix("-") if is_down else word]
        return repr(f"-{key}" if is_down else key)

    def _sections(
        self, decisions: TableDecisions, shown: Sequence[str], keys: Mapping[str, str]
    ) -> list[tuple[str, tuple[str, ...]]]:
        found = []
        for name, columns in decisions.sections.items():
            visible = tuple(repr(keys[column]) for column in columns if column in shown)
            if visible:
                found.append((repr(name), visible))
        return found

    def _details(self, decisions: TableDecisions) -> list[str]:
        return [
            self._detail(detail)
            for details in decisions.details.values()
            for detail in details
            if detail.table in self.modules
            and self.application.decisions[detail.table].include
        ]

    def _external_references(self, table: Table) -> list[str]:
        """Return the tables that the application does not have and that refer here."""
        keys = self.keys[table.name]
        found = []
        for other in self.application.database.tables:
            if other.name in self.modules or other.is_view:
                continue
            for reference in other.references:
                to = reference.referred_columns
                if reference.referred_table != table.name or not set(to) <= set(keys):
                    continue
                by, referred = (
                    tuple(reference.columns),
                    tuple(keys[name] for name in to),
                )
                words = f"{other.own_name!r}, by={by!r}, to={referred!r}"
                if reference.on_delete:
                    words += f", on_delete={reference.on_delete!r}"
                if other.schema:
                    words += f", schema={other.schema!r}"
                found.append(f"ExternalReference({words})")
        return found

    def _detail(self, detail: Detail) -> str:
        by = _one_or_more(self.keys[detail.table], detail.by)
        label = f", label=_({detail.label!r})" if detail.label else ""
        kind, rest = "RelatedRecords", ""
        if detail.edit == EDIT_ROWS:
            kind = "DetailRows"
            if detail.position:
                rest = f", position={self.keys[detail.table][detail.position]!r}"
        elif detail.edit == EDIT_CHOSEN:
            child = self.application.database.table(detail.table)
            joined = joined_reference(child, detail.by)
            assert joined is not None
            through = _one_or_more(self.keys[detail.table], joined.columns)
            kind, rest = "ManyToMany", f", through={through}"
        return f"{kind}({self.modules[detail.table]!r}, by={by}{label}{rest})"


def _key_title(table: Table) -> str:
    """Return the title of a table for which none was decided: its key."""
    return " · ".join(f"{{{column}}}" for column in table.primary_key)


def _is_parted(name: str) -> bool:
    """Tell whether a table's name can be taken apart at its dots, as SQLAlchemy does
    with what a column refers to."""
    return "" not in name.split(".")


def _own_part(table: Table, name: str) -> str:
    """Return the column of the table itself behind one of its list: of a borrowed one,
    whose name has a dot as other names may have too, the lookup."""
    return name if table.has_column(name) else name.partition(".")[0] or name


def _keeps_empty(column: Column, decided: FieldDecisions) -> bool:
    """Tell whether an empty field means an empty text: the column takes no NULL."""
    return (
        decided.required is False
        and column.type.kind == "text"
        and not column.nullable
        and not column.generated
    )


def _bytes_of(column: Column) -> int:
    """Return how many bytes a binary column takes, 0 where that is not said."""
    found = re.search(r"\((\d+)\)", column.type.native)
    return int(found[1]) if found else 0


def _made_by(table: Table, column: Column, decided: FieldDecisions) -> str:
    """Return the generator of a column's value where nothing is entered: as decided, or
    a UUID for a key that the database does not make."""
    fills_itself = column.automatic or column.generated or column.default
    alone = table.primary_key == (column.name,) and not table.is_view
    if (
        not decided.generated
        and alone
        and column.type.kind == "uuid"
        and not fills_itself
    ):
        return "uuid"
    return decided.generated


def _key_of(column: str, keys: Mapping[str, str]) -> str:
    """Return a column's key as code, "" for no column."""
    return repr(keys[column]) if column else ""


def _formulas(table: Table, decisions: TableDecisions) -> list[str]:
    """Return the names of the fields that are no columns."""
    return [
        name
        for name, each in decisions.field.items()
        if each.formula and not table.has_column(name)
    ]


def _takes_time(column: Column) -> bool:
    """Tell whether a column can hold a duration."""
    is_interval = column.type.native.lower().startswith("interval")
    return is_interval or column.type.kind == "time"


def _several_parts(column: Column, choices: str) -> list[str]:
    """Return the arguments of a multiple choice field."""
    parts = [f"choices={choices}"] if choices else []
    if not column.type.element:
        parts.append("joined=True")
    elif column.type.element in ("integer", "smallint", "bigint", "numeric"):
        parts.append('each="number"')
    return parts if column.nullable else [*parts, "nullable=False"]


def _denied(table: Table) -> tuple[str, ...]:
    """Return the changes that the database's user may not make."""
    if not table.is_changeable:
        return ()
    return tuple(repr(each) for each in WRITINGS if each in table.denied)


def _without(table: Table, decisions: TableDecisions) -> tuple[str, ...]:
    """Return the changes that have no page."""
    if not table.is_changeable:
        return ()
    return tuple(repr(each) for each in WRITINGS if each not in decisions.pages)


def _one_or_more(keys: Mapping[str, str], columns: Sequence[str]) -> str:
    """Return the keys of columns: one by itself, several as a tuple."""
    found = tuple(keys[name] for name in columns)
    return repr(found[0] if len(found) == 1 else found)


def _usual_bounds(column: Column, kind: str) -> list[str]:
    """Return the bounds that a kind of number has by its nature."""
    if kind in _DEGREES:
        return [f"NumberRange({-_DEGREES[kind]}, {_DEGREES[kind]})"]
    if column.type.native.lower().startswith("year"):
        return ["NumberRange(1901, 2155)"]  # of MariaDB, which reads 24 as 2024
    return ["NumberRange(0)"] if column.type.unsigned else []


def _with_keys(title: str, keys: Mapping[str, str]) -> str:
    for name, key in keys.items():
        title = title.replace(f"{{{name}}}", f"{{\0{key}}}")
    return title.replace("\0", "")


def _rule_of(reference: Reference) -> str:
    if not reference.enforced:
        return ', info={"enforced": False}'
    if not reference.on_delete:
        return ""
    return f", ondelete={reference.on_delete.upper()!r}"


_FORMULA_KINDS: dict[str, FieldKind] = {
    "integer": "integer",
    "decimal": "decimal",
    "float": "decimal",
    "boolean": "yes/no",
    "text": "text",
    "date": "date",
    "time": "time",
    "datetime": "datetime",
}
_DEGREES = {"latitude": 90, "longitude": 180}


_SPELLED = {  # by kind: the type, and the spelling where none is decided
    "date": ("Date", "YYYY-MM-DD"),
    "datetime": ("DateTime", "YYYY-MM-DD hh:mm:ss"),
    "yes/no": ("YesNo", "Y/N"),
}


def _type_code(column: Column, decided: FieldDecisions, dialect: str) -> str:
    kind = column.type.kind
    if decided.kind in _SPELLED and (
        decided.storage_format or _is_odd(kind, decided.kind)
    ):
        name, usual = _SPELLED[decided.kind]
        return f"{name}({decided.storage_format or usual!r})"
    if kind == "binary" and decided.kind in _TEXT_KINDS:
        return "TextBytes"
    if kind == "decimal" and column.type.precision is not None:
        return f"Decimal({column.type.precision}, {column.type.scale or 0})"
    if own := server_of(dialect).column_type(column.type, decided.kind):
        return own
    if kind == "text" and column.type.length is not None:
        return f"String({column.type.length})"
    return _OWN_TYPES.get(kind) or _SQLALCHEMY_TYPES[kind]


def _is_odd(kind: str, decided: str) -> bool:
    """Tell whether a column of canonical type `kind` has to spell what is decided."""
    return kind == "text" or (decided != "yes/no" and kind in ("integer", "float"))


_SQLALCHEMY_NAMES = (
    "BigInteger",
    "Column",
    "FetchedValue",
    "Float",
    "ForeignKey",
    "ForeignKeyConstraint",
    "Integer",
    "LargeBinary",
    "String",
    "Table",
    "Text",
    "TextClause",
    "TypedColumns",
    "UniqueConstraint",
)
_OWN_TYPE_NAMES = (
    "AnyValue",
    "Array",
    "Cast",
    "Clock",
    "Date",
    "DateTime",
    "Decimal",
    "Geometry",
    "Real",
    "TextBytes",
    "TextOnly",
    "Time",
    "YesNo",
)
_VALIDATORS = ("MaxBytes", "MaxLength", "NumberRange", "Required", "Uuid")
_FORM_NAMES = (
    *sorted(
        {
            *_FIELDS.values(),
            *_FILE_FIELDS,
            *_VALIDATORS,
            "FloatField",
            "RecordForm",
            "Rule",
        }
    ),
    "rules",
)


def _mentioned(code: Sequence[str]) -> set[str]:
    """Return the names that the statements in `code` mention."""
    tree = ast.parse("\n".join(code))
    return {node.id for node in ast.walk(tree) if isinstance(node, ast.Name)}


def _used(mentioned: set[str], names: Sequence[str]) -> tuple[str, ...]:
    return tuple(name for name in names if name in mentioned)


def _import_order(name: str) -> tuple[bool, str]:
    return (name[:1].islower(), name)


def build_roles(
    application: Application, models: Sequence[TableModel]
) -> list[RoleModel]:
    """Return the roles with their rights on every table, written as exceptions to what
    each may on most."""
    return [_role(application, role, models) for role in application.access.roles]


def _role(
    application: Application, role: RoleDecisions, models: Sequence[TableModel]
) -> RoleModel:
    groups = {m.name: application.decisions[m.name].group for m in models}
    read = _read_by_queries(application, groups)
    rights = {
        name: _rights_code(
            role.rights_on(name, group)
            if all(
                "view" in role.rights_on(each, groups.get(each, ""))
                for each in read.get(name, ())
            )
            else ()
        )
        for name, group in groups.items()
    }
    general = _rights_code(role.tables.get("*", ()))
    switches = {
        "manages_users": role.manage_users,
        "reads_audit_log": role.read_audit_log,
        "shares_views": role.share_views,
    }
    return RoleModel(
        name=repr(role.name),
        label=repr(role.label),
        rights=general,
        tables=tuple(
            (repr(name), code) for name, code in rights.items() if code != general
        ),
        rows=_conditions(application, groups, role.rows_on),
        changes=_conditions(application, groups, role.changes_on),
        fields=tuple(
            (repr(model.name), repr(limits))
            for model in models
            if (limits := _limits(application, role, model.name))
        ),
        switches=tuple(name for name, held in switches.items() if held),
    )


def _read_by_queries(
    application: Application, groups: Mapping[str, str]
) -> dict[str, tuple[str, ...]]:
    """Return the tables of the application that each query reads: who may not look at
    one of them may not look at the query."""
    queries = [t for t in application.database.tables if t.kind == "query"]
    if not queries:
        return {}
    from lumet.expressions.queries import tables_in  # slow to import

    return {
        table.name: tuple(
            name
            for name in tables_in(table.definition, application.database)
            if name in groups
        )
        for table in queries
    }


def _conditions(
    application: Application,
    groups: Mapping[str, str],
    condition_on: Callable[[str, str], str],
) -> tuple[tuple[str, str], ...]:
    found = []
    for name, group in groups.items():
        if text := condition_on(name, group):
            from lumet.expressions.conditions import written_out  # slow to import

            access = application.access
            code = written_out(text, application.dialect, access.attributes)
            found.append((repr(name), repr(code)))
    return tuple(found)


def _limits(application: Application, role: RoleDecisions, name: str) -> dict[str, str]:
    """Return the limits of a role on the columns of a table, by their keys."""
    columns = [column.name for column in application.database.table(name).columns]
    keys = python_names(columns, FIELD_NAMES)
    limits = {keys[column]: role.limit_on(name, column) for column in columns}
    return {key: limit for key, limit in limits.items() if limit}


def _rights_code(rights: Sequence[str]) -> str:
    if set(rights) == set(RIGHTS):
        return ALL
    listed = ", ".join(repr(right) for right in RIGHTS if right in rights)
    return f"frozenset({{{listed}}})" if listed else "frozenset()"
