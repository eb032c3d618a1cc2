"""The conditions of a list: its filters, its search, its branch of a tree."""

from collections.abc import Sequence
from typing import Any

from sqlalchemy import (
    ColumnElement,
    bindparam,
    literal,
    not_,
    or_,
    select,
)

from ..db.keyset import (
    among_keys,
)
from ..forms.fields import (
    LongTextField,
    TextField,
)
from ..pages.table_context import TableContext
from ..pages.table_pages import Order, Reference
from ..queries.filters import conditions
from ..queries.hierarchy import hierarchy_of
from ..queries.search import has_words, matchers
from ..queries.select_builder import SelectBuilder
from ..queries.title_search import is_titled
from .list_columns import ListColumns
from .list_spec import ONLY, TOP, WITH, Junction, ListSpec


class ListConditions:
    """The conditions of the rows of one list, by what it shows."""

    def __init__(
        self, selection: SelectBuilder, context: TableContext, columns: ListColumns
    ) -> None:
        self.context, self.selection = context, selection
        self.pages, self.reach = context.pages, context.reach
        self.shown, self.wide = columns.shown, columns.wide
        self._server = context.site.database.server

    def conditions(
        self, by: Sequence[str], asked: ListSpec, through: Junction
    ) -> list[ColumnElement[bool]]:
        """Return the conditions of the list's rows."""
        pages, reach, base = self.pages, self.reach, self.selection.base
        found: list[ColumnElement[bool]] = [
            base.c[key] == bindparam(f"p{place}") for place, key in enumerate(by)
        ]
        if pages.soft_delete and asked.deleted != WITH:
            alive = pages.is_alive(base)
            found.append(not_(alive) if asked.deleted == ONLY else alive)
        own = pages.list_condition(base)
        if own is not None:
            found.append(own)
        tree = hierarchy_of(self.context) if asked.part else None
        if tree is not None:
            is_top = asked.part == TOP
            found.append(tree.is_top(base, reach) if is_top else tree.is_under(base))
        if through:
            found.append(self._is_joined(*through))
        found += conditions(self.selection, asked.shape, self._server, asked.any_of)
        if asked.among:
            found.append(among_keys(base, pages.key, "among"))
            return found
        searched = []
        if asked.words:
            likes = matchers(self._searched(), self._server, asked.is_folded)
            searched.append(has_words(likes, asked.words))
        if asked.titled:
            columns = self.selection.title_columns()
            searched.append(
                is_titled(columns, asked.titled, self._server, asked.is_folded)
            )
        return [*found, or_(*searched)] if searched else found

    def _is_joined(self, near: Reference, far: Reference) -> ColumnElement[bool]:
        """Return the condition that a table joins a row to the parent."""
        base = self.selection.base
        rows = self.reach.rows(self.context.of(near.source).pages.table)
        held = [rows.c[k] == bindparam(f"p{n}") for n, k in enumerate(near.columns)]
        held += [
            rows.c[ours] == base.c[its]
            for ours, its in zip(far.columns, far.referred, strict=True)
        ]
        return select(literal(1)).select_from(rows).where(*held).exists()

    def _searched(self) -> list[ColumnElement[Any]]:
        """Return the searched columns: those decided, else those of the title, through
        its references, and the other texts that the list shows."""
        if decided := self.pages.list.search:
            seen = self.pages.seen_by(self.reach, decided)
            order = [Order(key) for key in seen]
            return [term for term, _, _ in self.selection.order_terms(order)]
        keys = list(self.pages.parsed_title.keys)
        keys += [
            key
            for key in self.shown
            if key not in keys
            and key not in self.wide
            and key in self.pages.fields
            and key not in self.pages.lookups
            and isinstance(self.pages.fields[key], TextField | LongTextField)
        ]
        seen = self.pages.seen_by(self.reach, keys)
        order = [Order(key) for key in seen]
        return [term for term, _, _ in self.selection.order_terms(order)]
