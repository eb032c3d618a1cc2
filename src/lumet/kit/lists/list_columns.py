"""The columns of a list: which a card shows, and how their cells begin."""

from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass

from ..forms.fields import (
    ChoiceField,
    JsonField,
    LongTextField,
    MultipleChoiceField,
    OtherField,
    SecretField,
)
from ..forms.number_fields import DecimalField, DegreesField
from ..pages.table_pages import TablePages
from ..queries.cells import escape

MAX_ON_CARD = 3  # columns beside the title and the state


@dataclass(frozen=True, slots=True)
class ListColumns:
    """The columns that a list shows, those that only wide windows do among them."""

    pages: TablePages
    shown: Sequence[str]
    wide: Collection[str]

    @property
    def labels(self) -> list[tuple[str, str, bool]]:
        """The columns with their labels, and whether they are numbers."""
        return labels_of(self.pages, self.shown)

    @property
    def aligned(self) -> list[int]:
        """The places of the columns whose numbers are aligned by their decimal point."""
        return [place for place, key in enumerate(self.shown) if self._is_ragged(key)]

    def cell_starts(self) -> list[str]:
        """Return the beginnings of a row's cells as HTML. Those that a card shows,
        where the window is narrow, say what they are."""
        cards = self._card_columns()
        found = []
        for key, label, numeric in self.labels:
            classes = " ".join(
                ["num"] * numeric
                + ["wide-only"] * (key in self.wide)
                + ["state-cell"] * (key in cards[:1] and self._has_colours(key))
            )
            start = f'<td class="{classes}"' if classes else "<td"
            if key in cards:
                start += f' data-label="{escape(label)}"'
            found.append(start + ">")
        return found

    def _card_columns(self) -> list[str]:
        """Return the columns that a card shows besides the title: the first that has
        colours, a state, and the most telling others."""
        fields = {key: self.pages.shown_field(key) for key in self.shown}
        states = [key for key in fields if self._has_colours(key)]
        long = (
            LongTextField | JsonField | SecretField | MultipleChoiceField | OtherField
        )
        others = [
            key
            for key, shown in fields.items()
            if key not in states[:1]
            and key not in self.wide
            and not isinstance(shown, long)
        ]
        return [*states[:1], *others[:MAX_ON_CARD]]

    def _has_colours(self, key: str) -> bool:
        shown = self.pages.shown_field(key)
        return isinstance(shown, ChoiceField) and bool(shown.colours)

    def _is_ragged(self, key: str) -> bool:
        """Tell whether the numbers of a column have different numbers of digits."""
        shown = self.pages.shown_field(key)
        if key in self.pages.lookups or not isinstance(shown, DecimalField):
            return False
        return shown.scale is None or isinstance(shown, DegreesField)


def labels_of(pages: TablePages, keys: Iterable[str]) -> list[tuple[str, str, bool]]:
    """Return each column's key, label, and whether it is a number."""
    return [
        (
            key,
            pages.label(key),
            pages.shown_field(key).numeric and key not in pages.lookups,
        )
        for key in keys
    ]
