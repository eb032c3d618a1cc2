"""The description of a table's pages: what a generated table module consists of."""

from .table_pages import (
    DatabaseRule,
    DetailRows,
    ExternalReference,
    FormPage,
    ListPage,
    ManyToMany,
    RecordPage,
    RelatedRecords,
    Section,
    TablePages,
)
from .transitions import Transition

__all__ = [
    "DatabaseRule",
    "DetailRows",
    "ExternalReference",
    "FormPage",
    "ListPage",
    "ManyToMany",
    "RecordPage",
    "RelatedRecords",
    "Section",
    "TablePages",
    "Transition",
]
