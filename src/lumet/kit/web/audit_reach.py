"""What of the activity log its reader may see: no record beyond the reader's own reach,
and no field that is hidden there."""

from collections.abc import Sequence
from dataclasses import replace

from sqlalchemy import select, tuple_, type_coerce
from sqlalchemy.types import NullType

from ..accounts.audit_log import Entry
from ..common.url_keys import encode_key
from ..db.keyset import bound_keys
from ..pages.context import current_reach, site
from ..pages.table_context import TableContext
from .history_views import is_open, open_label, open_labels

OTHERS = ("sign-in", "account", "look")  # kinds of entries that are about no record


def seen_entries(entries: Sequence[Entry]) -> list[Entry]:
    """Return the entries that the present user may see, as far as that is."""
    reach = current_reach()
    known = site().registry.pages
    named = {each.event.table for each in entries if each.event.table}
    reached = {
        name: _reached(TableContext(site(), known[name], reach), entries)
        for name in named
        if name in known and reach.may("view", known[name].table.fullname)
    }
    found = []
    for each in entries:
        name = each.event.table
        if not name or each.event.kind in OTHERS:
            found.append(each)
        elif name in reached:
            keys = reached[name]
            if keys is None or not each.event.key or each.event.key in keys:
                found.append(
                    _without_hidden(TableContext(site(), known[name], reach), each)
                )
    return found


def _reached(context: TableContext, entries: Sequence[Entry]) -> set[str] | None:
    """Return the keys of a table's records that are there and within reach; None where
    all of them are, those that are gone included."""
    pages, reach = context.pages, context.reach
    rows = reach.rows(pages.table)
    if rows is pages.table or not pages.key:
        return None
    wanted = []
    for each in entries:
        if each.event.table == pages.name and each.event.key:
            try:
                values = context.key_values(each.event.key)
            except (ValueError, ArithmeticError):
                continue
            wanted.append(tuple(values.values()))
    if not wanted:
        return set()
    raw = [type_coerce(rows.c[key], NullType()) for key in pages.key]
    among = raw[0] if len(raw) == 1 else tuple_(*raw)
    statement = select(*raw).where(among.in_(bound_keys(list(dict.fromkeys(wanted)))))
    with site().database.reading() as connection:
        return {encode_key(tuple(row)) for row in reach.run(connection, statement)}


def _without_hidden(context: TableContext, entry: Entry) -> Entry:
    """Return an entry without the fields, and without the title, that are hidden from
    the user on some records."""
    if all(is_open(context, key) for key in context.pages.fields):
        return entry
    labels = open_labels(context)
    event = entry.event
    changes = {
        told: pair
        for label, pair in event.changes.items()
        if (told := open_label(context, label, labels))
    }
    titled = all(is_open(context, key) for key in context.pages.parsed_title.keys)
    title = event.title if titled else ""
    return replace(entry, event=replace(event, changes=changes, texts={}, title=title))
