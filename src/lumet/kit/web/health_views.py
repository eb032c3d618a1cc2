"""The page about the health of the data."""

from dataclasses import dataclass, field
from time import monotonic

from flask import Blueprint, abort, render_template, request
from flask.typing import ResponseReturnValue

from ..access.row_reach import QUERY
from ..lists.data_health import DataHealth, HealthProblem
from ..pages.context import current_reach, site
from ..pages.table_context import TableContext
from ..pages.table_pages import TablePages
from .audit_views import only_for_some

PAGE_SECONDS = 6.0  # for all tables together; what is left is checked alone
blueprint = Blueprint("health", __name__)
blueprint.before_request(only_for_some)  # for who may see the activity log


@dataclass(slots=True)
class TableHealth:
    """A table, and what is wrong with its rows."""

    pages: TablePages
    problems: list[HealthProblem] = field(default_factory=list)


@blueprint.get("/data-health")
def shown() -> ResponseReturnValue:
    """What is wrong with the rows of all tables, or of one."""
    reach, made = current_reach(), site()
    tables = [
        pages for pages in made.registry.pages.values()
        if reach.may("view", pages.table.fullname)
        and not pages.for_lookups and QUERY not in pages.table.info
    ]  # fmt: skip
    name = request.args.get("table", "")
    if name:
        tables = [pages for pages in tables if pages.name == name]
        if not tables:
            abort(404)
    until = monotonic() + PAGE_SECONDS
    found, healthy, left = [], 0, []
    for pages in tables:
        if monotonic() > until:
            left.append(pages)
            continue
        context = TableContext(made, pages, reach)
        health = TableHealth(pages, list(DataHealth(context).problems(until)))
        if health.problems:
            found.append(health)
        else:
            healthy += 1
    return render_template("data-health.html", found=found, healthy=healthy, left=left, name=name)  # fmt: skip
