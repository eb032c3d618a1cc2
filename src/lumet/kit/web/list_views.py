"""The views of lists."""

from collections.abc import Callable, Mapping, Sequence, Sized
from contextlib import suppress
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from functools import partial
from typing import Any
from urllib.parse import parse_qsl

from flask import (
    abort,
    current_app,
    flash,
    redirect,
    render_template,
    request,
    send_file,
)
from flask.typing import ResponseReturnValue
from flask_babel import gettext as _
from flask_babel import ngettext
from flask_login import current_user
from markupsafe import Markup, escape
from sqlalchemy import Connection
from sqlalchemy.exc import DBAPIError
from werkzeug.datastructures import MultiDict

from ..accounts.preferences import COLUMNS, MAX_QUERY_LENGTH, WIDTHS, SavedView
from ..common.formatting import number_text
from ..common.url_keys import encode_key
from ..contract import CHART, GROUPS
from ..db.errors import classify
from ..db.keyset import among_keys, bound_keys
from ..forms.file_fields import FileField
from ..lists.export import (
    FORMATS,
    RETRY_SECONDS,
    Export,
    TooLarge,
    TooMany,
    make_export,
)
from ..lists.filter_controls import FilterControls
from ..lists.group_query import GroupQuery
from ..lists.list_facts import FILTER, VIEWS
from ..lists.list_html import Branch, Expander, Heading, Page, RowAction
from ..lists.list_query import MAX_COUNTED, Count, ListPlan
from ..lists.list_request import SIZES, ListRequest
from ..lists.list_spec import TITLE
from ..lists.saved_views import visible_view
from ..pages import urls
from ..pages.actions import LIST, RECORD, Action
from ..pages.context import (
    lower_first,
    may_manage_users,
    note,
    own_roles,
    preferences,
    site,
)
from ..pages.table_context import TableContext
from ..pages.table_pages import TablePages
from ..pages.transitions import Transition
from ..pages.urls import add_address, leave_list, list_address, record_home
from ..queries.filters import preset_text, preset_words
from ..queries.lookups import fill_lookups
from ..related.related_records import block_plans
from .action_views import offered
from .bulk_actions import MAX_ROWS, BulkAction, BulkResult, chosen_keys
from .edit_views import let_go
from .form_context import PIECE
from .layout_views import laid_out
from .navigation import blueprint, table_or_404

__all__ = ["blueprint"]

MAX_PRINTED = 1_000  # rows on paper
# what is no field has a hyphen in its name, as no column's key has
ACTION, SET_COLUMN, CHOSEN_ROW = "do-action", "set-column", "chosen-row"
OWN_ACTION = "own"  # begins the word of an action of your own; its name follows
ALL_ROWS, IS_SURE, SEEN_OF_ROW = "all-rows", "is-sure", "seen-of-row"
LIST_SECONDS = 8  # for a list that somebody arranged


class NoSuchPlace(Exception):
    """An address asks for a place that is none of its list."""


@blueprint.get(urls.LIST)
def show_list(name: str) -> ResponseReturnValue:
    """A page of a table's list, as its address asks for it."""
    context = table_or_404(name)
    pages = context.pages
    if not pages.has_list:
        abort(404)
    kept = preferences()
    if not request.args and (query := kept.first_view(name)):
        return redirect(f"{list_address(name)}?{query}")
    if PIECE not in request.args:
        leave_list(name, request.query_string.decode())
    list_request = ListRequest(context, request.args, kept, is_on_screen=True)
    try:
        template, found = _read_list(list_request)
    except NoSuchPlace:
        return redirect(list_request.address())
    except DBAPIError as error:
        if classify(error).kind != "busy" or not request.args:
            raise
        text = _("This takes too long. Add a filter, or sort by another column.")
        abort(503, description=text)
    return render_template(
        pages.templates(template),
        pages=pages,
        list_request=list_request,
        sizes=SIZES,
        views=_views(list_request) if list_request.panel == VIEWS else [],
        may_share=any(role.shares_views for role in own_roles()),
        may_export=context.may("export"),
        list_actions=offered(context, LIST),
        may_add=pages.offers("add") and context.may("add"),
        shared=partial(_shared, list_request),
        **found,
    )


