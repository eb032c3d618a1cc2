"""The positions of detail rows: their order within their record."""

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from flask_babel import gettext as _
from sqlalchemy import func, select
from sqlalchemy.exc import DBAPIError
from werkzeug.datastructures import MultiDict

from ..access.reach import UNBOUNDED
from ..accounts.audit_log import AuditEvent
from ..pages.changes import ChangeRefused, CodeFailed
from .conflict_check import SEEN
from .rows_result import KEY, DetailRowsRejected, Typed
from .save_result import SaveResult
from .save_turn import HeldRow, SaveTurn

if TYPE_CHECKING:
    from .detail_row_saver import DetailRowSaver


class RowPositions:
    """Numbers and moves the rows of one editor."""

    def __init__(self, rows: "DetailRowSaver") -> None:
        self.rows, self.editor, self.result = rows, rows.editor, rows.result
        self.context, self.pages = rows.context, rows.pages
        self.reach, self.saver = rows.reach, rows.saver

    def take(
        self, turn: SaveTurn, kept: Mapping[str, Typed]
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
            elif is_new and self.rows.is_changed(turn, index, own):
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
                    self.result.failed[index] = wrong
                    continue
            for name in (position, SEEN + position):
                own.poplist(name)
        return found

    def move(self, turn: SaveTurn, moved: Mapping[str, tuple[str, Any]]) -> None:
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
                self.result.messages[index] = message
        self.rows.refuse_wrong()
        while wanted:
            taken = set(places.values())
            free = [key for key, place in wanted.items() if place not in taken]
            key = free[0] if free else next(iter(wanted))
            known = [each for each in (*places.values(), *final.values()) if each]
            place = wanted.pop(key) if free else max(known, default=0) + 1
            try:
                self._put(turn, turn.held[key], place, is_final=bool(free))
            except DBAPIError as error:
                self.rows.refuse(moved[key][0], MultiDict(), error)
            except CodeFailed:
                raise
            except ChangeRefused as refused:
                self.result.messages[moved[key][0]] = refused.message
                raise DetailRowsRejected from refused
            places[key] = place
        for key, (_index, place) in moved.items():
            self._tell_move(turn, key, turn.held[key].values[position], place)

    def _put(self, turn: SaveTurn, held: HeldRow, place: Any, is_final: bool) -> None:
        position = self.editor.position
        if not held.roles or position not in self.editor.entered_by(held.roles):
            raise DetailRowsRejected
        if is_final:
            self.saver.changes.move(turn.connection, held.key, position, place)
        else:
            column, stamped = self.pages.column(position), self.saver.writer.stamped()
            table = self.pages.table
            self.reach.update(
                turn.connection, table, held.key, {column: place}, stamped
            )
        if position in held.key:
            held.key[position] = place

    def _tell_move(self, turn: SaveTurn, key: str, before: Any, after: Any) -> None:
        label = self.pages.label(self.editor.position)
        change = {label: (str(before), str(after))}
        for number, event in enumerate(turn.done):
            if event.kind == "edit" and event.key == key:
                turn.done[number] = event.also(change)
                return
        turn.done.append(AuditEvent("edit", self.pages.name, key, changes=change))

    def next_number(self, turn: SaveTurn, key: str) -> int:
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
