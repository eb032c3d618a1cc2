"""The assignments of a table's pages: one function for each decision key, or for a fact
that pages know. Each returns code, "" for what is as usual."""

from collections.abc import Callable, Iterable, Mapping
from functools import partial

from lumet.design.decision_schema import (
    EDIT_CHOSEN,
    EDIT_ROWS,
    EMPTY,
    PAGE_KINDS,
    Detail,
    Key,
    ListDecisions,
    PageDecisions,
    Transition,
    keys_of,
)
from lumet.design.details import joined_reference
from lumet.design.indexes import is_served, unserved
from lumet.design.value_types import TITLE_PART
from lumet.facts.model import WRITINGS
from lumet.generation.layouts import unfit_layouts
from lumet.generation.model import (
    Assignment,
    TableSource,
    generated_value,
    keys_code,
    tuple_code,
)
from lumet.generation.routine_actions import routine_action_code
from lumet.kit.contract import TITLE_COLUMN, UNINDEXED

Coder = Callable[[TableSource], str]
TRUE, FALSE = "True", "False"


def set_code(codes: Iterable[str]) -> str:
    """Return a frozen set of codes, "" for an empty one."""
    inner = ", ".join(codes)
    return f"frozenset({{{inner}}})" if inner else ""


def call_code(name: str, arguments: Iterable[Assignment]) -> str:
    """Return a call with arguments by name, "" for one without any."""
    inner = "".join(f"{each.name}={each.code}, " for each in arguments)
    return f"{name}({inner})" if inner else ""


def _labels(source: TableSource) -> str:
    decisions, name = source.decisions, source.table.name
    return f"_({decisions.singular or name!r}), _({decisions.plural or name!r})"


def _title(source: TableSource) -> str:
    key = " · ".join(f"{{{column}}}" for column in source.table.primary_key)
    title = source.decisions.title or key
    for name, python_name in source.keys.items():
        title = title.replace(f"{{{name}}}", f"{{\0{python_name}}}")
    return repr(title.replace("\0", ""))


def _subtitle(source: TableSource) -> str:
    return tuple_code(repr(source.keys[name]) for name in source.decisions.subtitle)


def _group(source: TableSource) -> str:
    return f"_({source.decisions.group or 'Tables'!r})"


def _icon(source: TableSource) -> str:
    icon = source.decisions.icon
    return repr(icon) if icon else ""


def _has_list(source: TableSource) -> str:
    return "" if PAGE_KINDS[0] in source.decisions.pages else FALSE


def _for_lookups(source: TableSource) -> str:
    return "" if source.decisions.include else TRUE


def _is_read_only_source(source: TableSource) -> str:
    return TRUE if source.table.is_view else ""


def _changeable(source: TableSource) -> str:
    return "" if source.table.is_changeable else FALSE


def _denied_by_database(source: TableSource) -> str:
    denied = source.table.denied if source.table.is_changeable else ()
    return set_code(repr(each) for each in WRITINGS if each in denied)


def _disabled_pages(source: TableSource) -> str:
    if not source.table.is_changeable:
        return ""
    pages = source.decisions.pages
    return set_code(repr(each) for each in WRITINGS if each not in pages)


def _soft_delete(source: TableSource) -> str:
    mark = source.decisions.soft_delete if source.table.is_changeable else ""
    return repr(source.keys[mark]) if mark else ""


def _is_large(source: TableSource) -> str:
    return TRUE if source.is_large else ""


def _list_columns(source: TableSource, names: Iterable[str]) -> str:
    """Return those columns that are shown; that of a lookup's column counts."""
    found = []
    for name in names:
        own = name if source.table.has_column(name) else name.partition(".")[0] or name
        if not source.decisions.field[own].hidden:
            found.append(repr(source.shown_key(name)))
    return tuple_code(found)


def _columns(source: TableSource) -> str:
    return _list_columns(source, source.decisions.list.columns) or "()"


def _wide_columns(source: TableSource) -> str:
    return _list_columns(source, source.decisions.list.wide_columns)


def _filters(source: TableSource) -> str:
    return tuple_code(repr(source.keys[name]) for name in source.decisions.list.filters)