def _read_list(list_request: ListRequest) -> tuple[str, dict[str, Any]]:
    """Return the template of a list, and what it shows."""
    limit = None if list_request.is_usual else LIST_SECONDS
    template = "list.html"
    with site().database.reading(limit) as connection:
        list_request.look(connection)
        if (made := laid_out(list_request, connection)) is not None:
            template, found = made
            found["count"] = list_request.plan().count(
                connection, bound=list_request.bound
            )
        elif list_request.layout in (GROUPS, CHART):
            template, found = "groups.html", _grouped(list_request, connection)
        else:
            found = _listed(list_request, connection)
        found["counted"] = list_request.count_words(found["count"])
        found |= _filters(list_request, connection)
    is_branch = PIECE in request.args and isinstance(found.get("branch"), Branch)
    return ("_branch.html" if is_branch else template), found


def _filters(list_request: ListRequest, connection: Connection) -> dict[str, Any]:
    """Return the active filters, and, where their panel is open, its controls."""
    filters = FilterControls(list_request)
    found: dict[str, Any] = {"active_filters": filters.active_filters(connection)}
    if list_request.panel == FILTER:
        found["controls"] = filters.controls(connection)
        found["control_groups"] = filters.groups(connection)
        found["further"] = filters.further()
        found["filter_hidden"] = filters.hidden()
        found["presets"] = preset_words()
        found["preset_text"] = preset_text
    return found


def _views(list_request: ListRequest) -> list[SavedView]:
    """Return the views that the user can open; of what others share, only what names
    nothing that this user may not see."""
    roles = [role.name for role in own_roles()]
    return [
        visible_view(list_request, each)
        for each in list_request.kept.views(list_request.pages.name, roles)
    ]


def _grouped(list_request: ListRequest, connection: Connection) -> dict[str, Any]:
    query = GroupQuery(list_request)
    groups, has_more = query.groups(connection)
    is_chart = list_request.layout == CHART
    drawn = groups
    if is_chart and query.is_by_period(query.group_by()):
        groups = [*query.without_gaps(groups)]
        # what has no date comes first, what has no end last; they are in the table alone
        dated = [n for n, each in enumerate(groups) if each.is_dated]
        drawn = groups[dated[0] : dated[-1] + 1] if dated else groups
    series = query.series(connection, groups) if is_chart else []
    first = groups.index(drawn[0]) if drawn else 0
    end = first + len(drawn)
    return {
        "series": series,
        "series_data": [
            {
                "name": each.name.text,
                "amounts": each.amounts[first:end],
                "addresses": each.addresses[first:end],
                "colour": each.name.colour,
            }
            for each in series
        ],
        "group_query": query,
        "groups": groups,
        "has_more": has_more,
        "drawn": drawn,
        "chart_labels": [str(group.cell.text) or str(_("empty")) for group in drawn],
        "largest": max((group.value or 0 for group in groups), default=1) or 1,
        "count": list_request.plan().count(connection, bound=list_request.bound),
    }


def _listed(list_request: ListRequest, connection: Connection) -> dict[str, Any]:
    plan = list_request.plan()
    page, position = _read_page(list_request, plan, connection)
    count = plan.count(
        connection, bound=list_request.bound, is_exact=list_request.is_counted
    )
    empty = list_request.is_narrowed and not page.lines
    return {
        "page": page,
        "count": count,
        "position": position,
        "labels": plan.labels,
        "links": _page_links(list_request, page, position, count),
        "headings": partial(_headings, list_request, plan),
        "bulk_actions": _bulk_actions(list_request.context),
        "totals": GroupQuery(list_request).totals(connection, plan, count),
        "loosening": FilterControls(list_request).loosening(connection)
        if empty
        else [],
        "acts": _row_actions(list_request, connection, page),
        "wide": plan.wide,
        "branch": list_request.branch(connection, page.lines)
        or _expander(list_request),
        "stranded": _stranded(list_request, connection, page),
        "in_place": _in_place(list_request, plan),
    }


