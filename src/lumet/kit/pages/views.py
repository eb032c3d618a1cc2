"""The addresses of the pages and what answers them."""

from datetime import UTC, datetime
from typing import Any
from urllib.parse import parse_qsl

from flask import (
    Blueprint,
    Response,
    abort,
    current_app,
    flash,
    jsonify,
    redirect,
    render_template,
    request,
    stream_with_context,
    url_for,
)
from flask.typing import ResponseReturnValue
from flask_babel import gettext as _
from flask_login import current_user
from markupsafe import Markup
from sqlalchemy import Connection
from sqlalchemy.exc import DBAPIError
from werkzeug.datastructures import MultiDict

from ..accounts.kept import LONGEST_QUERY, KeptChoices
from ..accounts.log import Deed, recorded
from ..addresses import encode_key
from ..reach import LeavesReach, Reach
from ..refusals import meaning
from .acting import MOST_ROWS, Acting, Tally, chosen_keys
from .browsing import CHART, GROUPS, SIZES, Browsing
from .deleting import beyond_delete, consequences
from .exporting import FORMATS, WRITERS, Export
from .listing import MOST_COUNTED, Count, ListPlan, Page
from .lookups import FOUND_AT_ONCE, fill_lookups, lookup_plan
from .model import TablePages
from .record import Record, read_blocks, record_plan
from .saving import Gone, Outcome, Saver
from .sifting import preset_words
from .site import (
    Site,
    actor,
    add_address,
    key_values,
    list_address,
    look,
    lower_first,
    may_keep_accounts,
    may_see_log,
    note,
    own_roles,
    reach,
    record_address,
    site,
)

blueprint = Blueprint("pages", __name__)
MOST_PRINTED = 1_000  # rows on paper
RETURN = "return-to"  # the form field that says where one came from


class NoSuchPlace(Exception):
    """An address asks for a place that is none of its list."""


@blueprint.before_request
def sign_in_first() -> ResponseReturnValue | None:
    """Nobody sees anything before signing in, but for what anyone may."""
    if current_user.is_authenticated or _is_open_to_anyone():
        return None
    return _to_the_door()


def _is_open_to_anyone() -> bool:
    """Tell whether who is not signed in has the right to see what the address names; the
    first page, where there is any table."""
    name = (request.view_args or {}).get("name")
    known = site().registry.pages
    if name is None:
        return any(reach().may("view", each.table.fullname) for each in known.values())
    return name in known and reach().may("view", known[name].table.fullname)


def _to_the_door() -> ResponseReturnValue:
    wanted = request.full_path.rstrip("?") if request.method == "GET" else None
    return redirect(url_for("accounts.sign_in", next=wanted))


@blueprint.app_context_processor
def menu() -> dict[str, Any]:
    """What every page needs: the menu of the tables within reach."""
    return {
        "site": site(),
        "menu": _menu,
        "menu_groups": _menu_groups,
        "look": look,
        "may_keep_accounts": may_keep_accounts,
        "may_see_log": may_see_log,
        "list_address": list_address,
        "lower_first": lower_first,
    }


def _menu(here: str) -> Markup:
    """Return the menu as it stands beside a page of table `here`."""
    found: Markup
    found = site().plan(
        ("menu", reach().shape, here),
        lambda: Markup(
            render_template(
                "_menu.html", groups=_menu_groups(), home=list_address(""), here=here
            )
        ),
    )
    return found


def _menu_groups() -> list[tuple[str, list[tuple[str, str]]]]:
    """Return the groups of the menu: each with the names and labels of its tables that
    are within reach."""
    within, made = reach(), site()
    key = ("menu groups", within.shape)
    found: list[tuple[str, list[tuple[str, str]]]]
    found = made.plan(key, lambda: _build_menu(made, within))
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
    """A page of a table's list, as its address asks for it."""
    pages, within = _pages(name)
    if not pages.listed:
        abort(404)
    kept = _kept()
    if not request.args and (query := kept.first_view(name)):
        return redirect(f"{list_address(name)}?{query}")
    browsing = Browsing(site(), pages, within, request.args, kept)
    template, found = "list.html", {}
    try:
        with site().database.reading() as connection:
            if browsing.arrangement in (GROUPS, CHART):
                template, found = "groups.html", _grouped(browsing, connection)
            else:
                found = _listed(browsing, connection)
            marks = browsing.marks(connection)
            controls = (
                browsing.controls(connection) if browsing.panel == "filter" else []
            )
    except NoSuchPlace:
        return redirect(browsing.address())
    except DBAPIError as error:
        if meaning(error).kind != "busy" or not request.args:
            raise
        text = _("This takes too long here. Filter further, or sort by another column.")
        abort(503, description=text)
    return render_template(
        template,
        pages=pages,
        browsing=browsing,
        marks=marks,
        controls=controls,
        presets=preset_words() if browsing.panel == "filter" else {},
        sizes=SIZES,
        views=kept.views(name, [role.name for role in own_roles()])
        if browsing.panel == "views"
        else [],
        may_share=any(role.shares_views for role in own_roles()),
        may_export=within.may("export", pages.table.fullname),
        may_add=pages.takes("add") and within.may("add", pages.table.fullname),
        **found,
    )


