"""Dependent lookups: the fields whose values limit the choices of a lookup."""

from lumet.facts.model import Database, Reference, Table


def lookup_reference(table: Table, column: str) -> Reference | None:
    """Return the reference that `column` chooses for: its own, or one over several
    columns of which it is the last without a reference of its own."""
    own = table.reference_of(column)
    if own is not None:
        return own
    for reference in table.references:
        free = [each for each in reference.columns if table.reference_of(each) is None]
        if len(reference.columns) > 1 and free[-1:] == [column]:
            return reference
    return None


def columns_followed(table: Table, column: str, database: Database) -> dict[str, str]:
    """Return the columns of `table` that a lookup can follow, each with the column of
    the referenced table that must hold the same: the others of a reference over several
    columns, and references to what the referenced record refers to as well."""
    reference = lookup_reference(table, column)
    if reference is None or reference.referred_table not in database.by_name:
        return {}
    found: dict[str, str] = {}
    for each in table.references:
        if column in each.columns and each.referred_table == reference.referred_table:
            pairs = zip(each.columns, each.referred_columns, strict=False)
            found |= {ours: theirs for ours, theirs in pairs if ours != column}
    target = database.table(reference.referred_table)
    for other in table.references:
        end = (other.referred_table, other.referred_columns)
        if len(other.columns) > 1 or other.columns == (column,):
            continue
        alike = [e for e in table.references if _end(e) == end]
        theirs = [e for e in target.references if _end(e) == end]
        if len(alike) == len(theirs) == 1 and end[0] != target.name:
            if theirs[0].columns == target.primary_key:
                continue  # that fits the one record which was chosen before, or none
            found.setdefault(other.columns[0], theirs[0].columns[0])
    return found


def _end(reference: Reference) -> tuple[str, tuple[str, ...]]:
    return reference.referred_table, reference.referred_columns