def _search(source: TableSource) -> str:
    return tuple_code(repr(source.keys[name]) for name in source.decisions.list.search)


def _order(source: TableSource) -> str:
    return tuple_code(_directed(source, each) for each in source.decisions.list.order)


def _directed(source: TableSource, column: str) -> str:
    is_down = column not in source.keys and column.startswith("-")
    key = source.keys[column.removeprefix("-") if is_down else column]
    return repr(f"-{key}" if is_down else key)


def _column_widths(source: TableSource) -> str:
    """Return the widths of the columns, by their keys in addresses."""
    widths = source.decisions.list.column_widths
    pairs = {
        name if name == TITLE_COLUMN else source.shown_key(name): width
        for name, width in widths.items()
    }
    return repr(pairs) if pairs else ""


def _parent(source: TableSource) -> str:
    parent = source.decisions.list.parent if source.is_splittable else ""
    return repr(source.keys[parent]) if parent else ""


def _expand(source: TableSource) -> str:
    """Return the related records that open within a row, as their addresses name
    them."""
    for detail in source.decisions.details.get(source.decisions.list.expand, ()):
        keys = source.all_keys.get(detail.table)
        is_there = detail.table in source.modules and source.application.decisions[detail.table].include  # fmt: skip
        if keys is not None and is_there and source.is_splittable:
            columns = [keys[name] for name in detail.by]
            return repr(".".join([source.modules[detail.table], *columns]))
    return ""


def _laid_out(key: str, source: TableSource) -> str:
    """Return the columns of a layout, none where they do not fit it any more."""
    if key in dict(unfit_layouts(source.table, source.decisions)):
        return ""
    value = getattr(source.decisions.list, key)
    if isinstance(value, str):
        return repr(source.keys[value]) if value else ""
    return tuple_code(repr(source.keys[name]) for name in value)


def _unindexed(source: TableSource) -> str:
    """Return the columns that are neither sorted nor filtered by, since no index serves
    them, there are many rows, and that was decided."""
    if source.decisions.list.unindexed == UNINDEXED[0] or not source.is_large:
        return ""
    return set_code(repr(source.keys[name]) for name in unserved(source.table))


LIST: Mapping[str, Coder] = {
    "columns": _columns,
    "wide_columns": _wide_columns,
    "column_widths": _column_widths,
    "order": _order,
    "filters": _filters,
    "search": _search,
    "parent": _parent,
    "expand": _expand,
    "calendar": partial(_laid_out, "calendar"),
    "board": partial(_laid_out, "board"),
    "map": partial(_laid_out, "map"),
    "unindexed": _unindexed,
}
"""The keys of `[list]` that are not written as their values are."""


def _list(source: TableSource) -> str:
    coders = [
        (key.name, LIST.get(key.name) or partial(_as_decided, key))
        for key in keys_of(ListDecisions).values()
    ]
    return call_code("ListPage", assignments(coders, source))


def _as_decided(key: Key, source: TableSource) -> str:
    """Return the value of a key of `[list]` as its type writes it."""
    value = getattr(source.decisions.list, key.name)
    return "" if value == EMPTY[key.name] else key.takes.code(value)


def _record(source: TableSource) -> str:
    columns = tuple_code(repr(source.keys[n]) for n in source.decisions.record.columns)
    sections = source.decisions.sections
    folded = tuple_code(f"_({n!r})" for n in source.decisions.folded if n in sections)
    pairs = (("columns", columns), ("sections", _sections(source)), ("folded", folded))
    given = [Assignment(name, code) for name, code in pairs if code]
    return call_code("RecordPage", given)


def _sections(source: TableSource) -> str:
    shown = {column.name for column in source.shown}
    found = []
    for name, columns in source.decisions.sections.items():
        visible = tuple_code(
            repr(source.keys[each]) for each in columns if each in shown
        )
        if visible:
            found.append(f"Section(_({name!r}), {visible})")
    return tuple_code(found)


def _form_page(source: TableSource, page: PageDecisions) -> str:
    columns = tuple_code(repr(source.keys[name]) for name in page.columns)
    return f"FormPage(columns={columns})" if columns else ""


