"""The description of a table's pages: what a generated table module consists of."""

from .cards import Card, CardPage
from .routine_actions import Parameter, RoutineAction
from .table_pages import (
    DatabaseRule,
    DetailRows,
    ExternalReference,
    FormPage,
    ListPage,
    ManyToMany,
    PolymorphicReference,
    RecordPage,
    RelatedRecords,
    Section,
    TablePages,
)
from .transitions import Transition

__all__ = [
    "Card",
    "CardPage",
    "DatabaseRule",
    "DetailRows",
    "ExternalReference",
    "FormPage",
    "ListPage",
    "ManyToMany",
    "Parameter",
    "PolymorphicReference",
    "RecordPage",
    "RelatedRecords",
    "RoutineAction",
    "Section",
    "TablePages",
    "Transition",
]
