"""Saving the rows of a record together with it: removed rows first, then those changed,
then those moved, then the new ones. All is read and locked at once, and one row that
cannot be saved ends the transaction."""

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from flask_babel import gettext as _
from sqlalchemy import Connection, bindparam, func, literal, select
from sqlalchemy.exc import DBAPIError
from werkzeug.datastructures import MultiDict

from ..access.denied import AccessDenied, ChangeDenied
from ..access.reach import UNBOUNDED
from ..access.roles import Role
from ..accounts.audit_log import MARKED, AuditEvent, Recording
from ..common.url_keys import encode_key
from ..contract import NEXT_NUMBER
from ..db.errors import classify, is_passing
from ..deletion.cascades import beyond_delete
from ..deletion.delete_impact import find_delete_impact
from ..pages.context import actor
from ..pages.table_pages import TablePages, unique_sets
from ..queries.record import titles_where
from .conflict_check import SEEN
from .detail_rows import GONE, KEY, SURE, DetailRowsEditor, DetailRowsRejected, Typed
from .many_to_many import ManyToManyEditor
from .record_reader import RecordNotFound
from .record_writer import RuleViolated
from .save_result import PendingWrites, SaveResult
from .transactions import owners_of, run_in_transaction


class Unclear(Exception):
    """One of several rows was refused: which of them shows when they are saved one by
    one."""


@dataclass(frozen=True, slots=True)
class _Held:
    """One stored row, locked: its key, the key that its user saw, which is another
    where that of the record has just changed, its values, the roles that may change
    it."""

    key: dict[str, Any]
    seen: dict[str, Any]
    values: dict[str, Any]
    roles: tuple[Role, ...]


@dataclass(slots=True)
class _Turn:
    """One save: its transaction, what its rows belong to, what they hold, by their keys
    in addresses; what was done, to be written down; the next numbers, by column."""

    connection: Connection
    belongs: Mapping[str, Any]
    held: dict[str, _Held]
    later: PendingWrites | None = (
        None  # changes that are written at once, where they can be
    )
    added: PendingWrites | None = None  # new rows that are
    adding: dict[str, SaveResult] = field(
        default_factory=dict
    )  # by their words in the form
    done: list[AuditEvent] = field(default_factory=list)
    titled: dict[str, str] = field(default_factory=dict)
    next: dict[str, int] = field(default_factory=dict)
    places: list[Any] = field(default_factory=list)  # that rows are about to have


Act = Callable[[_Turn, str, Typed], None]


