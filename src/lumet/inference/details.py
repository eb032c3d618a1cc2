"""Questions about related records: which are shown with a record, what their labels
are, which are entered with it, which are chosen."""

from lumet.design.decision_schema import EDIT_CHOSEN
from lumet.design.details import columns_of_its_own, joined_reference
from lumet.facts.model import Column, Reference
from lumet.inference.labels_from_names import KEY_WORDS, is_spelled, split_words
from lumet.inference.relations import hierarchy_of, in_place, junction_of, position_of
from lumet.inference.rules import Choice, ColumnRule, Subject
from lumet.kinds import KIND_OF

_HERE = {
    "from here": frozenset({"from", "origin", "source", "departure", "start"}),
    "to here": frozenset({"to", "destination", "target", "arrival", "dest"}),
    "via here": frozenset({"via", "through", "past"}),
}
_ABOVE = frozenset(
    {"parent", "superior", "upper", "above", "belongs", "part", "of", "to", "in"}
)
_AMOUNTS = frozenset({"amount", "amt", "total", "subtotal", "cost", "costs", "fee", "charge", "weight",
                      "cargo", "hours", "minutes", "duration", "expense", "expenses"})  # fmt: skip
_OF_ONE = frozenset({"price", "rate", "unit", "each", "per", "max", "min", "limit"})
_BEFORE_NOUNS = frozenset({"by", "for", "of", "in", "at", "on", "with"})


def details_of_references(subject: Subject) -> dict[str, Choice]:
    """Every reference that points here is a block of related records; those edited in
    place come first, then those deleted with the record. Example: inspections and
    lights on the page of a station."""
    found: dict[str, list[Reference]] = {}
    for table, reference in subject.database.referring_to(subject.table.name):
        if subject.answers[table.name, "include"].value and reference.referred_columns:
            found.setdefault(table.name, []).append(reference)
    choices = {name: _detail(subject, name, each) for name, each in found.items()}

    def place(name: str) -> tuple[bool, bool, bool, str]:
        edited, first = "edit" in choices[name].value, found[name][0]
        guessed = (name, first.columns) in subject.found
        return (not edited, first.on_delete != "cascade", guessed, name.casefold())

    return {name: choices[name] for name in sorted(found, key=place)}


def relation_label(subject: Subject, name: str, reference: Reference) -> str:
    """Several references from one table are told apart in words: by where they point
    ("Voyages from here"), by what was done ("Repairs reported by this keeper"), else by
    their own name ("Vessels with this home port"); children in the same table are below
    it ("Stations below"), unless its name says more ("Keepers with this
    supervisor")."""
    plural = str(subject.answers[name, "plural"].value)
    words = _words_of(subject.about(name), reference)
    is_tree = reference.columns[-1] == hierarchy_of(subject)
    if name == subject.table.name and is_tree and set(words) <= _ABOVE:
        return f"{plural} below"
    noun = str(subject.answers[subject.table.name, "singular"].value)
    rest = [word for word in words if word not in subject.words]
    for place, known in _HERE.items():
        if rest and set(rest) <= known:
            return f"{plural} {place}"
    said = _lower_first(subject.label(words))
    if words[-1] in _BEFORE_NOUNS:
        return f"{plural} {said} this {_lower_first(noun)}"
    return f"{plural} with this {said}"


def total_of_amount(subject: Subject, column: Column) -> Choice | None:
    """Columns of detail rows are summed where they are an amount by its
    name, and not the price of one. Example: `cargo_kg` of the stops of a voyage."""
    words = set(split_words(column.worded))
    is_number = column.type.kind in ("integer", "decimal", "float")
    if not is_number or not words & _AMOUNTS or words & _OF_ONE:
        return None
    if not KIND_OF[subject.answer(column.name, "kind")].can_be_summed:
        return None
    for reference in subject.table.references:
        parent = subject.database.by_name.get(reference.referred_table)
        if parent is None or subject.table.is_unique(reference.columns):
            continue
        if in_place(subject.about(parent.name), subject.table.name, reference):
            noun = subject.database.own_name(parent.name)
            return Choice("sum", f"an amount, entered with its {noun}", 0.8)
    return None


TOTAL_RULES: tuple[ColumnRule, ...] = (total_of_amount,)


