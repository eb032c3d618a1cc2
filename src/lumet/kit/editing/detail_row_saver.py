"""Saving the rows of a record together with it: removed rows first, then those changed,
then those moved, then the new ones. All is read and locked at once, and one row that
cannot be saved ends the transaction."""

from collections.abc import Callable, Iterable, Mapping
from typing import Any

from flask_babel import gettext as _
from sqlalchemy import Connection, bindparam, literal, select
from sqlalchemy.exc import DBAPIError
from werkzeug.datastructures import MultiDict

from ..access.denied import AccessDenied, ChangeDenied
from ..access.reach import UNBOUNDED
from ..accounts.audit_log import MARKED, AuditEvent, Recording
from ..common.url_keys import encode_key
from ..db.errors import classify, is_passing
from ..deletion.cascades import beyond_delete
from ..deletion.delete_impact import find_delete_impact
from ..pages.changes import ChangeRefused, CodeFailed
from ..pages.context import actor
from ..queries.record import titles_where
from .detail_rows import DetailRowsEditor
from .many_to_many import ManyToManyEditor
from .record_reader import RecordNotFound
from .row_batches import RowBatches
from .row_positions import RowPositions
from .rows_result import GONE, KEY, SURE, DetailRowsRejected, Typed, Unclear
from .save_result import PendingWrites, SaveResult
from .save_turn import HeldRow, SaveTurn
from .transactions import owners_of, run_in_transaction

Act = Callable[[SaveTurn, str, Typed], None]


