"""Kinds whose values are chosen."""

from lumet.kinds.base import (
    Decided,
    FieldSource,
    Kind,
    number_limits,
    text_limits,
)

_NUMBERS = ("integer", "smallint", "bigint", "numeric")  # of elements


def _plain(source: FieldSource) -> str:
    return "integer" if source.column.type.kind == "integer" else "text"


class _OpenKind(Kind):
    """A kind that may take other values than those it offers: any of its column."""

    def validators(self, source: FieldSource) -> list[str]:
        if not source.decided.other_values:
            return []
        is_whole = source.column.type.kind == "integer"
        return number_limits(source) if is_whole else text_limits(source)


class YesNo(Kind):
    """Yes or no."""

    name = "yes/no"
    meaning = "yes or no"
    field = "YesNoField"
    synonyms = ("bool", "boolean")
    keys = ("storage_format",)
    types = ("boolean",)
    storage = ("YesNo", "Y/N")
    list_rank = 2

    def arguments(self, source: FieldSource) -> list[str]:
        return ["whole=True"] if source.column.type.kind == "integer" else []

    def names_values(self, decided: Decided) -> bool:
        return True


class Choice(_OpenKind):
    """One of a few values."""

    name = "choice"
    meaning = "one of a few values, each with a label and a colour"
    field = "ChoiceField"
    keys = ("choices", "other_values", "colours")
    synonyms = ("enum", "select")
    can_be_summed = False
    list_rank = 0

    def plainer(self, source: FieldSource) -> str:
        if not (source.decided.choices or source.decided.other_values):
            return _plain(source)  # nothing could be chosen
        return super().plainer(source)

    def arguments(self, source: FieldSource) -> list[str]:
        decided = source.decided
        found = [f"choices={source.choices}"]
        if source.column.type.kind == "integer":
            found.append("whole=True")
        if decided.other_values:
            found.append("other_values=True")
        if decided.colours:
            found.append(f"colours={decided.colours!r}")
        return found

    def has_choices(self, decided: Decided) -> bool:
        return True

    def names_values(self, decided: Decided) -> bool:
        return not decided.other_values


class MultipleChoice(Kind):
    """Several of a few values."""

    name = "multiple choice"
    meaning = "several values: of a set, or of an array of texts or numbers"
    field = "MultipleChoiceField"
    keys = ("choices",)
    synonyms = ("array",)
    can_be_required = False

    def arguments(self, source: FieldSource) -> list[str]:
        type_ = source.column.type
        found = [f"choices={source.choices}"] if source.decided.choices else []
        if not type_.element:
            found.append("joined=True")
        elif type_.element in _NUMBERS:
            found.append('each="number"')
        return found if source.column.nullable else [*found, "nullable=False"]

    def has_choices(self, decided: Decided) -> bool:
        return bool(decided.choices)


class Lookup(_OpenKind):
    """A reference to a record."""

    name = "lookup"
    meaning = "a reference, shown and chosen by the title of its record"
    field = "LookupField"
    keys = ("references", "where", "depends_on", "lookup_columns", "other_values")
    synonyms = ("foreign key", "reference")
    holds_bytes = True  # of a key
    can_be_summed = False
    list_rank = 0

    def plainer(self, source: FieldSource) -> str:
        return super().plainer(source) or ("" if source.lookup else _plain(source))

    def arguments(self, source: FieldSource) -> list[str]:
        others = ["other_values=True"] if source.decided.other_values else []
        return [*source.lookup, *others]


KINDS: tuple[Kind, ...] = (YesNo(), Choice(), MultipleChoice(), Lookup())
