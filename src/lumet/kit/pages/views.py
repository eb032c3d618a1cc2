"""The addresses of the pages and what answers them."""

from collections.abc import Iterable
from typing import Any
from urllib.parse import urlencode

from flask import (
    Blueprint,
    abort,
    current_app,
    flash,
    jsonify,
    redirect,
    render_template,
    request,
    url_for,
)
from flask.typing import ResponseReturnValue
from flask_babel import gettext as _
from flask_login import current_user
from sqlalchemy.exc import DBAPIError
from werkzeug.datastructures import MultiDict

from ..reach import Reach
from ..refusals import meaning
from .deleting import consequences, delete_record
from .listing import PAGE_ROWS, Count, ListPlan, Page, is_sortable, list_plan, read_sort
from .lookups import FOUND_AT_ONCE, fill_lookups, lookup_plan
from .model import TablePages
from .record import Record, read_blocks, record_plan
from .saving import Gone, Outcome, Saver
from .site import (
    Site,
    key_values,
    list_address,
    lower_first,
    reach,
    record_address,
    site,
)

blueprint = Blueprint("pages", __name__)
RETURN = "return-to"  # the form field that says where one came from


@blueprint.before_request
def sign_in_first() -> ResponseReturnValue | None:
    """Nobody sees anything before signing in."""
    if current_user.is_authenticated:
        return None
    wanted = request.full_path.rstrip("?") if request.method == "GET" else None
    return redirect(url_for("accounts.sign_in", next=wanted))


@blueprint.app_context_processor
def menu() -> dict[str, Any]:
    """What every page needs: the menu of the tables within reach."""
    return {
        "site": site(),
        "menu": _menu if current_user.is_authenticated else list,
        "list_address": list_address,
        "lower_first": lower_first,
    }


def _menu() -> list[tuple[str, list[tuple[str, str]]]]:
    """Return the groups of the menu: each with the names and labels of its tables that
    are within reach."""
    within, made = reach(), site()
    key = ("menu", within.shape)
    found: list[tuple[str, list[tuple[str, str]]]]
    found = made.plans.get(key) or made.keep(key, _build_menu(made, within))
    return found


def _build_menu(made: Site, within: Reach) -> list[tuple[str, list[tuple[str, str]]]]:
    groups: dict[str, list[tuple[str, str]]] = {}
    for pages in made.registry.pages.values():
        if (
            pages.listed
            and not pages.for_lookups
            and within.may("view", pages.table.fullname)
        ):
            item = (pages.name, str(pages.plural))
            groups.setdefault(str(pages.group), []).append(item)
    last = ("Overviews", "Other", "Reference data")
    ordered = sorted(groups, key=lambda name: last.index(name) if name in last else -1)
    return [
        (name, sorted(groups[name], key=lambda item: item[1].casefold()))
        for name in ordered
    ]


def _pages(name: str, right: str = "view") -> tuple[TablePages, Reach]:
    """Return the pages of a table, if the user has this right there; a table out of
    reach does not exist."""
    within = reach()
    pages = site().registry.pages.get(name)
    if pages is None or pages.for_lookups:
        abort(404)
    if not within.may("view", pages.table.fullname):
        abort(404)
    changes = right in ("add", "edit", "delete")
    if not within.may(right, pages.table.fullname) or (
        changes and not pages.takes(right)
    ):
        abort(403)
    return pages, within


def _key(pages: TablePages, segment: str) -> dict[str, Any]:
    try:
        return key_values(site(), pages, segment)
    except (ValueError, ArithmeticError):
        abort(404)


@blueprint.get("/")
def front() -> ResponseReturnValue:
    """The first page: the tables by group."""
    return render_template("front.html")


@blueprint.get("/t/<name>")
def show_list(name: str) -> ResponseReturnValue:
    """A page of a table's list."""
    pages, within = _pages(name)
    if not pages.listed:
        abort(404)
    order, sorted_by, down = read_sort(pages, request.args.get("sort", ""))
    plan = list_plan(site(), pages, within, order)
    with site().database.reading() as connection:
        try:
            page, position = _read_page(plan, pages, connection)
        except (ValueError, TypeError):
            return redirect(list_address(name))
        count = plan.count(connection)
    return render_template(
        "list.html",
        pages=pages,
        page=page,
        count=count,
        position=position,
        labels=_labels(pages, plan.shown),
        sorted_by=sorted_by,
        down=down,
        links=_page_links(name, page, position, count),
        may_add=pages.takes("add") and within.may("add", pages.table.fullname),
    )