def _shared(
    list_request: ListRequest, part: str, build: Callable[[], Markup]
) -> Markup:
    """Return a part of the page that does not depend on the rows; built once for each
    reach where the list is asked for as it is decided."""
    if not list_request.is_plain:
        return build()
    reach, columns = list_request.reach, list_request.columns
    keeps = list_request.kept.user_id is not None
    roles = tuple(role.name for role in reach.roles)
    name = list_request.pages.name
    key = (part, name, reach.shape, roles, reach.is_impersonated, columns)
    found: Markup = list_request.site.plan((*key, keeps), build)
    return found


def _headings(list_request: ListRequest, plan: ListPlan, can_select: bool) -> Markup:
    """Return the headings of the list, the first with the box that selects all rows."""
    build = partial(_build_headings, list_request, plan, can_select)
    return _shared(list_request, f"headings {can_select}", build)


def _build_headings(
    list_request: ListRequest, plan: ListPlan, can_select: bool
) -> Markup:
    sorting, links = list_request.sorting, list_request.sort_links
    direction = "descending" if sorting.down else "ascending"
    select = str(_("Select all on this page")) if can_select else ""
    first = (TITLE, list_request.nouns.one, False)
    cells = [
        Heading(
            key,
            label,
            ("num" if numeric else "") + (" wide-only" if key in plan.wide else ""),
            links.get(key, ""),
            direction if sorting.column == key else "",
        ).cell(select if key == TITLE else "")
        for key, label, numeric in (first, *plan.labels)
    ]
    return Markup("".join(cells))


def _bulk_actions(context: TableContext) -> Markup:
    """Return the buttons for selected records, which all users of one reach share."""
    reach = context.reach
    roles = tuple(role.name for role in reach.roles)
    key = (
        "bulk actions",
        context.pages.name,
        reach.shape,
        roles,
        reach.is_impersonated,
    )

    def build() -> Markup:
        acts, may_export = _build_row_actions(context), context.may("export")
        name = "_bulk_actions.html"
        own = _bulk_offered(context)
        return Markup(
            render_template(name, acts=acts, may_export=may_export, actions=own)
        )

    found: Markup = context.site.plan(key, build)
    return found


def _expander(list_request: ListRequest) -> Expander | None:
    """Return the opener of the related records of a row; None for a list whose
    rows are not opened."""
    context, word = list_request.context, list_request.pages.list.expand
    plan = block_plans(context).get(word) if word else None
    if plan is None or not context.pages.key:
        return None
    address = f"{record_home(context.pages.name)}*{urls.RELATED}{word}"
    words = str(_("%(label)s of %(title)s", label=plan.label, title="*"))
    return Expander(address, words)


def _stranded(list_request: ListRequest, connection: Connection, page: Page) -> int:
    """Return the number of records that a tree does not show, since they are in
    cycles."""
    is_whole = (
        list_request.is_tree and not list_request.under and not list_request.deleted
    )
    tree = list_request.tree
    if tree is None or not is_whole or page.begin or PIECE in request.args:
        return 0
    return tree.stranded(connection, list_request.reach)


def _in_place(list_request: ListRequest, plan: ListPlan) -> str:
    """Return which columns of the list are edited in it, in their order, "" for the
    others; nothing at all for a list that is not edited in its place."""
    pages = list_request.pages
    if not pages.list.is_edited or not pages.offers("edit"):
        return ""
    name, reach = pages.table.fullname, list_request.reach
    entered = pages.enters(reach, reach.holding("edit", name), is_new=False)
    keys = [key if key in entered else "" for key in plan.shown]
    return ",".join(["", *keys]) if any(keys) else ""


