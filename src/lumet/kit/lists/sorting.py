"""The order of a list, as its address asks for it."""

from collections.abc import Sequence
from dataclasses import dataclass

from ..forms.fields import (
    JsonField,
    LongTextField,
    MultipleChoiceField,
    OtherField,
    SecretField,
)
from ..forms.file_fields import FileField
from ..pages.table_context import TableContext
from ..pages.table_pages import Order
from .list_spec import TITLE

MAX_SORTED = 2  # columns in one order


def is_sortable(context: TableContext, key: str) -> bool:
    """Tell whether a list can be sorted by a column: not by long texts or bytes, nor by
    references to what may not be seen."""
    pages = context.pages
    if key in pages.lookups:
        target = context.site.registry[pages.lookups[key].target].table.fullname
        if not context.reach.may("view", target):
            return False
    unsorted = (
        LongTextField
        | JsonField
        | OtherField
        | SecretField
        | MultipleChoiceField
        | FileField
    )
    if (
        not pages.is_shown(key)
        or key in {*pages.computed, *pages.in_python}
        or key in pages.list.unindexed
    ):
        return False
    return not isinstance(pages.shown_field(key), unsorted)


@dataclass(frozen=True, slots=True)
class Sorting:
    """The requested order: the parameter, and its columns."""

    order: Sequence[Order]
    words: tuple[str, ...] = ()
    column: str = ""  # the first, TITLE for the title
    down: bool = False

    def by(self, key: str) -> str:
        """Return the word for sorting by another column, keeping the present one behind
        it; by the same, the other way round."""
        turned = self.column == key and not self.down
        kept = [word for word in self.words if word.removeprefix("-") != key]
        if not self.words and self.column and self.column != key:
            kept = [f"{'-' if self.down else ''}{self.column}"]
        return ",".join([f"{'-' if turned else ''}{key}", *kept[: MAX_SORTED - 1]])


def read_sort(context: TableContext, words: str) -> Sorting:
    """Return the order that the words in an address ask for. A word that names no
    column is left out; none mean the first order."""
    pages = context.pages
    order: list[Order] = []
    known: list[str] = []
    for word in words.split(",")[:MAX_SORTED]:
        down, key = word.startswith("-"), word.removeprefix("-")
        parts = pages.parsed_title.keys if key == TITLE else (key,)
        if key == TITLE or is_sortable(context, key):
            fresh = [part for part in parts if all(part != o.column for o in order)]
            order += [Order(part, down) for part in fresh]
            known.append(word)
    if known:
        first = known[0]
        return Sorting(
            tuple(order), tuple(known), first.removeprefix("-"), first.startswith("-")
        )
    first_ = pages.list.orders
    if not first_:
        return Sorting(())
    titled = first_[0].column in pages.parsed_title.keys
    column = TITLE if titled else first_[0].column
    return Sorting(tuple(first_), (), column, first_[0].down)