def _read_page(plan: ListPlan, pages: TablePages, connection: Any) -> tuple[Page, int]:
    """Return the page that the address asks for, and the number of its first row, 0
    where that is not known."""
    arguments = request.args
    position = arguments.get("n", 0, type=int)
    if not pages.key:
        skipped = max(0, arguments.get("skip", 0, type=int))
        return plan.read_at(connection, skipped), skipped + 1
    if "before" in arguments:
        page = plan.read(connection, arguments["before"], backward=True)
        if len(page.lines) < PAGE_ROWS:  # came to the start: show a whole first page
            return plan.read(connection), 1
        return page, position
    if "last" in arguments:
        return plan.read(connection, backward=True), position
    if "after" in arguments:
        return plan.read(connection, arguments["after"]), position
    return plan.read(connection), 1


def _page_links(name: str, page: Page, position: int, count: Count) -> dict[str, str]:
    """Return the addresses of the first, earlier, later and last pages; none where
    there is no such page."""
    kept = {"sort": request.args["sort"]} if "sort" in request.args else {}

    def link(**arguments: Any) -> str:
        words = urlencode({**kept, **arguments})
        return list_address(name) + (f"?{words}" if words else "")

    links: dict[str, str] = {}
    numbered = position > 0
    if page.begin:
        before = {"n": max(1, position - PAGE_ROWS)} if numbered else {}
        key = "skip" if page.begin.isdecimal() else "before"
        links["first"] = link()
        links["earlier"] = link(**{key: page.begin}, **before)
    if page.end:
        after = {"n": position + len(page.lines)} if numbered else {}
        key = "skip" if page.end.isdecimal() else "after"
        links["later"] = link(**{key: page.end}, **after)
        if key == "after":
            last = max(1, count.number - PAGE_ROWS + 1)
            links["last"] = link(last=1, **({} if count.is_capped else {"n": last}))
    return links


def _labels(
    pages: TablePages, keys: Iterable[str]
) -> list[tuple[str, str, bool, bool]]:
    """Return each column's key, label, whether it is a number and can be sorted by."""
    return [
        (
            key,
            pages.label(key),
            pages.fields[key].numeric and key not in pages.lookups,
            is_sortable(pages, key) and bool(pages.key),
        )
        for key in keys
    ]


def _record(pages: TablePages, within: Reach, connection: Any, segment: str) -> Record:
    plan = record_plan(site(), pages, within)
    found = plan.read(connection, _key(pages, segment))
    if found is None:
        abort(404)
    return found


@blueprint.get("/t/<name>/r/<segment>")
def show_record(name: str, segment: str) -> ResponseReturnValue:
    """One record and what refers to it."""
    pages, within = _pages(name)
    if not pages.key:
        abort(404)
    with site().database.reading() as connection:
        record = _record(pages, within, connection, segment)
        blocks = read_blocks(site(), connection, pages, within, record)
    return render_template(
        "record.html",
        pages=pages,
        record=record,
        blocks=blocks,
        address=record_address(name, segment),
        may_edit=pages.takes("edit") and within.may("edit", pages.table.fullname),
        may_delete=pages.takes("delete") and within.may("delete", pages.table.fullname),
    )


def _saver(pages: TablePages, within: Reach, is_new: bool = False) -> Saver:
    entered = pages.entered_on(is_new)
    return Saver(site(), pages, within, current_app.config["SECRET_KEY"], entered)


@blueprint.route("/t/<name>/add", methods=["GET", "POST"])
def add(name: str) -> ResponseReturnValue:
    """The form for a new record."""
    pages, within = _pages(name, "add")
    saver = _saver(pages, within, is_new=True)
    if request.method == "GET":
        outcome = Outcome(saver.blank(request.args.to_dict()))
        return _form_page(pages, within, outcome, is_new=True)
    outcome = Outcome(saver.blank({}))
    try:
        with site().database.writing() as connection:
            outcome = saver.add(connection, request.form)
    except DBAPIError as error:
        _raise_if_busy(error)
        outcome = _typed_again(pages, saver, outcome)
        saver.refuse(outcome, error)
    if not outcome.key:
        return _form_page(pages, within, outcome, is_new=True), 422
    flash(_("%(noun)s added.", noun=pages.singular))
    if "another" in request.form:
        return redirect(_with_return(url_for(".add", name=name)))
    return redirect(_came_from() or record_address(name, outcome.key))


@blueprint.route("/t/<name>/r/<segment>/edit", methods=["GET", "POST"])
def edit(name: str, segment: str) -> ResponseReturnValue:
    """The form of a record."""
    pages, within = _pages(name, "edit")
    key = _key(pages, segment)
    saver = _saver(pages, within)
    try:
        if request.method == "GET":
            with site().database.reading() as connection:
                outcome = saver.stored(connection, key)
            return _form_page(pages, within, outcome, segment=segment)
        outcome = _save(pages, saver, key)
    except Gone:
        abort(404)
    if not outcome.key:
        status = 409 if outcome.conflicts else 422
        return _form_page(pages, within, outcome, segment=segment), status
    flash(_("Saved."))
    if _is_left_out(pages, within, outcome.key):
        return redirect(_home(pages))
    return redirect(record_address(name, outcome.key))