def _kept() -> KeptChoices:
    """Return what is kept for the present user; nothing is, while looking as another."""
    store = site().users.store
    if not current_user.is_authenticated or look():
        return KeptChoices(store, None)
    return KeptChoices(store, current_user.id, current_user.kept)


def _grouped(browsing: Browsing, connection: Connection) -> dict[str, Any]:
    groups, has_more = browsing.groups(connection)
    return {
        "groups": groups,
        "has_more": has_more,
        "chart_labels": [str(group.cell.text) or str(_("empty")) for group in groups],
        "largest": max((group.value for group in groups), default=1) or 1,
        "count": browsing.plan().count(connection, bound=browsing.bound),
    }


def _listed(browsing: Browsing, connection: Connection) -> dict[str, Any]:
    plan = browsing.plan()
    page, position = _read_page(browsing, plan, connection)
    count = plan.count(connection, bound=browsing.bound)
    empty = browsing.is_narrowed and not page.lines
    return {
        "page": page,
        "count": count,
        "position": position,
        "labels": plan.labels,
        "links": _page_links(browsing, page, position, count),
        "sort_links": browsing.sort_links(),
        "totals": browsing.totals(connection, plan, count),
        "loosening": browsing.loosening(connection) if empty else [],
        "acts": _acts(browsing),
        "most_rows": MOST_ROWS,
    }


def _acts(browsing: Browsing) -> dict[str, Any]:
    """Return what can be done to several records: the fields that can be set, by label,
    and whether they can be deleted."""
    pages, within = browsing.pages, browsing.reach
    key = ("acts", pages.name, within.shape, within.is_looking)
    found: dict[str, Any]
    found = browsing.site.plan(key, lambda: _build_acts(pages, within))
    return found


def _build_acts(pages: TablePages, within: Reach) -> dict[str, Any]:
    name = pages.table.fullname
    fields = {}
    if pages.takes("edit"):
        entered = pages.enters(within, within.holding("edit", name), is_new=False)
        fields = {key: pages.label(key) for key in entered if key not in pages.key}
    may_delete = pages.takes("delete") and within.may("delete", name)
    return {"fields": fields, "delete": may_delete} if fields or may_delete else {}


def _read_page(
    browsing: Browsing, plan: ListPlan, connection: Connection
) -> tuple[Page, int]:
    """Return the page that the address asks for, and the number of its first row, 0
    where that is not known. Raises NoSuchPlace for a place that is none of this list."""
    try:
        return _read_asked(browsing, plan, connection)
    except (ValueError, TypeError) as error:
        raise NoSuchPlace from error


def _read_asked(
    browsing: Browsing, plan: ListPlan, connection: Connection
) -> tuple[Page, int]:
    arguments = request.args
    position = arguments.get("n", 0, type=int)
    rest: dict[str, Any] = {"size": browsing.size, "bound": browsing.bound}
    if not browsing.pages.key:
        skipped = min(max(0, arguments.get("skip", 0, type=int)), MOST_COUNTED)
        return plan.read_at(connection, skipped, **rest), skipped + 1
    if "before" in arguments:
        page = plan.read(connection, arguments["before"], backward=True, **rest)
        if len(page.lines) < browsing.size:  # came to the start: show a whole page
            return plan.read(connection, **rest), 1
        return page, position
    if "last" in arguments:
        return plan.read(connection, backward=True, **rest), position
    if "after" in arguments:
        return plan.read(connection, arguments["after"], **rest), position
    return plan.read(connection, **rest), 1


