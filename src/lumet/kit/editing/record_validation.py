"""Validation of a form before it is saved: its own rules, that lookups can be
chosen, no cycles in hierarchies, unique values."""

from collections.abc import Collection, Hashable, Mapping, Sequence
from typing import Any

from flask_babel import gettext as _
from sqlalchemy import (
    Connection,
    Integer,
    literal,
    not_,
    select,
    tuple_,
)
from sqlalchemy.exc import DBAPIError

from ..access.reach import UNBOUNDED
from ..db.errors import classify, decided_message, not_allowed
from ..forms.base import RecordForm
from ..forms.fields import LookupField
from ..pages.context import lower_first
from ..pages.table_context import TableContext
from ..pages.table_pages import unique_name, unique_sets
from ..queries.hierarchy import hierarchy_by, makes_cycle
from ..queries.lookups import Lookup
from .save_result import SaveResult


class RecordValidation:
    """The validation of the forms of one table, for one user."""

    def __init__(self, context: TableContext) -> None:
        self.context = context
        self.site = context.site
        self.pages = context.pages
        self.reach = context.reach
        self._open: dict[tuple[Any, ...], bool] = {}  # what can be chosen, as was found

    def is_valid(
        self,
        connection: Connection,
        form: RecordForm,
        entered: Collection[str],
        values: Mapping[str, Any],
        key: Mapping[str, Any] | None,
        with_uniques: bool = True,
    ) -> bool:
        """Check the fields `entered` of a form, and put what is wrong with them there;
        `values` are what the record with this key holds, which is None for a new one;
        `with_uniques`: also whether others have what must be unique."""
        for name in [*form._fields]:
            if name not in entered:
                del form._fields[name]
        form.validate()
        for name in entered:
            field_ = form._fields[name]
            column = self.pages.column(name)
            if field_.errors or field_.data is not None or column.nullable:
                continue
            made = name in dict(self.pages.generated_values)
            if not (form.is_new and (made or _fills_itself(column))):
                form.add_error(name, _("Enter a value."))
        form.check_rules()
        self._check_lookups(connection, form, values, key)
        if with_uniques:
            self._check_uniques(connection, form, values, key)
        return not form.errors

    def _check_lookups(
        self,
        connection: Connection,
        form: RecordForm,
        values: Mapping[str, Any],
        key: Mapping[str, Any] | None,
    ) -> None:
        for name in self.pages.lookups:
            field_ = form._fields.get(name)
            if not isinstance(field_, LookupField):
                continue
            if field_.errors or field_.data is None or field_.is_given:
                continue
            known = [name, *(ours for ours, _theirs in field_.depends_on)]
            if all(
                each in values
                and (each not in form._fields or form[each].data is values[each])
                for each in known
            ):
                continue  # as it is in the database
            lookup = Lookup(self.context, name, form)
            may_be_other = field_.other_values and lookup.is_open
            if self._is_open(connection, lookup, field_.data) or (
                may_be_other and not lookup.is_taken(connection, field_.data)
            ):
                self._check_circle(connection, form, name, values, key)
                continue
            labels = [self.pages.label(each) for each in known[1:]]
            if labels and lookup.given:
                listed = ", ".join(labels)
                message = _("Choose one that fits %(labels)s.", labels=listed)
                form.add_error(name, message)
            else:
                form.add_error(name, _("Choose one from the list."))

    def _is_open(self, connection: Connection, lookup: Lookup, value: Any) -> bool:
        """Tell whether a value can be chosen: asked once, however many rows choose
        it."""
        place = (lookup.reference, value, tuple(lookup.given.items()))
        if place not in self._open:
            found = lookup.is_open and lookup.plan.one(connection, value, lookup.given)
            self._open[place] = bool(found)
        return self._open[place]

    def clashes(
        self, connection: Connection, rows: Sequence[Mapping[str, Any]]
    ) -> dict[int, str]:
        """Return the messages for those of several new records, by their number, that
        have what another of them has already, or another record, and that must be
        unique."""
        found: dict[int, str] = {}
        for columns in unique_sets(self.pages):
            places: dict[tuple[Any, ...], int] = {}
            for number, row in enumerate(rows):
                held = tuple(row.get(name) for name in columns)
                if None in held or not all(isinstance(v, Hashable) for v in held):
                    continue  # of several values, an array: the database tells
                if held in places:
                    found.setdefault(number, self.clash_message(columns))
                places.setdefault(held, number)
            if not places:
                continue
            ours = [self.pages.column(name) for name in columns]
            wanted = [held[0] if len(held) == 1 else held for held in places]
            among = ours[0] if len(ours) == 1 else tuple_(*ours)
            taken = UNBOUNDED.run(connection, select(*ours).where(among.in_(wanted)))
            for held in map(tuple, taken):
                if held in places:  # another spelling the database will refuse
                    found.setdefault(places[held], self.clash_message(columns))
        return found

    def _check_circle(
        self,
        connection: Connection,
        form: RecordForm,
        name: str,
        values: Mapping[str, Any],
        key: Mapping[str, Any] | None,
    ) -> None:
        """Refuse to put a record below itself."""
        # others may well come round: the next, a twin
        is_above = name == self.pages.list.parent
        tree = hierarchy_by(self.pages, self.pages.lookups[name]) if is_above else None
        if key is None or tree is None:
            return
        above = tuple(
            form[each].data if each in form._fields else values.get(each, key.get(each))
            for each in tree.columns
        )
        if None not in above and makes_cycle(connection, tree, key, above):
            message = _("This is below the record itself. Choose another.")
            form.add_error(name, message)

    def _check_uniques(
        self,
        connection: Connection,
        form: RecordForm,
        values: Mapping[str, Any],
        key: Mapping[str, Any] | None,
    ) -> None:
        for columns in unique_sets(self.pages):
            if not set(columns) <= set(form._fields):
                continue
            found = {name: form._fields[name].data for name in columns}
            untouched = all(
                name in values and found[name] is values[name] for name in columns
            )
            wrong = any(form._fields[name].errors for name in columns)
            if untouched or wrong or None in found.values():
                continue
            clash = select(literal(1)).where(self.pages.is_key(found))
            if key is not None:
                clash = clash.where(not_(self.pages.is_key(key)))
            # past the user's reach: that a value is taken shows, and no more
            if UNBOUNDED.run(connection, clash.limit(1)).first():
                form.add_error(columns[-1], self.clash_message(columns))

    def clash_message(self, columns: tuple[str, ...]) -> str:
        """Return the message for values that another record already has."""
        constraint = unique_name(self.pages, columns)
        if text := decided_message(constraint, self.pages.messages):
            return text
        noun = lower_first(self.pages.singular)
        if len(columns) == 1:
            return str(_("Another %(noun)s already has this value.", noun=noun))
        labels = ", ".join(self.pages.label(name) for name in columns)
        text = _(
            "Another %(noun)s already has the same %(labels)s.",
            noun=noun,
            labels=labels,
        )
        return str(text)

    def refuse(self, outcome: SaveResult, error: DBAPIError) -> None:
        """Put what the database refused at the field that it names, else at the top."""
        told = classify(error)
        by_name = {column.name: key for key, column in self.pages.table.c.items()}
        named = [by_name[name] for name in told.columns if name in by_name]
        keys = [key for key in named if key in outcome.form._fields]
        constraint = told.rule or unique_name(self.pages, named)
        text = decided_message(constraint, self.pages.messages)
        if told.kind == "unique" and keys:
            outcome.form.add_error(keys[-1], text or self.clash_message(tuple(keys)))
        elif told.kind == "needed" and keys:
            outcome.form.add_error(keys[0], _("Enter a value."))
        elif told.kind == "range" and keys:
            outcome.form.add_error(
                keys[0], _("The database does not accept this value.")
            )
        elif text:
            outcome.refused.append(text)
        elif told.kind == "unique":
            outcome.refused.append(_("Another record already has these values."))
        elif told.kind == "reference":
            outcome.refused.append(
                _("A record that this one refers to no longer exists, or another "
                  "record refers to a value that you changed.")
            )  # fmt: skip
        else:
            outcome.refused.append(not_allowed(told))


def _fills_itself(column: Any) -> bool:
    is_number = column.primary_key and isinstance(column.type, Integer)
    numbers_itself = is_number and not column.foreign_keys
    return column.server_default is not None or bool(numbers_itself)
