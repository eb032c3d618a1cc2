"""Pages: what a generated table module describes its pages with."""

from .table_pages import (
    Held,
    Order,
    Related,
    Section,
    TablePages,
    Unshown,
    ascending,
    descending,
)

__all__ = [
    "Held",
    "Order",
    "Related",
    "Section",
    "TablePages",
    "Unshown",
    "ascending",
    "descending",
]
