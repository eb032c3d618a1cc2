"""Transitions of a record: which it is ready for, the fields that they ask for, and the
change itself."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from flask import request
from flask_babel import gettext as _
from sqlalchemy import Connection, case, literal, select, text
from werkzeug.datastructures import MultiDict

from ..access.reach import UNBOUNDED
from ..editing.record_saver import RecordSaver
from ..editing.save_result import SaveResult
from ..forms.base import RecordForm
from ..pages.changes import TRANSITION, ChangeRefused
from ..pages.context import site
from ..pages.table_context import TableContext
from ..pages.transitions import Transition
from ..queries.lookups import fill_lookups
from .form_context import saver_of

Key = Mapping[str, object]


class FieldsRefused(ChangeRefused):
    """The fields of a transition have mistakes, which are at the fields of `outcome`."""

    def __init__(self, outcome: SaveResult) -> None:
        super().__init__(" ".join(map(str, outcome.refused)))
        self.outcome = outcome


@dataclass(slots=True)
class AskedFields:
    """The form of a transition: the fields that the user may enter, and the digests of
    what was seen there; nothing for none."""

    form: RecordForm | None = None
    seen: Mapping[str, str] = field(default_factory=dict)


def open_transitions(
    context: TableContext,
    connection: Connection,
    key: Key,
    moves: Sequence[Transition],
) -> set[str]:
    """Return the names of the transitions that the record with this key is ready for:
    by its value, and by their conditions."""
    pages = context.pages
    columns = [pages.column(each.column).label(f"v{n}") for n, each in enumerate(moves)]
    holds = [
        case((text(f"({each.condition})"), 1), else_=0)
        if each.condition
        else literal(1)
        for each in moves
    ]
    named = [each.label(f"h{n}") for n, each in enumerate(holds)]
    statement = select(*columns, *named).select_from(pages.table)
    row = UNBOUNDED.run(connection, statement.where(pages.is_key(key))).first()
    if row is None:
        return set()
    values, held = row[: len(moves)], row[len(moves) :]
    return {
        each.name
        for each, value, is_held in zip(moves, values, held, strict=True)
        if is_held and str(value) in each.sources
    }


def asked_fields(
    context: TableContext, move: Transition, key: Key, error: ChangeRefused | None
) -> AskedFields:
    """Return the form of a transition: as it was typed where that was refused."""
    if not move.fields:
        return AskedFields()
    saver = saver_of(context, TRANSITION)
    with site().database.reading() as connection:
        fields = _entered(saver, connection, key, move)
        values = saver.reader.read(connection, key, fields)
        if isinstance(error, FieldsRefused):
            form = error.outcome.form
        else:
            typed = MultiDict(request.form) if request.method == "POST" else None
            form = context.pages.filled(values, typed)
            form.is_new = False
        for name in [*form._fields]:
            if name not in fields:
                del form._fields[name]
        if error is not None and error.field in form._fields:
            form.add_error(error.field, error.message)
        fill_lookups(context.on(connection), form, fields)
    return AskedFields(form, saver.conflicts.digests(key, values, fields))


def move_record(
    context: TableContext, connection: Connection, key: Key, move: Transition
) -> SaveResult:
    """Carry out a transition, with what was typed into its fields. Raises ChangeRefused
    where the record is not ready for it any more, FieldsRefused for mistakes."""
    if move.name not in open_transitions(context, connection, key, [move]):
        text_ = _("Another user changed this record. Check it and try again.")
        raise ChangeRefused(text_)
    saver = saver_of(context, TRANSITION)
    fields = _entered(saver, connection, key, move)
    outcome = saver.change(
        connection,
        key,
        saver.reader.read(connection, key, fields),
        MultiDict(request.form),
        entered=fields,
        also={move.column: move.target},
    )
    if not outcome.key:
        raise FieldsRefused(outcome)
    return outcome


def _entered(
    saver: RecordSaver, connection: Connection, key: Key, move: Transition
) -> list[str]:
    """Return the fields that a transition asks this user for."""
    if not move.fields:
        return []
    entered = saver.reader.admit(connection, key)
    return [name for name in move.fields if name in entered]