class DetailRowSaver:
    """Saves what was typed into the rows of one editor."""

    def __init__(self, editor: DetailRowsEditor) -> None:
        self.editor = editor
        self.context = editor.context
        self.site, self.pages = editor.site, editor.pages
        self.reach, self.saver = editor.reach, editor.saver
        self.result = editor.result
        self.one_by_one = False  # so that each refusal is known to be of its row
        self.positions, self.batches = RowPositions(self), RowBatches(self)
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
        self.result.clear()
        rows = self.editor.typed(typed)
        if not rows:
            return
        belongs = self.editor.parent_values(values)
        self._lock(connection, belongs)
        turn = SaveTurn(connection, belongs, self._read(connection, belongs))
        turn.later = PendingWrites() if self.batches.may_wait("edit") else None
        turn.added = PendingWrites() if self.batches.may_wait("add") else None
        gone = {n: own for n, own in rows.items() if own.get(KEY) and GONE in own}
        kept = {n: own for n, own in rows.items() if own.get(KEY) and n not in gone}
        new = {n: own for n, own in rows.items() if not own.get(KEY)}
        if gone:
            turn.titled = self._titles(turn)
        moved = self.positions.take(turn, kept)
        turn.places = [place for _index, place in moved.values()]
        for meant, act in ((gone, self._delete), (kept, self._change)):
            self._each(turn, meant, act)
        if turn.added is not None:  # only looked at yet, so that all mistakes are told
            self._each(turn, new, self._add)
        self.refuse_wrong()
        self.batches.change(turn)
        self.positions.move(turn, moved)
        if turn.added is None:
            self._each(turn, new, self._add)
            self.refuse_wrong()
        self.batches.add(turn)
        if self.result.asked:
            raise DetailRowsRejected
        self._tell(turn, recording)

    def refuse_wrong(self) -> None:
        if self.result.is_refused:
            raise DetailRowsRejected

    def _each(self, turn: SaveTurn, meant: Mapping[str, Typed], act: Act) -> None:
        for index, own in meant.items():
            if index in self.result.failed or index in self.result.messages:
                continue
            try:
                act(turn, index, own)
            except DBAPIError as error:
                self.refuse(index, own, error)
            except (RecordNotFound, AccessDenied, ChangeDenied, ValueError):
                text = _("This row can no longer be changed.")
                self.result.messages[index] = str(text)
            except CodeFailed:
                raise
            except ChangeRefused as refused:
                self.result.messages[index] = refused.message

    def refuse(self, index: str, own: Typed, error: DBAPIError) -> None:
        if is_passing(error) or classify(error).kind in ("busy", "lost"):
            raise error
        outcome = SaveResult(self.pages.filled({}, own))
        self.saver.checks.refuse(outcome, error)
        self.result.failed[index] = outcome
        raise DetailRowsRejected from error

    def _read(
        self, connection: Connection, belongs: Mapping[str, Any]
    ) -> dict[str, HeldRow]:
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
            held[encode_key(tuple(seen.values()))] = HeldRow(key, seen, values, allowed)
        return held

    def _titles(self, turn: SaveTurn) -> dict[str, str]:
        return titles_where(self.context.on(turn.connection), turn.belongs)

    def _held(self, turn: SaveTurn, own: Typed) -> HeldRow:
        """Return the stored row. Raises RecordNotFound for one of another record."""
        if own[KEY] not in turn.held:
            raise RecordNotFound
        return turn.held[own[KEY]]

    def _delete(self, turn: SaveTurn, index: str, own: Typed) -> None:
        held = self._held(turn, own)
        if self.is_changed(turn, index, own):
            return
        connection = turn.connection
        is_marked = bool(self.pages.soft_delete)
        if not is_marked and beyond_delete(self.context.on(connection), held.key):
            raise AccessDenied("delete")
        if not is_marked and SURE not in own:
            self._ask(turn, index, held.key)
        if not self.saver.changes.remove(connection, held.key):
            raise RecordNotFound
        del turn.held[own[KEY]]
        words = MARKED if is_marked else ""
        turn.done.append(
            AuditEvent("delete", self.pages.name, own[KEY], description=words)
        )

    def _ask(self, turn: SaveTurn, index: str, key: Mapping[str, Any]) -> None:
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
            self.result.asked[index] = str(
                _("Dependent records: %(words)s. Save again to delete the row "
                  "anyway.", words=", ".join(words))
            )  # fmt: skip

    def _change(self, turn: SaveTurn, index: str, own: Typed) -> None:
        held = self._held(turn, own)
        if not self.editor.may_edit or not self._is_touched(own, held):
            return
        if not held.roles:
            raise AccessDenied("edit")
        if self.editor.moves_keys and self.is_changed(turn, index, own):
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
            self.result.failed[index] = outcome
        elif outcome.changes:
            told = AuditEvent("edit", self.pages.name, own[KEY],
                        changes=outcome.changes, texts=outcome.texts)  # fmt: skip
            turn.done.append(told)

    def is_changed(self, turn: SaveTurn, index: str, own: Typed) -> bool:
        """Tell whether a row is not as its user saw it, which is said there."""
        held = self._held(turn, own)
        entered = self.editor.entered_by(held.roles)
        now = self.saver.conflicts.digests(held.seen, held.values, entered)
        is_changed = any(own.get(name, text) != text for name, text in now.items())
        if is_changed:
            message = _("Another user changed this row.")
            self.result.messages[index] = str(message)
        return is_changed

    def _is_touched(self, own: Typed, held: HeldRow) -> bool:
        """Tell whether anything in a stored row is not as its user saw it."""
        return any(
            not self.saver.conflicts.is_seen(held.seen, name, own)
            for name in self.editor.columns
            if name in own
        )

    def _add(self, turn: SaveTurn, index: str, own: Typed) -> None:
        if not self.editor.may_add or self.editor.is_blank(own) or GONE in own:
            return
        whole: Typed = MultiDict(own)
        for key in dict.fromkeys([*self.pages.key, self.editor.position]):
            if self.editor.counts(key) and not whole.get(key):
                whole.setlist(key, [str(self.positions.next_number(turn, key))])
        outcome = self.saver.add(turn.connection, whole, turn.belongs, turn.added)
        if outcome.waits:
            turn.adding[index] = outcome
            return
        if not outcome.key:
            self.result.failed[index] = outcome
            return
        told = AuditEvent("add", self.pages.name, outcome.key, changes=outcome.changes)
        turn.done.append(told)

    def _tell(self, turn: SaveTurn, recording: Recording) -> None:
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
