"""Batches of detail rows: written together, where none depends on another."""

from typing import TYPE_CHECKING, Any

from sqlalchemy.exc import DBAPIError

from ..accounts.audit_log import AuditEvent
from ..contract import NEXT_NUMBER
from ..db.errors import classify, is_passing
from ..pages.table_pages import unique_sets
from .rows_result import Unclear
from .save_turn import SaveTurn

if TYPE_CHECKING:
    from .detail_row_saver import DetailRowSaver


class RowBatches:
    """Writes the rows of one editor that can wait for each other."""

    def __init__(self, rows: "DetailRowSaver") -> None:
        self.rows, self.editor, self.result = rows, rows.editor, rows.result
        self.context, self.pages = rows.context, rows.pages
        self.reach, self.saver = rows.reach, rows.saver

    def may_wait(self, right: str) -> bool:
        """Tell whether rows can be written together: where none depends on another, nor
        the right to it on the row."""
        pages, name = self.pages, self.pages.table.fullname
        holding = self.reach.holding(right, name)
        if (
            self.rows.one_by_one
            or pages.database_rules
            or pages.overrides("write")
            or any(role.condition(right, name) for role in holding)
        ):
            return False
        if right == "add":
            return all(how != NEXT_NUMBER for _key, how in pages.generated_values)
        entered = {*self.editor.entered_by(holding)} - {self.editor.position}
        return not pages.automatic_values and not any(
            entered & set(columns) for columns in unique_sets(pages)
        )

    def add(self, turn: SaveTurn) -> None:
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
            self.result.messages[indices[number]] = message
        self.rows.refuse_wrong()
        try:
            self.saver.add_all(turn.connection, turn.added)
        except DBAPIError as error:
            self._refuse_unclear(error)
        for outcome in turn.adding.values():
            told = AuditEvent(
                "add", self.pages.name, outcome.key, changes=outcome.changes
            )
            turn.done.append(told)

    def change(self, turn: SaveTurn) -> None:
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

    def _refuse_unclear(self, error: DBAPIError) -> None:
        if is_passing(error) or classify(error).kind in ("busy", "lost"):
            raise error
        raise Unclear from error
