"""Records of all tables by their titles, within a time."""

import logging
import time
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from sqlalchemy.exc import DBAPIError

from ..db.errors import classify
from ..pages.table_context import TableContext
from .lookups import SEARCH_SECONDS, LookupPlan, Option

log = logging.getLogger(__name__)

SHOWN = 5  # records of a table
SECONDS = 1.5  # for all tables; each has SEARCH_SECONDS, where no index helps
FEWEST = 2  # letters; fewer are in nearly every title


@dataclass(frozen=True, slots=True)
class FoundRecords:
    """Some records of a table, by their keys as addresses have them; whether there are
    `more`."""

    context: TableContext
    records: Sequence[Option]
    more: bool = False


@dataclass(slots=True)
class RecordSearch:
    """What was found in some tables, and those for which no time was left."""

    found: list[FoundRecords] = field(default_factory=list)
    left_out: list[TableContext] = field(default_factory=list)


def find_records(
    contexts: Iterable[TableContext], search: str, seconds: float = SECONDS
) -> RecordSearch:
    """Return the records whose titles hold every word of `search`, SHOWN at most of each
    table, those first whose titles begin so. What an index finds is looked for first;
    `seconds` is the time for all."""
    made = RecordSearch()
    # what is named by itself before what is named by another, a station before its
    # visits, and views, which show others' records, last
    contexts = sorted(contexts, key=_rank)
    if len(search.strip()) < FEWEST:
        return made
    end = time.monotonic() + seconds
    keyed = [context for context in contexts if context.pages.key]
    for context in sorted(keyed, key=_cost):
        if time.monotonic() + _cost(context) * SEARCH_SECONDS > end:
            made.left_out.append(context)
            continue
        try:
            found = titles_plan(context).find(search)
        except DBAPIError as error:
            if classify(error).kind == "lost":
                raise
            # one table must not take the others with it
            log.error("search of %s: %s", context.pages.name, error)
            made.left_out.append(context)
            continue
        if found.options:
            more = found.more or len(found.options) > SHOWN
            made.found.append(FoundRecords(context, found.options[:SHOWN], more))
        elif found.is_cut:
            made.left_out.append(context)
    order = [context.pages.name for context in contexts]
    made.found.sort(key=lambda each: order.index(each.context.pages.name))
    return made


def _rank(context: TableContext) -> tuple[bool, bool]:
    keys = context.pages.parsed_title.keys
    is_of_another = bool(keys) and keys[0] in context.pages.lookups
    return not context.pages.is_changeable, is_of_another


def titles_plan(context: TableContext) -> LookupPlan:
    """Return the plan that finds records of a table, by their titles or their keys."""
    key = context.pages.key

    def build(bare: TableContext) -> LookupPlan:
        return LookupPlan(bare, key, with_deleted=False)

    return context.plan(LookupPlan, "all tables", build=build)


def _cost(context: TableContext) -> int:
    """Return 0 for a table whose titles are found quickly, 1 for one that may have to be
    read as a whole."""
    pages = context.pages
    return int(pages.is_large and not titles_plan(context).is_served)
