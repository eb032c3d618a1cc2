"""Choosing tables by shell patterns."""

from collections.abc import Sequence
from dataclasses import replace
from fnmatch import fnmatchcase

from lumet.facts.model import Database, Table


def choose_tables(
    database: Database, wanted: Sequence[str], skipped: Sequence[str]
) -> tuple[Database, frozenset[str]]:
    """Return the database with the tables that a pattern in `wanted` fits (all, where
    there is none) and no pattern in `skipped`, and with those that they refer to, in
    other schemas too; and the names of the latter, which are read for their lookups
    alone. A pattern may name the schema or not."""
    chosen = {
        table.name
        for table in database.tables
        if table.schema in database.schemas
        and (not wanted or _fits(table, wanted))
        and not _fits(table, skipped)
    }
    kept = set(chosen)
    waiting = sorted(chosen)
    while waiting:
        for reference in database.table(waiting.pop()).references:
            name = reference.referred_table
            if name not in kept and name in database.by_name:
                kept.add(name)
                waiting.append(name)
    tables = tuple(table for table in database.tables if table.name in kept)
    return replace(database, tables=tables), frozenset(kept - chosen)


def _fits(table: Table, patterns: Sequence[str]) -> bool:
    names = {table.name, table.own_name}
    return any(fnmatchcase(name, each) for name in names for each in patterns)