def _add(source: TableSource) -> str:
    return _form_page(source, source.decisions.add)


def _edit_page(source: TableSource) -> str:
    return _form_page(source, source.decisions.edit)


def _details(source: TableSource) -> str:
    if not source.is_splittable:
        return ""
    return tuple_code(
        _detail(source, detail)
        for details in source.decisions.details.values()
        for detail in details
        if detail.table in source.modules
        and source.application.decisions[detail.table].include
    )


def _detail(source: TableSource, detail: Detail) -> str:
    theirs = source.all_keys[detail.table]
    by = keys_code(theirs, detail.by)
    label = f", label=_({detail.label!r})" if detail.label else ""
    kind, rest = "RelatedRecords", ""
    if detail.edit == EDIT_ROWS:
        kind = "DetailRows"
        if detail.position:
            rest = f", position={theirs[detail.position]!r}"
    elif detail.edit == EDIT_CHOSEN:
        child = source.application.database.table(detail.table)
        joined = joined_reference(child, detail.by)
        assert joined is not None
        kind, rest = "ManyToMany", f", through={keys_code(theirs, joined.columns)}"
    return f"{kind}({source.modules[detail.table]!r}, by={by}{label}{rest})"


def _read_only(source: TableSource) -> str:
    mark = source.decisions.soft_delete
    return set_code(
        repr(source.keys[column.name])
        for column in source.shown
        for each in (source.field(column),)
        if each.read_only or each.automatic or column.name == mark
    )


def _editable_keys(source: TableSource) -> str:
    return set_code(
        repr(source.keys[c.name]) for c in source.shown if source.field(c).editable_key
    )


def _pairs(source: TableSource, found: Iterable[tuple[str, str]]) -> str:
    """Return pairs of a column's key and a word, those that have one."""
    return tuple_code(
        f"({source.keys[name]!r}, {word!r})" for name, word in found if word
    )


def _generated_values(source: TableSource) -> str:
    table = source.table
    made = ((c.name, generated_value(table, c, source.field(c))) for c in table.columns)
    return _pairs(source, made)


def _automatic_values(source: TableSource) -> str:
    columns = source.table.columns
    return _pairs(source, ((c.name, source.field(c).automatic) for c in columns))


def _defaults(source: TableSource) -> str:
    return _pairs(source, ((c.name, source.field(c).default) for c in source.shown))


def _totals(source: TableSource) -> str:
    return _pairs(source, ((c.name, source.field(c).total) for c in source.shown))


def _lookup_columns(source: TableSource) -> str:
    return tuple_code(
        repr(source.shown_key(f"{column.name}.{each}"))
        for column in source.shown
        for each in source.field(column).lookup_columns
    )


def _polymorphic(source: TableSource) -> str:
    """Return the columns with a key of one of several tables; of these, the tables that
    the application has."""
    found = []
    for column in source.shown:
        decided = source.field(column)
        tables = tuple_code(
            f"({value!r}, {source.modules[table]!r})"
            for value, table in decided.type_tables.items()
            if table in source.modules
        )
        said = decided.type_column
        if tables and (said or column.type.kind == "text"):
            ends = (
                f"{source.keys[column.name]!r}, {source.keys[said] if said else ''!r}"
            )
            found.append(f"PolymorphicReference({ends}, {tables})")
    return tuple_code(found)


def _formula_form(source: TableSource) -> str:
    return "{class_name}Formulas" if source.formulas else ""


def _formulas(source: TableSource) -> str:
    return tuple_code(
        f"({name!r}, {source.in_reach(source.decisions.field[name].formula)!r})"
        for name in source.formulas
    )


def _database_rules(source: TableSource) -> str:
    if not any(each.rule for each in source.decisions.field.values()):
        return ""
    from lumet.generation.form_rules import database_rules  # slow to import

    return tuple_code(database_rules(source))


def _messages(source: TableSource) -> str:
    return tuple_code(
        f"({name!r}, _({text!r}))" for name, text in source.decisions.messages.items()
    )


