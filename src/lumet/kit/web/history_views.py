"""The history of a record: changes with their values before and after, and their
reversal."""

from collections.abc import Mapping
from dataclasses import dataclass
from itertools import takewhile

from flask import abort, render_template, request
from flask.typing import ResponseReturnValue
from flask_login import current_user

from ..accounts.audit_log import DONE, MARKED, AuditQuery, Entry, column_of
from ..pages import urls
from ..pages.context import site
from ..pages.table_context import TableContext
from ..pages.table_pages import TablePages
from ..pages.titles import DEPTH
from ..pages.urls import record_address
from ..queries.record import record_plan
from ..related.related_records import is_seen
from .form_context import PIECE, PUT_BACK
from .navigation import blueprint, key_or_404, table_or_404

PAGE_CHANGES = 10


@dataclass(frozen=True, slots=True)
class Change:
    """One change of a record as its history shows it: the log's entry, the fields that
    the user may see, and where the values before can be put back, "" for nowhere; of a
    row that belongs to the record, what it is called, and its title."""

    entry: Entry
    fields: list[tuple[str, str | None, str | None]]
    put_back: str = ""
    noun: str = ""
    title: str = ""


@blueprint.get(urls.RECORD + urls.HISTORY)
def history(name: str, segment: str) -> ResponseReturnValue:
    """What happened to a record, the latest first; not to one that had its key before
    and was deleted."""
    context = table_or_404(name)
    pages, reach = context.pages, context.reach
    if not pages.key:
        abort(404)
    key = key_or_404(context, segment)
    with site().database.reading() as connection:
        record = record_plan(context).read(connection, key)
        if record is None:
            abort(404)
        roles = reach.reaching(connection, pages.table, key, "edit")
    entered = set(pages.enters(reach, roles, is_new=False)) if roles else set()
    may_edit = bool(entered) and pages.offers("edit")
    before = request.args.get("before", 0, type=int)
    wanted = AuditQuery(table=name, key=segment, with_rows=True)
    found = site().log.read(wanted, PAGE_CHANGES + 1, before)
    address = record_address(name, segment)
    labels = open_labels(context)

    def is_of_now(each: Entry) -> bool:
        is_own = (each.event.table, each.event.key) == (name, segment)
        return (
            not is_own
            or each.event.kind != "delete"
            or each.event.description == MARKED
        )

    own = list(takewhile(is_of_now, found))
    more = own[PAGE_CHANGES - 1].id if len(own) > PAGE_CHANGES else 0
    told = ChangeReader(context, segment, labels, entered if may_edit else set())
    return render_template(
        pages.templates("_history.html" if PIECE in request.args else "history.html"),
        pages=pages,
        record=record,
        address=address,
        is_named=current_user.is_authenticated,
        changes=[
            change
            for each in own[:PAGE_CHANGES]
            if each.state == DONE and (change := told.change(each)) is not None
        ],
        more=f"{address}{urls.HISTORY}?before={more}" if more else "",
    )


def open_labels(context: TableContext) -> set[str]:
    """Return the labels of the fields that the user sees on every record, and that no
    other field shares: the log knows fields by their labels."""
    pages = context.pages
    open_ = {key for key in pages.fields if is_open(context, key)}
    others = {pages.label(key) for key in pages.fields if key not in open_}
    return {pages.label(key) for key in open_} - others


def earlier_texts(
    context: TableContext, segment: str, number: int
) -> Mapping[str, tuple[str | None, str | None]]:
    """Return the values of a record before and after a change, those alone that its
    history shows this user; nothing for a change of another record, or of one that
    had this key before."""
    pages = context.pages
    entry = site().log.entry(number)
    if entry is None or (entry.event.table, entry.event.key) != (pages.name, segment):
        return {}
    wanted = AuditQuery(kind="delete", table=pages.name, key=segment)
    gone = next(
        (e for e in site().log.read(wanted, 1) if e.event.description != MARKED), None
    )
    if gone is not None and gone.id > entry.id:
        return {}
    return {
        key: texts
        for key, texts in entry.event.texts.items()
        if key in pages.fields and is_open(context, key)
    }


def is_open(context: TableContext, key: str, depth: int = 0) -> bool:
    """Tell whether the user sees a field on every record; of a reference the log keeps
    the title, all of which has to be open as well."""
    pages, reach = context.pages, context.reach
    name = pages.table.fullname
    if reach.hides(name, key) or reach.shown_where(name, key):
        return False
    reference = pages.lookups.get(key)
    if reference is None:
        return True
    target = site().registry[reference.target]
    if not reach.may("view", target.table.fullname) or depth > DEPTH:
        return False
    return reach.rows(target.table) is target.table and all(
        is_open(context.about(target), part, depth + 1)
        for part in target.parsed_title.keys
    )


@dataclass(frozen=True, slots=True)
class ChangeReader:
    """What the history of one record may tell a user: the labels that are open, and the
    columns that can be put back."""

    context: TableContext
    segment: str
    labels: set[str]
    entered: set[str]

    def change(self, entry: Entry) -> Change | None:
        """Return a change as the history shows it; None where it may not."""
        event = entry.event
        if (event.table, event.key) != (self.context.pages.name, self.segment):
            return self._of_row(entry)
        fields = _fields(self.context, entry, self.labels)
        if event.kind == "edit" and not fields:
            return None  # only what this user may not see was changed
        can = event.kind == "edit" and bool(self.entered & set(event.texts))
        address = record_address(self.context.pages.name, self.segment)
        put_back = (
            f"{address}{urls.EDIT}?{PUT_BACK}={entry.id}" if can and fields else ""
        )
        return Change(entry, fields, put_back)

    def _of_row(self, entry: Entry) -> Change | None:
        """Return a change of a row that belongs to the record; None where the user does
        not see all such rows, since the log does not know which of them."""
        child = site().registry.pages.get(entry.event.table)
        if child is None or not self._sees_rows(child):
            return None
        joins = [
            r for r in self.context.pages.details if r.table == child.name and r.joined
        ]
        ends = (*joins[0].columns, *joins[0].joined) if joins else ()
        parts = ends or child.parsed_title.keys
        is_titled = all(is_open(self.context.about(child), key) for key in parts)
        about = self.context.about(child)
        fields = _fields(about, entry, open_labels(about))
        if entry.event.kind == "edit" and not fields:
            return None
        noun = str(joins[0].label if joins else child.singular)
        title = entry.event.title if is_titled else ""
        return Change(entry, fields, noun=noun, title=title)

    def _sees_rows(self, child: TablePages) -> bool:
        name = child.table.fullname
        if not self.context.reach.may("view", name):
            return False
        return self.context.reach.rows(child.table) is child.table and any(
            each.table == child.name
            and each.is_part
            and is_seen(self.context.about(child), each)
            for each in self.context.pages.details
        )


def _fields(
    context: TableContext, entry: Entry, labels: set[str]
) -> list[tuple[str, str | None, str | None]]:
    return [
        (told, before, after)
        for label, (before, after) in entry.event.changes.items()
        if (told := open_label(context, label, labels))
    ]


def open_label(context: TableContext, label: str, labels: set[str]) -> str:
    """Return the present label of a changed field, "" where the user may not see it on
    every record; `labels` are the open ones, for entries that know no columns."""
    column = column_of(label)
    if not column:
        return label if label in labels else ""
    is_shown = column in context.pages.fields and is_open(context, column)
    return context.pages.label(column) if is_shown else ""