def _page_links(
    browsing: Browsing, page: Page, position: int, count: Count
) -> dict[str, str]:
    """Return the addresses of the first, earlier, later and last pages; none where
    there is no such page."""
    link, size = browsing.address, browsing.size
    links: dict[str, str] = {}
    numbered = position > 0
    if page.begin:
        before = {"n": max(1, position - size)} if numbered else {}
        key = "skip" if page.begin.isdecimal() else "before"
        links["first"] = link()
        links["earlier"] = link(**{key: page.begin}, **before)
    if page.end and not (page.end.isdecimal() and int(page.end) > MOST_COUNTED):
        after = {"n": position + len(page.lines)} if numbered else {}
        key = "skip" if page.end.isdecimal() else "after"
        links["later"] = link(**{key: page.end}, **after)
        if key == "after":
            last = max(1, count.number - size + 1)
            links["last"] = link(last=1, **({} if count.is_capped else {"n": last}))
    return links


@blueprint.post("/t/<name>/several")
def act_on_several(name: str) -> ResponseReturnValue:
    """Delete several records or set one of their fields: first what would come of it,
    then it is done."""
    column = request.form.get("column", "") if request.form.get("act") == "set" else ""
    pages, within = _pages(name, "edit" if column else "delete")
    browsing = Browsing(site(), pages, within, _asked(), _kept())
    value = request.form.get(column, "")
    if column and column not in pages.seen_by(within, pages.entered_on(is_new=False)):
        abort(404)
    acting = Acting(browsing, current_app.config["SECRET_KEY"], column, value)
    back = browsing.address()
    with site().database.reading() as connection:
        is_all = "all" in request.form
        keys = chosen_keys(browsing, connection, request.form.getlist("row"), is_all)
        if not keys or len(keys) > MOST_ROWS:
            flash(_("Choose 1 to %(most)s records.", most=MOST_ROWS))
            return redirect(back)
        is_sure, control = "sure" in request.form, None
        if column and column not in request.form:
            form = acting.saver.blank({})
            fill_lookups(site(), connection, pages, form, within, [column])
            control = form[column]
        tally = Tally()
        if control is None and not is_sure:
            tally = acting.preview(connection, keys)
    if is_sure and control is None:
        tally = acting.carry_out(keys)
    nouns = lower_first(pages.plural)
    question = _("Delete several %(nouns)s", nouns=nouns)
    if column:
        label = pages.label(column)
        question = _("Set %(label)s of several %(nouns)s", label=label, nouns=nouns)
    return render_template(
        "acting.html", pages=pages, tally=tally, keys=keys, question=question, back=back, control=control,
        is_done=is_sure, column=column, value=value, asked=back.partition("?")[2],
    )  # fmt: skip


@blueprint.post("/t/<name>/columns")
def choose_columns(name: str) -> ResponseReturnValue:
    """Keep the columns that this user wants in a list; none: those that were decided."""
    pages, within = _pages(name)
    browsing = Browsing(site(), pages, within, _asked(), _kept())
    known = browsing.choosable()
    chosen = [key for key in request.form.getlist("column") if key in known]
    if "reset" in request.form:
        chosen = []
    _kept().set(f"columns {name}", ",".join(chosen))
    return redirect(browsing.address("columns"))


def _asked() -> MultiDict[str, str]:
    """Return what the address asked for from which a form of a list was sent."""
    query = request.form.get("asked", "")[:LONGEST_QUERY]
    return MultiDict(parse_qsl(query))


@blueprint.post("/t/<name>/views")
def save_view(name: str) -> ResponseReturnValue:
    """Keep what a list is asked for under a name."""
    pages, within = _pages(name)
    if not current_user.is_authenticated:
        abort(403)
    browsing = Browsing(site(), pages, within, _asked(), _kept())
    address = browsing.address()
    called = request.form.get("name", "").strip()[:80]
    if not called:
        flash(_("A view needs a name."))
        return redirect(address)
    roles = [role for role in request.form.getlist("role") if role in site().roles]
    if not any(role.shares_views for role in own_roles()):
        roles = []
    query = address.partition("?")[2]
    _kept().save_view(name, called, query, roles, "first" in request.form)
    flash(_('The view "%(name)s" is kept.', name=called))
    return redirect(address)


@blueprint.post("/t/<name>/views/<int:number>/forget")
def forget_view(name: str, number: int) -> ResponseReturnValue:
    """Forget an own view."""
    _pages(name)
    _kept().delete_view(number)
    return redirect(list_address(name))


