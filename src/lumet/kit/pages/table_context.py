"""The context of a request on a table: the site, the table, the reach of the user."""

from collections.abc import Callable, Sequence
from copy import copy
from dataclasses import dataclass, replace
from typing import Any, Self, TypeVar

from sqlalchemy import Connection

from ..access.reach import Reach
from ..common.url_keys import decode_key
from .context import Site
from .table_pages import TablePages, python_type
from .urls import TableUrls


@dataclass(frozen=True, slots=True)
class TableContext:
    """A request on a table: where, on which table, within which reach, and, where the
    database is asked, by which connection."""

    site: Site
    pages: TablePages
    reach: Reach
    open_connection: Connection | None = None

    @property
    def connection(self) -> Connection:
        """The connection of the transaction that the request has."""
        assert self.open_connection is not None, "`on` gives a context a connection"
        return self.open_connection

    def on(self, connection: Connection) -> "TableContext":
        """Return the same request with a connection."""
        return replace(self, open_connection=connection)

    def about(self, pages: TablePages) -> "TableContext":
        """Return the same request on another table."""
        return replace(self, pages=pages)

    def of(self, table: str) -> "TableContext":
        """Return the same request on another table, by its name."""
        return self.about(self.site.registry[table])

    def may(self, right: str) -> bool:
        """Tell whether the user has a right on the table."""
        return self.reach.may(right, self.pages.table.fullname)

    @property
    def urls(self) -> TableUrls:
        """The addresses of the table's pages."""
        return TableUrls(self.site.root, self.pages.name)

    def key_values(self, segment: str) -> dict[str, Any]:
        """Return the key in a segment of an address, by column.

        Raises ValueError when it is none of this table's.
        """
        return self.values_of(self.pages.key, segment)

    def values_of(self, columns: Sequence[str], segment: str) -> dict[str, Any]:
        """Return the same for other columns than those of the key."""
        takes_any = self.site.database.server.is_untyped
        types = [python_type(self.pages.column(key)) for key in columns]
        values = decode_key(segment, types, takes_any)
        widest = 1 << (63 if takes_any else 64)  # of a number that a database can hold
        if any(isinstance(value, int) and abs(value) >= widest for value in values):
            raise ValueError(segment)
        return dict(zip(columns, values, strict=True))

    def plan(
        self,
        kind: "type[P]",
        *key: Any,
        build: "Callable[[TableContext], P] | None" = None,
    ) -> "P":
        """Return the plan of this kind and key for the table, built when first wanted,
        once for all reaches of one shape and each language."""
        whole = (kind, self.pages.name, self.reach.shape, *key)
        bare = replace(self, open_connection=None)  # a plan outlives its request
        made: P = self.site.plan(whole, lambda: (build or kind)(bare))
        return made.for_context(self)


class Plan:
    """Statements with their readers, built once for all reaches of one shape."""

    def __init__(self, context: TableContext) -> None:
        self.context = context
        self.reach = context.reach

    def for_context(self, context: TableContext) -> Self:
        """Return the same for the present request: what is built once must not keep
        whom it was built for."""
        mine = copy(self)
        mine.context, mine.reach = context, context.reach
        return mine


P = TypeVar("P", bound=Plan)