@dataclass(frozen=True, slots=True)
class RowActions:
    """What can be done to the rows of a list: to each, as rights, addresses with `*`
    for the key and labels, with the keys of the rows on which a right holds where that
    is not all; to several, the fields that can be set, by label, and deleting."""

    rows: Sequence[RowAction]
    fields: Mapping[str, str]
    delete: bool
    allowed: Mapping[str, frozenset[str]] = field(default_factory=dict)


def _row_actions(
    list_request: ListRequest, connection: Connection, page: Page
) -> RowActions:
    """Return the actions on the rows of a page."""
    pages, reach = list_request.pages, list_request.reach
    roles = tuple(role.name for role in reach.roles)
    key = ("acts", pages.name, reach.shape, roles, reach.is_impersonated)
    found: RowActions = list_request.site.plan(
        key, lambda: _build_row_actions(list_request.context)
    )
    if not found.rows or not page.lines:
        return found
    name = pages.table.fullname
    limited = [
        right
        for right in ("edit", "delete")
        if any(role.condition(right, name) for role in reach.holding(right, name))
    ]
    if not limited:
        return found
    keys = [
        tuple(list_request.context.about(pages).key_values(line.key).values())
        for line in page.lines
        if line.key
    ]
    among = among_keys(pages.table, pages.key, "keys")
    allowed = {}
    for right in limited:
        reached = reach.reaching_each(
            connection, pages.table, among, right, keys=bound_keys(keys)
        )
        if reached is not None:
            held = (each for each, roles in reached.items() if roles)
            allowed[right] = frozenset(map(encode_key, held))
    return replace(found, allowed=allowed)


def _build_row_actions(context: TableContext) -> RowActions:
    pages, reach = context.pages, context.reach
    name = pages.table.fullname
    fields = {}
    rows = []
    home = record_home(pages.name)
    if pages.offers("edit") and reach.may("edit", name):
        rows.append(RowAction("edit", f"{home}*{urls.EDIT}", str(_("Edit"))))
    if pages.offers("add") and reach.may("add", name):
        rows.append(
            RowAction(
                "copy", f"{add_address(pages.name)}?copy-of=*", str(_("Duplicate"))
            )
        )
    rows += [
        RowAction(
            each.right, f"{home}*{urls.ACTION}{each.name}", str(escape(each.label))
        )
        for each in offered(context, RECORD)
        if not isinstance(each, Transition)
    ]
    may_delete = pages.offers("delete") and reach.may("delete", name)
    if may_delete:
        rows.append(RowAction("delete", f"{home}*{urls.DELETE}", str(_("Delete"))))
    if pages.offers("edit"):
        entered = pages.enters(reach, reach.holding("edit", name), is_new=False)
        fields = {
            key: pages.label(key)
            for key in entered
            if key not in pages.key and not isinstance(pages.fields[key], FileField)
        }
    return RowActions(rows, fields, may_delete)


def _read_page(
    list_request: ListRequest, plan: ListPlan, connection: Connection
) -> tuple[Page, int]:
    """Return the page that the address asks for, and the number of its first row, 0
    where that is not known. Raises NoSuchPlace for a place that is none of this
    list."""
    try:
        return _read_asked(list_request, plan, connection)
    except (ValueError, TypeError) as error:
        raise NoSuchPlace from error


def _read_asked(
    list_request: ListRequest, plan: ListPlan, connection: Connection
) -> tuple[Page, int]:
    arguments = request.args
    position = arguments.get("n", 0, type=int)
    rest: dict[str, Any] = {"size": list_request.size, "bound": list_request.bound}
    if not list_request.pages.key:
        skipped = min(max(0, arguments.get("skip", 0, type=int)), MAX_COUNTED)
        return plan.read_at(connection, skipped, **rest), skipped + 1
    if "before" in arguments:
        page = plan.read(connection, arguments["before"], backward=True, **rest)
        if len(page.lines) < list_request.size:  # came to the start: show a whole page
            return plan.read(connection, **rest), 1
        return page, position
    if "last" in arguments:
        return plan.read(connection, backward=True, **rest), position
    if "after" in arguments:
        return plan.read(connection, arguments["after"], **rest), position
    return plan.read(connection, **rest), 1


