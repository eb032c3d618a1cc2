"""Pages of cards: the first page, and further ones."""

import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import UTC

from flask import abort, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue
from flask_babel import gettext as _
from flask_login import current_user
from sqlalchemy import Connection
from werkzeug.datastructures import MultiDict

from ..accounts.recent_records import RecentRecord
from ..common import locale
from ..common.formatting import date_text, time_text
from ..contract import FIGURES, LINE, NUMBER, RECENT, SHARES, TABLES, VIEWS
from ..lists.figures import Figure, figure_label, read_figure
from ..lists.list_request import ListRequest
from ..lists.saved_views import visible_view
from ..pages.cards import Card, CardPage
from ..pages.context import (
    current_reach,
    last_change,
    own_roles,
    preferences,
    site,
)
from ..pages.table_context import TableContext
from ..pages.urls import list_address, record_address
from ..queries.record_search import titles_plan
from .form_context import PIECE
from .menu import is_for_user, menu_groups
from .navigation import (
    blueprint,
    redirect_to_sign_in,
)

__all__ = ["blueprint"]

PAGE_SECONDS = 2.0  # for all figures of a page; those left out come one by one
MOST_RECENT = 8
MOST_VIEWS = 8
VIEW = "view-"  # begins the name of the figure that counts a saved view


@dataclass(frozen=True, slots=True)
class Link:
    """A line of a card: its text and address, a note behind it and one at the end."""

    text: str
    address: str
    note: str = ""
    end: str = ""


@dataclass(frozen=True, slots=True)
class ShownCard:
    """A card as a page shows it: its figure, or the links of one without. Where there is
    neither, the figure comes later, from `address`."""

    card: Card
    label: str
    figure: Figure | None = None
    links: Sequence[Link] = ()
    address: str = ""


@blueprint.get("/")
def front() -> ResponseReturnValue:
    """The first page."""
    return _show(_page_or_404(""))


@blueprint.get("/pages/<page>")
def card_page(page: str) -> ResponseReturnValue:
    """A further page of cards."""
    return _show(_page_or_404(page))


def _page_or_404(name: str) -> CardPage:
    """Return the page of cards of this name, "" for the first page; one for other roles
    does not exist."""
    made = site().card_pages.get(name)
    if made is None or not is_for_user(made.roles):
        abort(404)
    return made


def _show(page: CardPage) -> ResponseReturnValue:
    end = time.monotonic() + PAGE_SECONDS
    cards = [card for card, is_shown in _arranged(page) if is_shown]
    found = [each for card in cards if (each := _shown(page, card, end)) is not None]
    kinds = {each.card.kind for each in found}
    return render_template(
        "home.html",
        page=page,
        blocks=[*_blocks(found)],
        has_charts=bool(kinds & {LINE, SHARES}),
        may_arrange=preferences().user_id is not None and bool(found),
        today=date_text(locale.today(), site().language),
        is_empty=not menu_groups(),
    )


def _arranged(page: CardPage) -> list[tuple[Card, bool]]:
    """Return the cards that the user's roles can have in the user's order, and whether
    each is shown; those that are new stand last."""
    known = {card.name: card for card in page.cards if is_for_user(card.roles)}
    chosen = (preferences().get(_choice(page)) or "").split(",")
    named = [(word.removeprefix("-"), not word.startswith("-")) for word in chosen]
    found = [(known.pop(name), is_on) for name, is_on in named if name in known]
    return found + [(card, True) for card in known.values()]


def _choice(page: CardPage) -> str:
    """Return the name of the user's choice of cards."""
    return f"cards {page.name}".strip()


def _blocks(cards: Sequence[ShownCard]) -> Iterator[list[ShownCard]]:
    """Yield the rows of cards: consecutive numbers share one, every other card has its
    own."""
    row: list[ShownCard] = []
    for card in cards:
        if card.card.kind == NUMBER:
            row.append(card)
            continue
        if row:
            yield row
            row = []
        yield [card]
    if row:
        yield row


def _shown(page: CardPage, card: Card, end: float) -> ShownCard | None:
    """Return a card for the present user, None for one with nothing to show."""
    if card.kind not in FIGURES:
        label, links = str(card.label) or _LABELS[card.kind](), _LINKS[card.kind]()
        is_needed = bool(links) or card.kind == TABLES
        return ShownCard(card, label, links=links) if is_needed else None
    context = _context(card)
    if context is None:
        return None
    key = _key(context, card)
    if key not in site().figures and time.monotonic() > end:
        address = url_for(".figure", card=card.name, page=page.name or None)
        return ShownCard(card, figure_label(context, card), address=address)
    found = _figure(context, card)
    return None if found is None else ShownCard(card, found.label, found)


def _context(card: Card) -> TableContext | None:
    """Return the context of a card's table, None where it is beyond reach."""
    pages, reach = site().registry.pages.get(card.table), current_reach()
    if pages is None or pages.for_lookups or not reach.may("view", pages.table.fullname):  # fmt: skip
        return None
    return TableContext(site(), pages, reach)


def _key(context: TableContext, card: Card) -> tuple[object, ...]:
    """Return the key under which a figure is kept: one for all users whose reach is the
    same, but for who changed something a short time ago. Of days it depends which is
    today."""
    reach = context.reach
    own = [
        (name, value)
        for name, value in reach.attributes.items()
        if f":user.{name}" in card.filter
    ]
    made = site()
    return card, reach.identity, tuple(own), last_change(), made.language, made.root, locale.zone(), locale.today()  # fmt: skip


def _figure(context: TableContext, card: Card) -> Figure | None:
    """Return a figure, one of the last minute where there is one."""
    key = _key(context, card)
    return site().figures.get(key, lambda: read_figure(context, card))


