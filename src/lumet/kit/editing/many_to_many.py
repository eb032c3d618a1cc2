"""Many-to-many: records chosen on the form of another, by a junction table whose rows
are added and deleted with the choices.

A form carries what its user saw there, so that only what this user added or took away
is changed, whatever others did meanwhile.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from flask_babel import gettext as _
from sqlalchemy import Connection, and_, bindparam, select, type_coerce
from sqlalchemy.exc import DBAPIError
from sqlalchemy.types import NullType
from werkzeug.datastructures import MultiDict

from ..access.denied import AccessDenied, ChangeDenied
from ..access.reach import Reach
from ..accounts.audit_log import AuditEvent, Owners, Recording
from ..common.url_keys import encode_key
from ..db.errors import classify, is_passing, not_allowed
from ..pages import urls
from ..pages.changes import ChangeRefused, CodeFailed
from ..pages.context import Site, actor
from ..pages.table_pages import Reference, RelatedRecords, TablePages
from ..pages.urls import list_address
from ..queries.lookups import Found, LookupPlan, Option, lookup_plan
from .record_saver import RecordSaver
from .rows_result import DetailRowsRejected, Typed
from .transactions import owners_of

MAX_TICKS = 12  # records to choose from that are a list to tick; more are searched
MAX_CHOSEN = 500
MAX_SEARCH_LENGTH = 100  # characters
SHORT = 50  # choices in the page


@dataclass(slots=True)
class ManyToManyChoice:
    """The chosen records of a form: the choices with their titles and whether
    they are chosen, and what the user saw chosen, by their words in addresses."""

    number: int
    label: str
    options: list[tuple[Option, bool]]
    was: list[str]
    address: str  # finds others, "" where all are shown
    refused: list[str]

    @property
    def part_id(self) -> str:
        """The identifier of this part of the form."""
        return f"part-{self.name}"

    @property
    def name(self) -> str:
        """The name of its control."""
        return f"chosen-{self.number}"

    @property
    def is_list(self) -> bool:
        """Tell whether all there is can be ticked."""
        return not self.address and len(self.options) <= MAX_TICKS


class ManyToManyEditor:
    """Reads and saves what is chosen on the form of a record by one joining table."""

    def __init__(
        self,
        parent: TablePages,
        related: RelatedRecords,
        number: int,
        saver: RecordSaver,
    ) -> None:
        self.context = saver.context
        self.site: Site = saver.site
        self.parent = parent
        self.related = related
        self.number = number
        self.pages = saver.pages
        self.saver = saver
        self.reach: Reach = saver.reach
        registry = self.site.registry
        self.near: Reference = registry.reference(parent.name, related)
        self.far: Reference = registry.other_side(related)
        self.target = registry[self.far.target]
        name = self.pages.table.fullname
        entered = {*self.near.columns, *self.far.columns} <= {*saver.entered}
        self.may_add = (
            entered and self.pages.takes("add") and self.reach.may("add", name)
        )
        self.may_delete = "delete" not in self.pages.denied_by_database and (
            self.pages.changeable and self.reach.may("delete", name)
        )
        self.refused: list[str] = []

    @property
    def is_open(self) -> bool:
        """Tell whether the user may see both ends, and change what joins them."""
        may = self.may_add or self.may_delete
        return may and self.reach.may("view", self.target.table.fullname)

    @property
    def label(self) -> str:
        """The label of the chosen records."""
        return str(self.related.label or self.target.plural)

    @property
    def _plan(self) -> LookupPlan:
        return lookup_plan(self.context, self.far, is_whole=True)

    @property
    def _choosable(self) -> LookupPlan:
        return lookup_plan(self.context, self.far, is_whole=True, with_deleted=False)

    def find(self, search: str, skip: int) -> Found:
        """Return records to choose from, by words of their titles."""
        return self._choosable.find(search[:MAX_SEARCH_LENGTH], skip=skip)

    def stored(
        self, connection: Connection, values: Mapping[str, Any]
    ) -> ManyToManyChoice | None:
        """Return the chosen records of a stored record; None for too many."""
        chosen = self._chosen(connection, values)
        if len(chosen) > MAX_CHOSEN:
            return None
        return self._choice(connection, chosen, chosen)

    def empty(self, connection: Connection) -> ManyToManyChoice:
        """Return the same for a record that is not there yet."""
        return self._choice(connection, [], [])

    def again(self, connection: Connection | None, typed: Typed) -> ManyToManyChoice:
        """Return the chosen records of a form that was not saved."""
        chosen, was = self._sent(typed)
        if connection is None:
            known = [(Option(each, each), True) for each in chosen]
            return ManyToManyChoice(
                self.number, self.label, known, was, "", self.refused
            )
        return self._choice(connection, chosen, was)

    def _sent(self, typed: Typed) -> tuple[list[str], list[str]]:
        names = (f"chosen-{self.number}", f"chosen-{self.number}-was")
        chosen, was = ([v for v in typed.getlist(name) if v] for name in names)
        return list(dict.fromkeys(chosen)), list(dict.fromkeys(was))

    def _choice(
        self, connection: Connection, chosen: Sequence[str], was: list[str]
    ) -> ManyToManyChoice:
        choosable = self._choosable
        first = choosable.first(connection, SHORT + 1) if self.may_add else []
        is_cut = len(first) > SHORT or (self.may_add and choosable.is_long)
        first = first[:SHORT]
        known = {option.value for option in first}
        missing = [self._parts(each) for each in chosen if each not in known]
        wanted = [each for each in missing if each]
        named = self._plan.of_keys(connection, wanted)
        named.sort(key=lambda option: option.title.casefold())
        options = [*named, *first]
        home = f"{list_address(self.parent.name)}{urls.CHOSEN}{self.number}"
        return ManyToManyChoice(
            number=self.number,
            label=self.label,
            options=[(option, option.value in chosen) for option in options],
            was=was,
            address=home if is_cut else "",
            refused=self.refused,
        )

    def _parts(self, word: str) -> tuple[Any, ...]:
        """Return the values that refer to a chosen record; () for what is no word."""
        try:
            found = self.context.about(self.target).values_of(self.far.referred, word)
        except (ValueError, ArithmeticError):
            return ()
        return tuple(found.values())

    def _chosen(self, connection: Connection, values: Mapping[str, Any]) -> list[str]:
        """Return the keys of the chosen records within reach."""
        rows = self.reach.rows(self.pages.table)
        ends = self.reach.rows(self.target.table)
        belongs = self._belongs(values)
        joined = [
            rows.c[ours] == ends.c[theirs]
            for ours, theirs in zip(self.far.columns, self.far.referred, strict=True)
        ]
        matches = [rows.c[name] == bindparam(f"p_{name}") for name in belongs]
        statement = (
            select(*[type_coerce(ends.c[k], NullType()) for k in self.far.referred])
            .select_from(rows.join(ends, and_(*joined)))
            .where(*matches)
            .limit(MAX_CHOSEN + 1)
        )
        bound = {f"p_{name}": value for name, value in belongs.items()}
        found = self.reach.run(connection, statement, bound)
        return [encode_key(tuple(row)) for row in found]

    def _belongs(self, values: Mapping[str, Any]) -> dict[str, Any]:
        pairs = zip(self.near.columns, self.near.referred, strict=True)
        return {ours: values[theirs] for ours, theirs in pairs}

    def lock(self, connection: Connection, key: Mapping[str, Any]) -> None:
        """Lock nothing: what others choose meanwhile is no conflict."""

    def save(
        self,
        connection: Connection,
        values: Mapping[str, Any],
        typed: Typed,
        recording: Recording,
    ) -> None:
        """Save what was chosen for the record with these values. Raises
        DetailRowsRejected when something cannot be."""
        self.refused = []
        if f"chosen-{self.number}-was" not in typed:
            return
        chosen, was = self._sent(typed)
        present = self._chosen(connection, values)
        added = [each for each in chosen if each not in was and each not in present]
        gone = [each for each in was if each not in chosen and each in present]
        belongs = self._belongs(values)
        for each in gone:
            held = self._held(belongs, self._parts(each))
            self._take_away(connection, held, recording)
        parts = {each: self._parts(each) for each in added}
        wanted = [each for each in parts.values() if each]
        known = {
            option.value: option.title
            for option in self._choosable.of_keys(connection, wanted)
        }
        for each in added:
            if each not in known or not self.may_add:
                self.refused.append(str(_("Choose one from the list.")))
            else:
                self._choose(connection, self._held(belongs, parts[each]), recording)
        if self.refused:
            raise DetailRowsRejected

    def _held(
        self, belongs: Mapping[str, Any], parts: tuple[Any, ...]
    ) -> dict[str, Any]:
        """Return the row that joins the record to a chosen one."""
        return {**belongs, **dict(zip(self.far.columns, parts, strict=True))}

    def _choose(
        self, connection: Connection, held: Mapping[str, Any], recording: Recording
    ) -> None:
        try:
            outcome = self.saver.add(connection, MultiDict(), held)
        except DBAPIError as error:
            if is_passing(error) or classify(error).kind in ("busy", "lost"):
                raise
            self.refused.append(not_allowed(classify(error), self.saver.pages.messages))
            raise DetailRowsRejected from error
        except (ChangeDenied, AccessDenied):
            self.refused.append(str(_("Your roles do not allow this.")))
            return
        except CodeFailed:
            raise
        except ChangeRefused as refused:
            self.refused.append(refused.message)
            return
        if not outcome.key and (outcome.form.errors or outcome.refused):
            self.refused += [str(each[1]) for each in outcome.form.mistakes()]
            self.refused += outcome.refused
            return
        self._tell(connection, "add", held, recording)

    def _take_away(
        self, connection: Connection, held: Mapping[str, Any], recording: Recording
    ) -> None:
        try:
            self._tell(connection, "delete", held, recording)
            if self.may_delete:
                self.saver.changes.erase(connection, held)
                return
        except AccessDenied:
            pass
        except CodeFailed:
            raise
        except ChangeRefused as refused:
            self.refused.append(refused.message)
            raise DetailRowsRejected from refused
        self.refused.append(str(_("Your roles do not allow this.")))
        raise DetailRowsRejected

    def _tell(
        self,
        connection: Connection,
        kind: str,
        held: Mapping[str, Any],
        recording: Recording,
    ) -> None:
        owners: Owners = owners_of(self.context.on(connection), held)
        titles = []
        for end in (self.near, self.far):
            plan = lookup_plan(self.context, end, is_whole=True)
            keys = [tuple(held[key] for key in end.columns)]
            titles += [each.title for each in plan.of_keys(connection, keys)]
        title = " · ".join(titles)
        key = encode_key(list(held.values()))
        recording.mean(
            actor(), AuditEvent(kind, self.pages.name, key).entitled(title, owners)
        )