def _page_links(
    list_request: ListRequest, page: Page, position: int, count: Count
) -> dict[str, str]:
    """Return the addresses of the first, earlier, later and last pages; none where
    there is no such page."""
    link, size = list_request.address, list_request.size
    links: dict[str, str] = {}
    numbered = position > 0
    if page.begin:
        before = {"n": max(1, position - size)} if numbered else {}
        key = "skip" if page.begin.isdecimal() else "before"
        links["first"] = link()
        links["earlier"] = link(**{key: page.begin}, **before)
    if page.end and not (page.end.isdecimal() and int(page.end) > MAX_COUNTED):
        after = {"n": position + len(page.lines)} if numbered else {}
        key = "skip" if page.end.isdecimal() else "after"
        links["later"] = link(**{key: page.end}, **after)
        if key == "after":
            last = max(1, count.number - size + 1)
            links["last"] = link(last=1, **({} if count.is_capped else {"n": last}))
    return links


@blueprint.post(urls.LIST + urls.BULK)
def bulk_action(name: str) -> ResponseReturnValue:
    """Delete, change or export several records: first a preview, then it is done."""
    sent = request.form
    action, _dash, kind = sent.get(ACTION, "").partition("-")
    column = sent.get(SET_COLUMN, "") if action == "set" else ""
    own = _own_bulk(table_or_404(name), kind) if action == OWN_ACTION else None
    right = _bulk_right(action, column)
    context = table_or_404(name, right if own is None else "view")
    list_request = ListRequest(context, _asked(), preferences())
    rows, is_all = sent.getlist(CHOSEN_ROW), ALL_ROWS in sent
    if own is None and right == "export":
        return _export_selected(list_request, [] if is_all else rows, kind, is_all)
    if column:
        _admit_column(context, column)
    value, back = sent.get(column, ""), list_request.address()
    secret = current_app.config["SECRET_KEY"]
    acting = BulkAction(list_request, secret, column, value, own)
    with site().database.reading() as connection:
        keys = chosen_keys(list_request, connection, rows, is_all)
        if problem := _too_few_or_many(keys):
            flash(problem)
            return redirect(back)
        is_sure = IS_SURE in sent
        is_open = bool(column) and column not in sent
        control = _control_of(acting, connection, column) if is_open else None
        tally = BulkResult()
        seen = dict(zip(rows, sent.getlist(SEEN_OF_ROW), strict=False))
        if control is None and not is_sure:
            tally = acting.preview(connection, keys)
            seen = acting.seen(connection, keys)
        is_given = bool(column) and control is None
        shown_value = acting.shown_value(connection) if is_given else ""
    if is_sure and control is None:
        tally = acting.carry_out(keys, seen)
        if not column and own is None:
            _let_files_go(context.pages, tally)
    return render_template(
        context.pages.templates("bulk.html"), pages=context.pages, tally=tally, keys=keys,
        question=own.label if own else _bulk_question(context.pages, column),
        back=back, control=control, action=own,
        is_done=is_sure, column=column, value=value, asked=back.partition("?")[2],
        seen=seen, shown_value=shown_value,
    )  # fmt: skip


def _own_bulk(context: TableContext, name: str) -> Action:
    """Return an action of your own; one that the user may not use is refused."""
    for each in _bulk_offered(context):
        if each.name == name:
            return each
    abort(403)


def _bulk_offered(context: TableContext) -> list[Action]:
    """Return the actions of your own that can be used on several records."""
    return [each for each in offered(context, RECORD) if each.bulk]


def _bulk_right(action: str, column: str) -> str:
    if action == "export":
        return action
    return "edit" if column else "delete"


def _control_of(acting: BulkAction, connection: Connection, column: str) -> Any:
    """Return the control that asks for the new value of a column."""
    form = acting.saver.blank({})
    fill_lookups(acting.context.on(connection), form, [column])
    return form[column]


