"""The kinds of columns: how columns are displayed and entered."""

from lumet.facts.model import TypeKind
from lumet.kinds import choices, dates, files, numbers, texts
from lumet.kinds.base import FieldSource, Kind

__all__ = [
    "KINDS",
    "KIND_OF",
    "SYNONYMS",
    "FieldSource",
    "Kind",
    "fitting_kind",
    "kind_of_type",
]

KINDS: tuple[Kind, ...] = (
    *texts.KINDS,
    *files.KINDS,
    *numbers.KINDS,
    *dates.KINDS,
    *choices.KINDS,
)
KIND_OF: dict[str, Kind] = {kind.name: kind for kind in KINDS}
SYNONYMS: dict[str, str] = {word: each.name for each in KINDS for word in each.synonyms}
"""Words that people know kinds by from databases and programs."""
_OF_TYPE: dict[TypeKind, Kind] = {type_: kind for kind in KINDS for type_ in kind.types}


def kind_of_type(type_: TypeKind) -> Kind:
    """Return the kind that columns of a type have unless more is known."""
    return _OF_TYPE[type_]


def fitting_kind(source: FieldSource) -> Kind:
    """Return the kind that a column has: the decided one, or a plainer one where the
    column cannot have it."""
    kind = KIND_OF[source.decided.kind]
    while name := kind.plainer(source):
        kind = KIND_OF[name]
    return kind
