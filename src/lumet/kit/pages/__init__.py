"""Pages: what a generated table module describes its pages with."""

from .model import Order, Refers, Related, Section, TablePages, ascending, descending

__all__ = [
    "Order",
    "Refers",
    "Related",
    "Section",
    "TablePages",
    "ascending",
    "descending",
]
