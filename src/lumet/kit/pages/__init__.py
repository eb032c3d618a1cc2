"""Pages: what a generated table module describes its pages with."""

from .model import Order, Related, Section, TablePages, ascending, descending

__all__ = [
    "Order",
    "Related",
    "Section",
    "TablePages",
    "ascending",
    "descending",
]