def _transitions(source: TableSource) -> str:
    return tuple_code(
        _transition(source, each)
        for several in source.decisions.transitions.values()
        for each in several
        if each.column in source.keys
    )


def _transition(source: TableSource, each: Transition) -> str:
    label = each.label or each.name.replace("_", " ").capitalize()
    arguments = [
        Assignment("column", repr(source.keys[each.column])),
        Assignment("sources", tuple_code(map(repr, each.sources))),
        Assignment("target", repr(each.target)),
        Assignment("roles", tuple_code(map(repr, each.roles))),
        Assignment("condition", repr(each.where.replace(":", "\\:")) if each.where else ""),
        Assignment("fields", tuple_code(repr(source.keys[f]) for f in each.fields)),
        Assignment("bulk", "" if each.fields else TRUE),
    ]  # fmt: skip
    inner = ", ".join(f"{a.name}={a.code}" for a in arguments if a.code)
    return f"Transition({each.name!r}, _({label!r}), {inner})"


def _routine_actions(source: TableSource) -> str:
    return tuple_code(
        routine_action_code(source, each) for each in source.decisions.actions.values()
    )


def _external_references(source: TableSource) -> str:
    """Return the tables that the application does not have and that refer here."""
    found, keys = [], source.all_keys[source.table.name]
    for other in source.application.database.tables:
        if other.name in source.modules or other.is_view:
            continue
        for reference in other.references:
            to = reference.referred_columns
            if reference.referred_table != source.table.name or not set(to) <= set(
                keys
            ):
                continue
            referred = tuple(keys[name] for name in to)
            words = f"{other.own_name!r}, by={reference.columns!r}, to={referred!r}"
            if reference.on_delete:
                words += f", on_delete={reference.on_delete!r}"
            if other.schema:
                words += f", schema={other.schema!r}"
            found.append(f"ExternalReference({words})")
    return tuple_code(found)


def _prefix_searchable(source: TableSource) -> str:
    """Return the texts and references, of the title and the list, that a search can
    look up in an index; none of a table with few rows, which is read whole."""
    table, decisions = source.table, source.decisions
    if not source.is_large or not table.primary_key:
        return ""
    usual = [*TITLE_PART.findall(decisions.title), *decisions.list.columns]
    searched = decisions.list.search or usual
    return tuple_code(
        repr(source.keys[name])
        for name in dict.fromkeys(searched)
        if table.has_column(name)
        and is_served(table, (name,))
        and not decisions.field[name].hidden
        and (
            table.column(name).type.kind == "text"
            or table.reference_of(name) is not None
        )
    )


PAGES: tuple[tuple[str, Coder], ...] = (
    ("singular, plural", _labels),
    ("title", _title),
    ("subtitle", _subtitle),
    ("group", _group),
    ("icon", _icon),
    ("has_list", _has_list),
    ("for_lookups", _for_lookups),
    ("is_read_only_source", _is_read_only_source),
    ("changeable", _changeable),
    ("denied_by_database", _denied_by_database),
    ("disabled_pages", _disabled_pages),
    ("soft_delete", _soft_delete),
    ("is_large", _is_large),
    ("list", _list),
    ("record", _record),
    ("add", _add),
    ("edit", _edit_page),
    ("details", _details),
    ("read_only", _read_only),
    ("editable_keys", _editable_keys),
    ("generated_values", _generated_values),
    ("automatic_values", _automatic_values),
    ("defaults", _defaults),
    ("totals", _totals),
    ("lookup_columns", _lookup_columns),
    ("polymorphic", _polymorphic),
    ("formula_form", _formula_form),
    ("formulas", _formulas),
    ("database_rules", _database_rules),
    ("messages", _messages),
    ("transitions", _transitions),
    ("routine_actions", _routine_actions),
    ("external_references", _external_references),
    ("prefix_searchable", _prefix_searchable),
)
"""The attributes of a table's pages, in their order in the module."""


def assignments(
    coders: Iterable[tuple[str, Coder]], source: TableSource
) -> list[Assignment]:
    """Return the assignments that are not as usual."""
    found = (Assignment(name, coder(source)) for name, coder in coders)
    return [each for each in found if each.code]
