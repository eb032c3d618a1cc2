"""One-to-one parts: records whose reference to another is unique, shown with its
fields."""

from dataclasses import dataclass

from sqlalchemy import Connection, bindparam, select

from ..access.reach import Reach
from ..common.url_keys import encode_key
from ..pages.context import Site
from ..pages.table_pages import TablePages, is_single
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


def parts_of(
    site: Site,
    connection: Connection,
    pages: TablePages,
    reach: Reach,
    record: Record,
) -> list[Part]:
    """Return the parts of a record that are within reach, or that can be added."""
    found = []
    for related in pages.details:
        child = site.registry[related.table]
        is_part = is_single(child, related.columns) and not related.joined
        if not (is_part and child.key and is_seen(child, related, reach)):
            continue
        reference = site.registry.reference(pages.name, related)
        label = str(related.label or child.singular)
        rows = reach.rows(child.table)
        pairs = list(zip(reference.columns, reference.referred, strict=True))
        matches = [rows.c[ours] == bindparam(f"p_{ours}") for ours, _its in pairs]
        if child.soft_delete:
            matches.append(child.is_alive(rows))
        bound = {f"p_{ours}": record.values[its] for ours, its in pairs}
        key = select(*[rows.c[name] for name in child.key]).where(*matches)
        row = reach.run(connection, key, bound).first()
        held = dict(zip(child.key, row, strict=True)) if row else {}
        part = record_plan(site, child, reach).read(connection, held) if row else None
        if part is None:
            add = add_below(child, reference, record, reach)
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