def _words_of(child: Subject, reference: Reference) -> list[str]:
    """Return the words that a reference goes by: of several columns, those with which
    all of them begin. Example: "parent" of `(parent_region, parent_no)`."""
    table = child.table
    split = [
        child.without_own(split_words(table.column(each).worded))
        for each in reference.columns
    ]
    shared: list[str] = []
    for alike in zip(*split, strict=False):
        if len(set(alike)) > 1:
            break
        shared.append(alike[0])
    words = shared or split[-1]
    stem = [*words]
    while len(stem) > 1 and stem[-1] in KEY_WORDS:
        stem.pop()
    return stem or [reference.columns[-1]]


def _lower_first(text: str) -> str:
    return text if is_spelled(text) else text[:1].lower() + text[1:]


def _chosen(
    subject: Subject,
    name: str,
    references: list[Reference],
    values: list[dict[str, object]],
) -> Choice | None:
    """Of a table that only joins, the other side is chosen on both. Example: vessels on
    the form of a light, by `light_tender`."""
    junction = junction_of(subject.about(name))
    if junction is None or not junction.is_pure:
        return None
    child = subject.database.table(name)
    for reference, value in zip(references, values, strict=True):
        other = joined_reference(child, reference.columns)
        if other is None or not set(reference.columns) <= set(junction.columns):
            return None
        if columns_of_its_own(child, other, reference.columns):
            return None
        if (other.referred_table, "plural") not in subject.answers:
            return None
        value["label"] = _label_of_chosen(
            subject, subject.about(name), reference, other, len(references)
        )
        value["edit"] = EDIT_CHOSEN
    return Choice(values[0] if len(values) == 1 else values, junction.reason)


def _label_of_chosen(
    subject: Subject, child: Subject, near: Reference, far: Reference, count: int
) -> str:
    """Return the label of the records on the other side: where both ends are of one
    table, by what they are there. Example: "Next areas" by `(area_id, next_id)`, and
    "Areas with this next" the other way."""
    plural = str(subject.answers[far.referred_table, "plural"].value)
    if count == 1 and far.referred_table != subject.table.name:
        return plural
    words = _words_of(child, far)
    if set(words) <= set(subject.about(far.referred_table).words):
        return (
            f"{plural} with this {_lower_first(subject.label(_words_of(child, near)))}"
        )
    return f"{subject.label(words)} {_lower_first(plural)}"


def _leading(
    subject: Subject, name: str, references: list[Reference]
) -> tuple[int, Choice] | None:
    """Of a junction of a table with itself that has more columns, the rows whose key
    begins with the record's are its own. Example: the components of a part."""
    child = subject.database.table(name)
    if junction_of(subject.about(name)) is None:
        return None
    for number, reference in enumerate(references):
        leads = child.primary_key[: len(reference.columns)] == reference.columns
        edited = in_place(subject, name, reference) if leads else None
        if edited is not None:
            return number, edited
    return None


def _detail(subject: Subject, name: str, references: list[Reference]) -> Choice:
    values: list[dict[str, object]] = []
    for reference in references:
        columns = reference.columns
        value: dict[str, object] = {
            "by": columns[0] if len(columns) == 1 else list(columns)
        }
        if len(references) > 1 or name == subject.table.name:
            value["label"] = relation_label(subject, name, reference)
        values.append(value)
    joined = _chosen(subject, name, references, values)
    if joined is not None:
        return joined
    if len(references) == 1:
        edited = in_place(subject, name, references[0])
        if edited is not None:
            value = {**values[0], "edit": edited.value}
            child = subject.database.table(name)
            if place := position_of(child, references[0]):
                value["position"] = place
            return Choice(value, edited.reason, edited.confidence)
    lead = _leading(subject, name, references)
    if lead is not None:
        number, edited = lead
        ours = str(subject.answers[subject.table.name, "plural"].value)
        for place_, (reference, value) in enumerate(
            zip(references, values, strict=True)
        ):
            said = _lower_first(
                subject.label(_words_of(subject.about(name), reference))
            )
            value["label"] = f"{ours} with this {said}"
            if place_ == number:
                del value["label"]
                value["edit"] = edited.value
        return Choice(values, edited.reason, edited.confidence)
    reason = (
        "deleted with it" if references[0].on_delete == "cascade" else "refers to it"
    )
    return Choice(values[0] if len(values) == 1 else values, reason)