@blueprint.get("/t/<name>/export.<kind>")
def export(name: str, kind: str) -> ResponseReturnValue:
    """What a list shows, all of its rows, as a file."""
    pages, within = _pages(name, "export")
    if kind not in FORMATS or not pages.listed:
        abort(404)
    browsing = Browsing(site(), pages, within, request.args, _kept())
    made = Export(browsing, with_keys=request.args.get("keys") == "1")
    with site().database.reading() as connection:
        words = "; ".join(f"{m.label}: {m.words}" for m in browsing.marks(connection))
    note("export", f"{kind.upper()} {words}".strip(), table=name)
    lines = stream_with_context(WRITERS[kind](made))
    answer = Response(lines, content_type=FORMATS[kind])
    answer.headers["Content-Disposition"] = f'attachment; filename="{name}.{kind}"'
    return answer


@blueprint.get("/t/<name>/print")
def print_list(name: str) -> ResponseReturnValue:
    """What a list shows, for paper: without navigation, up to MOST_PRINTED rows."""
    pages, within = _pages(name)
    if not pages.listed:
        abort(404)
    browsing = Browsing(site(), pages, within, request.args, _kept())
    plan = browsing.plan()
    with site().database.reading() as connection:
        if pages.key:
            page = plan.read(connection, size=MOST_PRINTED, bound=browsing.bound)
        else:
            page = plan.read_at(connection, 0, MOST_PRINTED, browsing.bound)
        count = plan.count(connection, bound=browsing.bound)
        marks = browsing.marks(connection)
        totals = browsing.totals(connection, plan, count)
    return render_template(
        "print.html", pages=pages, page=page, count=count, marks=marks, totals=totals,
        labels=plan.labels, now=datetime.now(UTC).replace(tzinfo=None),
        is_cut=bool(page.end),
    )  # fmt: skip


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
        key = _key(pages, segment)
        may = {
            change: pages.takes(change)
            and bool(within.reaching(connection, pages.table, key, change))
            for change in ("edit", "delete")
        }
    adds = pages.takes("add") and within.may("add", pages.table.fullname)
    return render_template(
        "record.html",
        pages=pages,
        copy=f"{add_address(name)}?like={segment}" if adds else "",
        record=record,
        blocks=blocks,
        address=record_address(name, segment),
        may=may,
    )


def _saver(pages: TablePages, within: Reach) -> Saver:
    return Saver(site(), pages, within, current_app.config["SECRET_KEY"])


@blueprint.route("/t/<name>/add", methods=["GET", "POST"])
def add(name: str) -> ResponseReturnValue:
    """The form for a new record."""
    pages, within = _pages(name, "add")
    saver = _saver(pages, within)
    if request.method == "GET":
        outcome = Outcome(saver.blank(_given(pages, saver)))
        return _form_page(pages, saver, outcome, is_new=True)
    _note_beyond(pages, saver)
    outcome = Outcome(saver.blank({}))
    try:
        with recorded(site().log) as recording, site().database.writing() as connection:
            outcome = saver.add(connection, request.form)
            if outcome.key:
                title = _title(pages, within, connection, outcome.key)
                told = Deed("add", name, outcome.key, title, changes=outcome.changes)
                recording.begin(actor(), told)
    except (DBAPIError, LeavesReach, OverflowError) as error:
        outcome = _refused(pages, saver, outcome, error)
    if not outcome.key:
        return _form_page(pages, saver, outcome, is_new=True), 422
    flash(_("%(noun)s added.", noun=pages.singular))
    if "another" in request.form:
        return redirect(_with_return(url_for(".add", name=name)))
    return redirect(_came_from() or record_address(name, outcome.key))


def _given(pages: TablePages, saver: Saver) -> dict[str, str]:
    """Return what a new record begins with: what the address gives, and, for one that is
    to be like another, what that holds and no other may not hold too."""
    given = request.args.to_dict()
    like = given.pop("like", "")
    if like:
        with site().database.reading() as connection:
            given = saver.like(connection, _key(pages, like)) | given
    return given


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
            return _form_page(pages, saver, outcome, segment=segment)
        outcome = _save(pages, saver, key)
    except Gone:
        abort(404)
    if not outcome.key:
        status = 409 if outcome.conflicts else 422
        return _form_page(pages, saver, outcome, segment=segment), status
    flash(_("Saved."))
    if _is_left_out(pages, within, outcome.key):
        return redirect(_home(pages))
    return redirect(record_address(name, outcome.key))