@blueprint.get("/figure/<card>")
def figure(card: str) -> ResponseReturnValue:
    """One figure of a page: a piece of it, for which there was no time."""
    page = _page_or_404(request.args.get("page", ""))
    known = {each.name: each for each in page.cards if is_for_user(each.roles)}
    context = _context(known[card]) if card in known else None
    found = _figure(context, known[card]) if context is not None else None
    if found is None:
        abort(404)
    shown = ShownCard(found.card, found.label, found)
    if PIECE in request.args:
        return render_template("_card.html", shown=shown)
    return render_template(
        "home.html", page=page, blocks=[[shown]], has_charts=True, may_arrange=False,
        today="", is_empty=False,
    )  # fmt: skip


@blueprint.route("/arrange", methods=["GET", "POST"])
def arrange() -> ResponseReturnValue:
    """Choosing and ordering the cards of a page."""
    page = _page_or_404(request.args.get("page", ""))
    if not current_user.is_authenticated:
        return redirect_to_sign_in()
    if preferences().user_id is None:  # looking as another
        abort(403)
    home = url_for(".card_page", page=page.name) if page.name else url_for(".front")
    arranged = _arranged(page)
    if request.method == "POST":
        if "reset" in request.form:
            preferences().set(_choice(page), "")
            return redirect(home)
        arranged = _ordered(arranged)
        if "save" in request.form:
            words = [("" if is_on else "-") + card.name for card, is_on in arranged]
            preferences().set(_choice(page), ",".join(words))
            return redirect(home)
    entries = [
        (card.name, label, is_on)
        for card, is_on in arranged
        if (label := _label(card)) is not None
    ]
    moved = request.form.get("up") or request.form.get("down") or ""
    return render_template("arrange.html", page=page, entries=entries, home=home, moved=moved)  # fmt: skip


def _ordered(arranged: Sequence[tuple[Card, bool]]) -> list[tuple[Card, bool]]:
    """Return cards as a form has them: in its order, one moved up or down."""
    form = request.form
    known = {card.name: card for card, _is_on in arranged}
    names = [name for name in dict.fromkeys(form.getlist("card")) if name in known]
    names += [name for name in known if name not in names]
    for word, step in (("up", -1), ("down", 1)):
        if (moved := form.get(word)) in names:
            place = names.index(moved) + step
            names.remove(moved)
            names.insert(max(0, place), moved)
    shown = {*form.getlist("shown")}
    return [(known[name], name in shown) for name in names]


def _label(card: Card) -> str | None:
    """Return the label of a card; None for one that the user cannot see."""
    if card.kind not in FIGURES:
        return str(card.label) or _LABELS[card.kind]()
    context = _context(card)
    return None if context is None else figure_label(context, card)


def _recent() -> list[Link]:
    """Return the records that the user opened or changed last, with their titles; those
    that are gone, or beyond reach, are left out."""
    kept = preferences()
    if kept.user_id is None:
        return []
    records = site().recent.of_user(kept.user_id)
    with site().database.reading() as connection:
        titles = {
            table: _titles(connection, table, [r.key for r in records if r.table == table])
            for table in dict.fromkeys(each.table for each in records)
        }  # fmt: skip
    found = [
        Link(
            titles[each.table][each.key],
            record_address(each.table, each.key),
            str(site().registry[each.table].singular),
            _when(each),
        )
        for each in records
        if each.key in titles[each.table]
    ]
    return found[:MOST_RECENT]


def _titles(connection: Connection, table: str, keys: Sequence[str]) -> dict[str, str]:
    """Return the titles of some records of a table, by their keys as in addresses."""
    context = _context(Card(name="", kind=RECENT, table=table))
    if context is None or not context.pages.key:
        return {}
    values = []
    for key in keys:
        try:
            values.append(tuple(context.key_values(key).values()))
        except (ValueError, ArithmeticError):  # the table has another key now
            continue
    found = titles_plan(context).of_keys(connection, values)
    return {each.value: each.title for each in found}


def _when(record: RecentRecord) -> str:
    """Return when a record was opened or changed, in the time of the user."""
    at = record.at.replace(tzinfo=UTC).astimezone(locale.zone())
    language = site().language
    is_today = at.date() == locale.today()
    time_ = time_text(at.time().replace(second=0, microsecond=0), language)
    when = time_ if is_today else date_text(at.date(), language)
    words = _("changed %(when)s", when=when) if record.is_change else _("opened %(when)s", when=when)  # fmt: skip
    return str(words)


def _views() -> list[Link]:
    """Return the saved views that the user can open, with the numbers of their rows."""
    found: list[Link] = []
    for view in preferences().all_views([role.name for role in own_roles()]):
        card = Card(name=f"{VIEW}{view.id}", kind=NUMBER, table=view.table)
        context = _context(card)
        if context is None or not context.pages.has_list or len(found) == MOST_VIEWS:
            continue
        query = visible_view(ListRequest(context, MultiDict(), preferences()), view).query  # fmt: skip
        counted = _figure(context, replace(card, filter=query))
        number = "" if counted is None or counted.is_late else counted.number
        address = list_address(view.table) + (f"?{query}" if query else "")
        found.append(Link(view.name, address, str(context.pages.plural), number))
    return found


_LABELS: dict[str, Callable[[], str]] = {
    RECENT: lambda: str(_("Recent records")),
    VIEWS: lambda: str(_("Saved views")),
    TABLES: lambda: str(_("Tables")),
}
_LINKS: dict[str, Callable[[], list[Link]]] = {
    RECENT: _recent,
    VIEWS: _views,
    TABLES: list,
}
