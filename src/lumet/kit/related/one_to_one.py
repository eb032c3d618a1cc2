"""One-to-one parts: records whose reference to another is unique, shown with its
fields."""

from dataclasses import dataclass

from sqlalchemy import bindparam, select

from ..common.url_keys import encode_key
from ..pages.table_context import TableContext
from ..pages.table_pages import is_single
from ..pages.urls import record_address
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
    pages, reach = context.pages, context.reach
    found = []
    for related in pages.details:
        child = context.site.registry[related.table]
        is_part = is_single(child, related.columns) and not related.joined
        if not (is_part and child.key and is_seen(context.about(child), related)):
            continue
        reference = context.site.registry.reference(pages.name, related)
        label = str(related.label or child.singular)
        rows = reach.rows(child.table)
        pairs = list(zip(reference.columns, reference.referred, strict=True))
        matches = [rows.c[ours] == bindparam(f"p_{ours}") for ours, _its in pairs]
        if child.soft_delete:
            matches.append(child.is_alive(rows))
        bound = {f"p_{ours}": record.values[its] for ours, its in pairs}
        key = select(*[rows.c[name] for name in child.key]).where(*matches)
        row = reach.run(context.connection, key, bound).first()
        held = dict(zip(child.key, row, strict=True)) if row else {}
        part = (
            record_plan(context.about(child)).read(context.connection, held)
            if row
            else None
        )
        if part is None:
            add = add_below(context.about(child), reference, record)
            if add:
                found.append(Part(label, [], add=add))
            continue
        sections = [
            (name, [fact for fact in facts if fact.key not in reference.columns])
            for name, facts in part.sections
        ]
        home = ""
        if not child.for_lookups:
            home = record_address(child.name, encode_key(list(held.values())))
        found.append(Part(label, [each for each in sections if each[1]], home))
    return found