def _is_left_out(pages: TablePages, within: Reach, segment: str) -> bool:
    """Tell whether a record that was saved no longer exists for the application."""
    if within.rows(pages.table) is pages.table:
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
        with recorded(site().log) as recording, site().database.writing() as connection:
            outcome = saver.edit(connection, key, request.form)
            _note_beyond(pages, saver)
            if outcome.key and outcome.changes:
                segment = encode_key(tuple(key.values()))
                title = _title(pages, saver.reach, connection, outcome.key)
                changes = outcome.changes
                told = Deed("edit", pages.name, segment, title, changes=changes)
                recording.begin(actor(), told)
            return outcome
    except (DBAPIError, LeavesReach, OverflowError) as error:
        if isinstance(error, DBAPIError):
            _raise_if_busy(error)
        with site().database.reading() as connection:
            outcome = saver.stored(connection, key)
        return _refused(pages, saver, outcome, error)


def _title(pages: TablePages, within: Reach, connection: Any, segment: str) -> str:
    """Return the title of a record by its key in an address, "" where it is beyond
    reach."""
    plan = record_plan(site(), pages, within)
    found = plan.read(connection, _key(pages, segment)) if pages.key else None
    return found.title if found else ""


def _refused(
    pages: TablePages, saver: Saver, outcome: Outcome, error: Exception
) -> Outcome:
    """Return the form with what was typed, and why it was not saved."""
    if isinstance(error, DBAPIError):
        _raise_if_busy(error)
    outcome = _typed_again(pages, saver, outcome)
    if isinstance(error, DBAPIError):
        saver.refuse(outcome, error)
    elif isinstance(error, OverflowError):
        outcome.refused.append(_("A number is too large for the database."))
    else:
        outcome.refused.append(
            _("This would put the record, or a part of it, beyond what you may change.")
        )
    return outcome


def _note_beyond(pages: TablePages, saver: Saver) -> None:
    """Note fields of the table that were sent and that no form offers this user: they
    are ignored."""
    beyond = sorted(set(request.form) & set(pages.column_keys()) - set(saver.entered))
    if beyond:
        words = f"fields that the form does not offer: {', '.join(beyond)}"
        note("refusal", words, table=pages.name)


def _typed_again(pages: TablePages, saver: Saver, outcome: Outcome) -> Outcome:
    """Return the form with what was typed, after the database refused it."""
    form = pages.form(formdata=MultiDict(request.form))
    form.is_new = outcome.form.is_new
    for key in set(form._fields) - set(saver.entered):
        del form._fields[key]
    return Outcome(form, seen=outcome.seen)


def _form_page(
    pages: TablePages,
    saver: Saver,
    outcome: Outcome,
    is_new: bool = False,
    segment: str = "",
) -> str:
    form, within, entered = outcome.form, saver.reach, saver.entered
    with site().database.reading() as connection:
        fill_lookups(site(), connection, pages, form, within, entered)
        record = None if is_new else _record(pages, within, connection, segment)
    chosen = pages.on_add if is_new else pages.on_edit
    return render_template(
        "form.html",
        pages=pages,
        form=form,
        sections=pages.placed(entered, chosen),
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
        if not within.reaching(connection, pages.table, key, "delete"):
            abort(403)
        found = consequences(site(), connection, pages, within, record, key)
    if request.method == "POST" and not found.forbids:
        try:
            with (
                recorded(site().log) as recording,
                site().database.writing() as connection,
            ):
                if beyond_delete(site(), connection, pages, within, key):
                    abort(403)
                if not within.delete(connection, pages.table, key):
                    abort(404)
                gone = {
                    fact.label: (str(fact.cell.text), None)
                    for _name, facts in record.sections
                    for fact in facts
                }
                told = Deed("delete", name, segment, record.title, changes=gone)
                recording.begin(actor(), told)
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
    if reference is None or within.hides(pages.table.fullname, column):
        abort(404)
    if not within.may("view", site().registry[reference.target].table.fullname):
        abort(404)
    plan = lookup_plan(site(), reference, within)
    with site().database.reading() as connection:
        found = plan.find(connection, request.args.get("q", "")[:100], FOUND_AT_ONCE)
    return jsonify([{"value": value, "text": title} for value, title in found])