class DetailRowSaver:
    """Saves what was typed into the rows of one editor."""

    def __init__(self, editor: DetailRowsEditor) -> None:
        self.editor = editor
        self.context = editor.context
        self.site, self.pages = editor.site, editor.pages
        self.reach, self.saver = editor.reach, editor.saver
        self.one_by_one = False  # so that each refusal is known to be of its row
        self._before: dict[str, Any] = {}  # what rows belonged by before the save

    def lock(self, connection: Connection, key: Mapping[str, Any]) -> None:
        """Lock the rows of the record with this key, before anything is read: what a
        server reads behind that is what there is."""
        self._before = self.editor.parent_values(self._referred(connection, key))
        self._lock(connection, self._before)

    def _referred(
        self, connection: Connection, key: Mapping[str, Any]
    ) -> Mapping[str, Any]:
        """Return the values that the rows of the record refer to, by column."""
        parent = self.site.registry[self.editor.reference.target]
        referred = self.editor.reference.referred
        if set(referred) <= set(key):
            return key
        held = select(*[parent.column(name) for name in referred])
        row = UNBOUNDED.run(connection, held.where(parent.is_key(key))).first()
        return dict(zip(referred, row or [None] * len(referred), strict=True))

    def _lock(self, connection: Connection, belongs: Mapping[str, Any]) -> None:
        statement = select(literal(1)).where(self.pages.is_key(belongs))
        UNBOUNDED.run(connection, statement.with_for_update())

    def save(
        self,
        connection: Connection,
        values: Mapping[str, Any],
        typed: Typed,
        recording: Recording,
    ) -> None:
        """Save the rows of the record with these values. Raises DetailRowsRejected when
        one cannot be saved."""
        self.editor.failed.clear()
        self.editor.messages.clear()
        self.editor.asked.clear()
        rows = self.editor.typed(typed)
        if not rows:
            return
        belongs = self.editor.parent_values(values)
        self._lock(connection, belongs)
        turn = _Turn(connection, belongs, self._read(connection, belongs))
        turn.later = PendingWrites() if self._may_wait("edit") else None
        turn.added = PendingWrites() if self._may_wait("add") else None
        gone = {n: own for n, own in rows.items() if own.get(KEY) and GONE in own}
        kept = {n: own for n, own in rows.items() if own.get(KEY) and n not in gone}
        new = {n: own for n, own in rows.items() if not own.get(KEY)}
        if gone:
            turn.titled = self._titles(turn)
        moved = self._take_places(turn, kept)
        turn.places = [place for _index, place in moved.values()]
        for meant, act in ((gone, self._delete), (kept, self._change)):
            self._each(turn, meant, act)
        if turn.added is not None:  # only looked at yet, so that all mistakes are told
            self._each(turn, new, self._add)
        self._refuse_wrong()
        self._write_later(turn)
        self._move(turn, moved)
        if turn.added is None:
            self._each(turn, new, self._add)
            self._refuse_wrong()
        self._add_later(turn)
        if self.editor.asked:
            raise DetailRowsRejected
        self._tell(turn, recording)

    def _may_wait(self, right: str) -> bool:
        """Tell whether rows can be written together: where none depends on another, nor
        the right to it on the row."""
        pages, name = self.pages, self.pages.table.fullname
        holding = self.reach.holding(right, name)
        if (
            self.one_by_one
            or pages.database_rules
            or type(pages).before_save is not TablePages.before_save
            or any(role.condition(right, name) for role in holding)
        ):
            return False
        if right == "add":
            return all(how != NEXT_NUMBER for _key, how in pages.generated_values)
        entered = {*self.editor.entered_by(holding)} - {self.editor.position}
        return not pages.automatic_values and not any(
            entered & set(columns) for columns in unique_sets(pages)
        )

    def _add_later(self, turn: _Turn) -> None:
        """Write the new rows that waited. Raises DetailRowsRejected where some clash,
        Unclear where the database refuses one of them."""
        if turn.added is None or not turn.added.additions:
            return
        rows = [
            {column.key: value for column, value in values.items()}
            for _outcome, values in turn.added.additions
        ]
        indices = list(turn.adding)
        clashes = self.saver.checks.clashes(turn.connection, rows)
        for number, message in clashes.items():
            self.editor.messages[indices[number]] = message
        self._refuse_wrong()
        try:
            self.saver.add_all(turn.connection, turn.added)
        except DBAPIError as error:
            self._refuse_unclear(error)
        for outcome in turn.adding.values():
            told = AuditEvent(
                "add", self.pages.name, outcome.key, changes=outcome.changes
            )
            turn.done.append(told)

    def _refuse_unclear(self, error: DBAPIError) -> None:
        if is_passing(error) or classify(error).kind in ("busy", "lost"):
            raise error
        raise Unclear from error

    def _write_later(self, turn: _Turn) -> None:
        """Write what waited: the changes of the same columns at once. Raises Unclear
        where the database refuses one of them."""
        grouped: dict[tuple[Any, ...], list[Any]] = {}
        for key, values in turn.later.changes if turn.later is not None else ():
            grouped.setdefault(tuple(values), []).append((key, values))
        for changes in grouped.values():
            try:
                self.reach.update_all(turn.connection, self.pages.table, changes)
            except DBAPIError as error:
                self._refuse_unclear(error)

    def _refuse_wrong(self) -> None:
        if self.editor.failed or self.editor.messages:
            raise DetailRowsRejected

    def _each(self, turn: _Turn, meant: Mapping[str, Typed], act: Act) -> None:
        for index, own in meant.items():
            if index in self.editor.failed or index in self.editor.messages:
                continue
            try:
                act(turn, index, own)
            except DBAPIError as error:
                self._refuse(index, own, error)
            except (RecordNotFound, AccessDenied, ChangeDenied, ValueError):
                text = _("This row can no longer be changed.")
                self.editor.messages[index] = str(text)
            except RuleViolated as broken:
                self.editor.messages[index] = str(broken.rule.message)

    def _refuse(self, index: str, own: Typed, error: DBAPIError) -> None:
        if is_passing(error) or classify(error).kind in ("busy", "lost"):
            raise error
        outcome = SaveResult(self.pages.filled({}, own))
        self.saver.checks.refuse(outcome, error)
        self.editor.failed[index] = outcome
        raise DetailRowsRejected from error

    def _read(
        self, connection: Connection, belongs: Mapping[str, Any]
    ) -> dict[str, _Held]:
        """Return the record's rows within reach, by their keys in addresses."""
        rows = self.reach.rows(self.pages.table)
        wanted = list(dict.fromkeys([*self.pages.key, *self.editor.columns, *belongs]))
        matches = [rows.c[name] == bindparam(f"p_{name}") for name in belongs]
        if self.pages.soft_delete:
            matches.append(self.pages.is_alive(rows))
        bound = {f"p_{name}": value for name, value in belongs.items()}
        statement = select(*[rows.c[name] for name in wanted]).where(*matches)
        found = self.reach.run(connection, statement, bound).all()
        roles = self.editor.roles_of(connection, belongs)
        held = {}
        for row in found:
            values = dict(zip(wanted, row, strict=True))
            key = {name: values[name] for name in self.pages.key}
            seen = {name: self._before.get(name, key[name]) for name in key}
            allowed = roles(tuple(key.values()))
            held[encode_key(tuple(seen.values()))] = _Held(key, seen, values, allowed)
        return held

    def _titles(self, turn: _Turn) -> dict[str, str]:
        return titles_where(self.context.on(turn.connection), turn.belongs)

    def _held(self, turn: _Turn, own: Typed) -> _Held:
        """Return the stored row. Raises RecordNotFound for one of another record."""
        if own[KEY] not in turn.held:
            raise RecordNotFound
        return turn.held[own[KEY]]

    def _delete(self, turn: _Turn, index: str, own: Typed) -> None:
        held = self._held(turn, own)
        if self._is_changed(turn, index, own):
            return
        connection = turn.connection
        is_marked = bool(self.pages.soft_delete)
        if not is_marked and beyond_delete(self.context.on(connection), held.key):
            raise AccessDenied("delete")
        if not is_marked and SURE not in own:
            self._ask(turn, index, held.key)
        if not self.saver.writer.remove(connection, held.key):
            raise RecordNotFound
        del turn.held[own[KEY]]
        words = MARKED if is_marked else ""
        turn.done.append(
            AuditEvent("delete", self.pages.name, own[KEY], description=words)
        )

    def _ask(self, turn: _Turn, index: str, key: Mapping[str, Any]) -> None:
        """Note what would go along with a row, or lose its reference: at the end of the
        save it is asked about. The database tells what prevents it."""
        if (
            not self.site.registry.incoming[self.pages.name]
            and not self.pages.external_references
        ):
            return
        found = find_delete_impact(self.context.on(turn.connection), key)
        words = [each.summary for each in (*found.deleted_too, *found.unlinked)]
        if words and not found.prevented_by:
            self.editor.asked[index] = str(
                _("Dependent records: %(words)s. Save again to delete the row "
                  "anyway.", words=", ".join(words))
            )  # fmt: skip

    def _change(self, turn: _Turn, index: str, own: Typed) -> None:
        held = self._held(turn, own)
        if not self.editor.may_edit or not self._is_touched(own, held):
            return
        if not held.roles:
            raise AccessDenied("edit")
        if self.editor.moves_keys and self._is_changed(turn, index, own):
            return
        entered = self.editor.entered_by(held.roles, with_parent=True)
        outcome = self.saver.change(
            turn.connection,
            held.key,
            held.values,
            own,
            turn.later,
            entered=entered,
            seen=held.seen,
        )
        if not outcome.key:
            self.editor.failed[index] = outcome
        elif outcome.changes:
            told = AuditEvent("edit", self.pages.name, own[KEY],
                        changes=outcome.changes, texts=outcome.texts)  # fmt: skip
            turn.done.append(told)

    def _is_changed(self, turn: _Turn, index: str, own: Typed) -> bool:
        """Tell whether a row is not as its user saw it, which is said there."""
        held = self._held(turn, own)
        entered = self.editor.entered_by(held.roles)
        now = self.saver.conflicts.digests(held.seen, held.values, entered)
        is_changed = any(own.get(name, text) != text for name, text in now.items())
        if is_changed:
            message = _("Another user changed this row.")
            self.editor.messages[index] = str(message)
        return is_changed

    def _is_touched(self, own: Typed, held: _Held) -> bool:
        """Tell whether anything in a stored row is not as its user saw it."""
        return any(
            not self.saver.conflicts.is_seen(held.seen, name, own)
            for name in self.editor.columns
            if name in own
        )

    def _take_places(
        self, turn: _Turn, kept: Mapping[str, Typed]
    ) -> dict[str, tuple[str, Any]]:
        """Take the new places in the order out of what was typed, where no two rows may
        have the same: they cannot be saved one by one. Returns them by the rows' keys,
        with the key of the row in the form."""
        position = self.editor.position
        if not self.editor.moves_apart:
            return {}
        shown = self.pages.fields[position]
        found: dict[str, tuple[str, Any]] = {}
        for index, own in kept.items():
            held = turn.held.get(own[KEY])
            if held is None or position not in own:
                continue
            text = shown.clean(shown.gather(own.getlist(position)))
            is_new = text != shown.trace(held.values[position])
            if is_new and self.saver.conflicts.is_seen(held.seen, position, own):
                is_new = False  # not touched by this user, moved by another
            elif is_new and self._is_changed(turn, index, own):
                continue
            if is_new:
                form = self.pages.filled({}, own)
                form.is_new = False
                if form[position].validate(form) and form[position].data is not None:
                    found[own[KEY]] = (index, form[position].data)
                else:
                    wrong = SaveResult(form)
                    if not form[position].errors:
                        form.add_error(position, _("Enter a value."))
                    self.editor.failed[index] = wrong
                    continue
            for name in (position, SEEN + position):
                own.poplist(name)
        return found

    def _move(self, turn: _Turn, moved: Mapping[str, tuple[str, Any]]) -> None:
        """Give rows their new positions. Where they block each other
        one of them goes behind all others at first."""
        if not moved:
            return
        position = self.editor.position
        places = {key: held.values[position] for key, held in turn.held.items()}
        wanted = {key: place for key, (_index, place) in moved.items()}
        final = places | wanted
        for index, place in moved.values():
            if list(final.values()).count(place) > 1:
                message = self.saver.checks.clash_message((position,))
                self.editor.messages[index] = message
        self._refuse_wrong()
        while wanted:
            taken = set(places.values())
            free = [key for key, place in wanted.items() if place not in taken]
            key = free[0] if free else next(iter(wanted))
            known = [each for each in (*places.values(), *final.values()) if each]
            place = wanted.pop(key) if free else max(known, default=0) + 1
            try:
                self._put(turn, turn.held[key], place)
            except DBAPIError as error:
                self._refuse(moved[key][0], MultiDict(), error)
            places[key] = place
        for key, (_index, place) in moved.items():
            self._tell_move(turn, key, turn.held[key].values[position], place)

    def _put(self, turn: _Turn, held: _Held, place: Any) -> None:
        position = self.editor.position
        if not held.roles or position not in self.editor.entered_by(held.roles):
            raise DetailRowsRejected
        column = self.pages.column(position)
        self.reach.update(
            turn.connection,
            self.pages.table,
            held.key,
            {column: place},
            self.saver.writer.stamped(),
        )
        if position in held.key:
            held.key[position] = place

    def _tell_move(self, turn: _Turn, key: str, before: Any, after: Any) -> None:
        label = self.pages.label(self.editor.position)
        change = {label: (str(before), str(after))}
        for number, event in enumerate(turn.done):
            if event.kind == "edit" and event.key == key:
                turn.done[number] = event.also(change)
                return
        turn.done.append(AuditEvent("edit", self.pages.name, key, changes=change))

    def _add(self, turn: _Turn, index: str, own: Typed) -> None:
        if not self.editor.may_add or self.editor.is_blank(own) or GONE in own:
            return
        whole: Typed = MultiDict(own)
        for key in dict.fromkeys([*self.pages.key, self.editor.position]):
            if self.editor.counts(key) and not whole.get(key):
                whole.setlist(key, [str(self._next(turn, key))])
        outcome = self.saver.add(turn.connection, whole, turn.belongs, turn.added)
        if outcome.waits:
            turn.adding[index] = outcome
            return
        if not outcome.key:
            self.editor.failed[index] = outcome
            return
        told = AuditEvent("add", self.pages.name, outcome.key, changes=outcome.changes)
        turn.done.append(told)

    def _next(self, turn: _Turn, key: str) -> int:
        """Return the next number of a row within its record, which is locked: behind
        those that others have, or are about to have."""
        if key not in turn.next:
            column = self.pages.column(key)
            largest = select(func.max(column)).where(self.pages.is_key(turn.belongs))
            found = UNBOUNDED.run(turn.connection, largest).scalar()
            changes = turn.later.changes if turn.later is not None else []
            known = [found, *(values.get(column) for _key, values in changes)]
            known += turn.places if key == self.editor.position else []
            turn.next[key] = max([int(each) for each in known if each], default=0)
        turn.next[key] += 1
        return turn.next[key]

    def _tell(self, turn: _Turn, recording: Recording) -> None:
        """Record the changes in the audit log, with the titles of the rows."""
        if any(event.kind != "delete" for event in turn.done):
            turn.titled |= self._titles(turn)
        owners = owners_of(self.context.on(turn.connection), turn.belongs)
        who = actor()
        for event in turn.done:
            held = turn.held.get(event.key)
            now = encode_key(tuple(held.key.values())) if held else event.key
            title = turn.titled.get(now, "")
            recording.mean(who, event.entitled(title, owners))


PartSaver = DetailRowSaver | ManyToManyEditor


def part_savers(
    editors: Iterable[DetailRowsEditor | ManyToManyEditor],
) -> list[PartSaver]:
    """Return the savers of the parts of a form."""
    return [
        DetailRowSaver(each) if isinstance(each, DetailRowsEditor) else each
        for each in editors
    ]


def saved_with(
    parts: Iterable[PartSaver], work: Callable[[Connection, Recording], SaveResult]
) -> SaveResult:
    """Carry out `work` in one transaction, as `written` does; again, one by one, where
    the database refused one of several rows."""
    try:
        return run_in_transaction(work)
    except Unclear:
        for each in parts:
            if isinstance(each, DetailRowSaver):
                each.one_by_one = True
        return run_in_transaction(work)