def _admit_column(context: TableContext, column: str) -> None:
    """Answer that a column does not exist which the user cannot change in several
    records."""
    pages = context.pages
    entered = pages.seen_by(context.reach, pages.entered_on(is_new=False))
    if column not in entered or isinstance(pages.fields[column], FileField):
        abort(404)


def _too_few_or_many(keys: Sized) -> str:
    """Return the message for no records, or for too many; "" else."""
    if not keys:
        return str(_("Select the records first."))
    if len(keys) <= MAX_ROWS:
        return ""
    most = number_text(MAX_ROWS, site().language, None)
    return str(
        _("At most %(most)s records can be changed at once. Add a filter.", most=most)
    )


def _bulk_question(pages: TablePages, column: str) -> str:
    nouns = lower_first(pages.plural)
    if not column:
        return str(_("Delete %(nouns)s", nouns=nouns))
    label = pages.label(column)
    return str(_("Edit %(nouns)s: %(label)s", label=label, nouns=nouns))


def _let_files_go(pages: TablePages, tally: BulkResult) -> None:
    """Let the files of deleted records go; of those that are only marked, none."""
    if pages.soft_delete:
        return
    for each in tally.accepted:
        for key, held in each.values.items():
            if key in pages.fields:
                let_go(pages, key, held)


def _export_selected(
    list_request: ListRequest, rows: Sequence[str], kind: str, is_all: bool
) -> ResponseReturnValue:
    """Export the records with these keys, or all that match."""
    if kind not in FORMATS or not (rows or is_all):
        flash(_("Select the records to export."))
        return redirect(list_request.address())
    if not is_all:
        found = []
        for row in rows[:MAX_ROWS]:
            with suppress(ValueError, ArithmeticError):
                key = list_request.context.key_values(row)
                found.append(tuple(key.values()))
        list_request.limit_to(found)
    words = (
        ""
        if is_all
        else str(ngettext("%(num)s selected", "%(num)s selected", len(rows)))
    )
    return _send_export(list_request, kind, words)


@blueprint.post(urls.LIST + urls.COLUMNS)
def choose_columns(name: str) -> ResponseReturnValue:
    """Keep the columns that this user wants in a list, in their order, or their widths;
    none: those that were decided. An administrator chooses for everybody as well."""
    context, form = table_or_404(name), request.form
    list_request = ListRequest(context, _asked(), preferences())
    kept, columns, widths = preferences(), f"{COLUMNS}{name}", f"{WIDTHS}{name}"
    known = list_request.showable()
    if "widths" in form:
        words = [each.partition(":") for each in form["widths"].split(",")]
        fitting = [f"{key}:{n}" for key, _sep, n in words if key in (TITLE, *known) and n.isdecimal()]  # fmt: skip
        kept.set(widths, ",".join(fitting))
        return "", 204
    ticked = {*form.getlist("column")}
    order = [*dict.fromkeys([*form.getlist("order"), *form.getlist("column")])]
    for word, step in (("up", -1), ("down", 1)):
        if (moved := form.get(word)) in order:
            place = order.index(moved) + step
            order.remove(moved)
            order.insert(max(0, place), moved)
    chosen = ",".join(key for key in order if key in known and key in ticked)
    for_all = [act for act in ("everyone", "reset-everyone") if act in form]
    if for_all and not may_manage_users():
        abort(403)
    if for_all:
        is_reset = for_all == ["reset-everyone"]
        site().share(columns, "" if is_reset else chosen)
        site().share(widths, "" if is_reset else kept.get(widths) or "")
        flash(_("The columns are as decided for everyone.") if is_reset else _("These columns are everyone's now, but of those who chose their own."))  # fmt: skip
    if for_all or "reset" in form:
        chosen = ""
        kept.set(widths, "")
    kept.set(columns, chosen)
    panel = {"panel": "columns"} if "up" in form or "down" in form else {}
    return redirect(list_request.address("columns", **panel))