def _is_left_out(pages: TablePages, within: Reach, segment: str) -> bool:
    """Tell whether a record that was saved no longer exists for the application."""
    if "where" not in pages.table.info:
        return False
    with site().database.reading() as connection:
        plan = record_plan(site(), pages, within)
        return plan.read(connection, key_values(site(), pages, segment)) is None


def _raise_if_busy(error: DBAPIError) -> None:
    """Leave it to the page for a busy database, when that is what it is."""
    if meaning(error).kind == "busy" or error.connection_invalidated:
        raise error


def _save(pages: TablePages, saver: Saver, key: dict[str, Any]) -> Outcome:
    try:
        with site().database.writing() as connection:
            return saver.edit(connection, key, request.form)
    except DBAPIError as error:
        _raise_if_busy(error)
        with site().database.reading() as connection:
            outcome = saver.stored(connection, key)
        outcome = _typed_again(pages, saver, outcome)
        saver.refuse(outcome, error)
        return outcome


def _typed_again(pages: TablePages, saver: Saver, outcome: Outcome) -> Outcome:
    """Return the form with what was typed, after the database refused it."""
    form = pages.form(formdata=MultiDict(request.form))
    form.is_new = outcome.form.is_new
    return Outcome(form, seen=outcome.seen)


def _form_page(
    pages: TablePages,
    within: Reach,
    outcome: Outcome,
    is_new: bool = False,
    segment: str = "",
) -> str:
    form = outcome.form
    with site().database.reading() as connection:
        fill_lookups(site(), connection, pages, form, within)
        record = None if is_new else _record(pages, within, connection, segment)
    chosen = pages.on_add if is_new else pages.on_edit
    return render_template(
        "form.html",
        pages=pages,
        form=form,
        sections=pages.placed(pages.entered_on(is_new), chosen),
        outcome=outcome,
        mistakes=form.mistakes(),
        record=record,
        is_new=is_new,
        cancel=_came_from()
        or (record_address(pages.name, segment) if segment else _home(pages)),
        came_from=_came_from(),
    )


def _home(pages: TablePages) -> str:
    """Return where one goes when a record is left: its list, where there is one."""
    return list_address(pages.name) if pages.listed else url_for(".front")


def _came_from() -> str:
    """Return the address to go back to, only one of this application's own."""
    address = request.form.get(RETURN) or request.args.get(RETURN) or ""
    own = address.startswith(request.script_root + "/t/")
    plain = not any(odd in address for odd in ("//", "\\", "\n", "\r"))
    return address if own and plain else ""


def _with_return(address: str) -> str:
    came_from = _came_from()
    if not came_from:
        return address
    return f"{address}?{RETURN}={came_from}"


@blueprint.route("/t/<name>/r/<segment>/delete", methods=["GET", "POST"])
def delete(name: str, segment: str) -> ResponseReturnValue:
    """The question before a delete, with all that it would do."""
    pages, within = _pages(name, "delete")
    key = _key(pages, segment)
    refused = False
    with site().database.reading() as connection:
        record = _record(pages, within, connection, segment)
        found = consequences(site(), connection, pages, within, record)
    if request.method == "POST" and not found.forbids:
        try:
            with site().database.writing() as connection:
                if not delete_record(connection, pages, within, key):
                    abort(404)
        except DBAPIError as error:
            _raise_if_busy(error)
            refused = True
        else:
            flash(_("%(title)s was deleted.", title=record.title))
            return redirect(_home(pages))
    page = render_template(
        "delete.html",
        pages=pages,
        record=record,
        found=found,
        refused=refused,
        address=record_address(name, segment),
    )
    return page, 409 if request.method == "POST" else 200


@blueprint.get("/t/<name>/choices/<column>")
def choices(name: str, column: str) -> ResponseReturnValue:
    """The records that a lookup may choose, by what was typed: value and title."""
    pages, within = _pages(name)
    reference = pages.lookups.get(column)
    if reference is None:
        abort(404)
    if not within.may("view", site().registry[reference.target].table.fullname):
        abort(404)
    plan = lookup_plan(site(), reference, within)
    with site().database.reading() as connection:
        found = plan.find(connection, request.args.get("q", "")[:100], FOUND_AT_ONCE)
    return jsonify([{"value": value, "text": title} for value, title in found])
