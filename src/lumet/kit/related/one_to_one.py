"""One-to-one parts: records whose reference to another is unique, shown with its
fields."""

from dataclasses import dataclass
from typing import Any

from sqlalchemy import bindparam, select

from ..common.url_keys import encode_key
from ..pages.table_context import TableContext
from ..pages.table_pages import Reference, is_single
from ..queries.record import Fact, Record, record_plan
from .related_records import add_below, is_seen


@dataclass(frozen=True, slots=True)
class Part:
    """A record that is part of another: what it is called, its fields in sections, none
    where there is no such record; where it is by itself, or where one is added."""

    label: str
    sections: list[tuple[str, list[Fact]]]
    address: str = ""
    add: str = ""


def parts_of(context: TableContext, record: Record) -> list[Part]:
    """Return the parts of a record that are within reach, or that can be added."""
    found = []
    for related in context.pages.details:
        child = context.of(related.table)
        is_part = is_single(child.pages, related.columns) and not related.joined
        if is_part and child.pages.key and is_seen(child, related):
            reference = context.site.registry.reference(context.pages.name, related)
            label = str(related.label or child.pages.singular)
            found.append(_part(child, reference, record, label))
    return [each for each in found if each is not None]


def _part(
    child: TableContext, reference: Reference, record: Record, label: str
) -> Part | None:
    """Return the part of a record in one table: that there is, or that can be added;
    None for neither."""
    key = _key_of_part(child, reference, record)
    part = record_plan(child).read(child.connection, key) if key else None
    if part is None:
        add = add_below(child, reference, record)
        return Part(label, [], add=add) if add else None
    sections = [
        (name, [fact for fact in facts if fact.key not in reference.columns])
        for name, facts in part.sections
    ]
    has_page = not child.pages.for_lookups
    home = child.urls.record(encode_key(list(key.values()))) if has_page else ""
    return Part(label, [each for each in sections if each[1]], home)


def _key_of_part(
    child: TableContext, reference: Reference, record: Record
) -> dict[str, Any]:
    """Return the key of the record that refers to this one, {} for none."""
    pages, rows = child.pages, child.reach.rows(child.pages.table)
    matches = [rows.c[ours] == bindparam(f"p_{ours}") for ours in reference.columns]
    if pages.soft_delete:
        matches.append(pages.is_alive(rows))
    pairs = zip(reference.columns, reference.referred, strict=True)
    bound = {f"p_{ours}": record.values[its] for ours, its in pairs}
    key = select(*[rows.c[name] for name in pages.key]).where(*matches)
    row = child.reach.run(child.connection, key, bound).first()
    return dict(zip(pages.key, row, strict=True)) if row else {}