def _asked() -> MultiDict[str, str]:
    """Return the parameters of the list from which a form was sent."""
    query = request.form.get("list-query", "")[:MAX_QUERY_LENGTH]
    return MultiDict(parse_qsl(query))


@blueprint.post(urls.LIST + urls.VIEWS)
def save_view(name: str) -> ResponseReturnValue:
    """Keep what a list is asked for under a name."""
    context = table_or_404(name)
    if not current_user.is_authenticated:
        abort(403)
    list_request = ListRequest(context, _asked(), preferences())
    address = list_request.address()
    called = request.form.get("name", "").strip()[:80]
    if not called:
        flash(_("Enter a name for the view."))
        return redirect(address)
    roles = [role for role in request.form.getlist("role") if role in site().roles]
    if not any(role.shares_views for role in own_roles()):
        roles = []
    query = address.partition("?")[2]
    preferences().save_view(name, called, query, roles, "first" in request.form)
    flash(_('View "%(name)s" saved.', name=called))
    return redirect(address)


@blueprint.post(f"{urls.LIST}{urls.VIEWS}/<int:number>{urls.FORGET}")
def forget_view(name: str, number: int) -> ResponseReturnValue:
    """Forget an own view."""
    table_or_404(name)
    preferences().delete_view(number)
    return redirect(list_address(name))


@blueprint.get(urls.LIST + urls.EXPORT + "<kind>")
def export(name: str, kind: str) -> ResponseReturnValue:
    """What a list shows, all of its rows, as a file."""
    context = table_or_404(name, "export")
    if kind not in FORMATS or not context.pages.has_list:
        abort(404)
    list_request = ListRequest(context, request.args, preferences())
    with site().database.reading() as connection:
        list_request.look(connection)
        words = "; ".join(
            f"{m.label}: {m.description}"
            for m in FilterControls(list_request).active_filters(connection)
        )
    return _send_export(list_request, kind, words)


def _send_export(
    list_request: ListRequest, kind: str, words: str
) -> ResponseReturnValue:
    """Answer with the file of an export; `words` say in the log what it was narrowed
    to."""
    name = list_request.pages.name
    made = Export(list_request, with_keys=request.args.get("keys") == "1")
    try:
        file = make_export(made, kind)
    except TooMany:
        return _busy_exporting()
    except TooLarge:
        abort(413, description=_("This is too much for one export. Add a filter."))
    note("export", f"{kind.upper()} {words}".strip(), table=name)
    answer = send_file(
        file, FORMATS[kind], as_attachment=True, download_name=f"{name}.{kind}"
    )
    answer.headers["Cache-Control"] = "no-store"
    return answer


def _busy_exporting() -> ResponseReturnValue:
    """Answer one export too many with a page that tries again by itself."""
    page = render_template("busy.html", seconds=RETRY_SECONDS)
    return page, 503, {"Retry-After": str(RETRY_SECONDS)}


@blueprint.get(urls.LIST + urls.PRINT)
def print_list(name: str) -> ResponseReturnValue:
    """The print version of a list: without navigation, up to MAX_PRINTED rows."""
    context = table_or_404(name)
    pages = context.pages
    if not pages.has_list:
        abort(404)
    list_request = ListRequest(context, request.args, preferences())
    with site().database.reading() as connection:
        list_request.look(connection)
        plan = list_request.plan()
        if pages.key:
            page = plan.read(connection, size=MAX_PRINTED, bound=list_request.bound)
        else:
            page = plan.read_at(connection, 0, MAX_PRINTED, list_request.bound)
        count = plan.count(connection, bound=list_request.bound)
        active_filters = FilterControls(list_request).active_filters(connection)
        totals = GroupQuery(list_request).totals(connection, plan, count)
    return render_template(
        pages.templates("print.html"), pages=pages, page=page, count=count, active_filters=active_filters, totals=totals,
        labels=plan.labels, now=datetime.now(UTC).replace(tzinfo=None),
        is_cut=bool(page.end),
    )  # fmt: skip
