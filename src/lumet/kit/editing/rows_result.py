"""The rows of a detail table in a form: the words of their controls, and the result of a
save."""

from dataclasses import dataclass, field

from werkzeug.datastructures import MultiDict

from .save_result import SaveResult

MAX_ROWS = 500  # entered on one form; beyond, each has its own
KEY, GONE, SURE = "the-key", "is-gone", "is-sure"  # of a row: no column has a hyphen
Typed = MultiDict[str, str]


class DetailRowsRejected(Exception):
    """Some rows cannot be saved; the transaction is not to be kept."""


class Unclear(Exception):
    """One of several rows was refused: which of them shows when they are saved one by
    one."""


@dataclass(slots=True)
class RowsResult:
    """The result of a save of rows, by their numbers in the form: those that `failed`,
    `messages` about them, and questions that are `asked`, of rows with dependent
    records."""

    failed: dict[str, SaveResult] = field(default_factory=dict)
    messages: dict[str, str] = field(default_factory=dict)
    asked: dict[str, str] = field(default_factory=dict)

    def clear(self) -> None:
        """Begin again."""
        for each in (self.failed, self.messages, self.asked):
            each.clear()

    @property
    def is_refused(self) -> bool:
        """Tell whether a row cannot be saved."""
        return bool(self.failed or self.messages)
