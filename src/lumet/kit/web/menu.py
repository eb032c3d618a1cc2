"""The menu: the tables within reach and the pages, by group; folded groups, favourites,
and the numbers of records."""

from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

from flask import render_template, request, url_for
from flask_babel import gettext
from flask_login import current_user
from markupsafe import Markup, escape

from ..access.reach import Reach
from ..accounts.preferences import FAVOURITES
from ..pages.context import Site, current_reach, preferences, site
from ..pages.urls import list_address

LAST = ("Overviews", "Other", "Reference data")  # groups, where nothing else is decided
MANY = 100  # entries; in a longer menu groups are folded until they are opened
TOGGLED = "menu toggled"  # the choice of groups that are not as usual, one a line
_FAVOURITES = "<!--favourites-->"  # where they stand in a menu that users share


class MenuItem(NamedTuple):
    """An entry of the menu: the name of a table, or the address of a page; its label
    and its icon."""

    name: str
    label: str
    icon: str = ""

    @property
    def address(self) -> str:
        """Where the entry leads."""
        return self.name if self.name.startswith("/") else list_address(self.name)


Groups = Sequence[tuple[str, Sequence[MenuItem]]]


def menu_groups() -> Groups:
    """Return the groups of the menu with their tables and pages within reach."""
    reach, made = current_reach(), site()
    found: Groups = made.plan(("menu groups", *_key()), lambda: _build(made, reach))
    return found


def _key() -> tuple[Any, ...]:
    """Return the key of a menu: the tables within reach, and the roles for
    entries of your own."""
    roles = tuple(role.name for role in current_reach().roles)
    return current_reach().shape, roles, current_user.is_authenticated


def is_for_user(roles: Sequence[str]) -> bool:
    """Tell whether the present user has one of these roles, or there are none."""
    return not roles or bool({role.name for role in current_reach().roles} & {*roles})


def _build(made: Site, reach: Reach) -> Groups:
    groups: dict[str, list[MenuItem]] = {}
    for pages in made.registry.pages.values():
        if (
            pages.has_list
            and not pages.for_lookups
            and reach.may("view", pages.table.fullname)
        ):
            item = MenuItem(pages.name, str(pages.plural), pages.icon)
            groups.setdefault(str(pages.group), []).append(item)
    if current_user.is_authenticated:
        for group, item in _own_pages(made):
            groups.setdefault(group or str(gettext("Pages")), []).append(item)
    places = {str(gettext(name)): n for n, name in enumerate(made.menu)}
    places |= {name: n for n, name in enumerate(made.menu)}
    end = len(made.menu)

    def of_group(name: str) -> tuple[int, int]:
        return places.get(name, end), LAST.index(name) if name in LAST else -1

    def of_item(item: MenuItem) -> tuple[int, str]:
        return places.get(item.name, end), item.label.casefold()

    ordered = sorted(groups, key=of_group)
    return [(name, sorted(groups[name], key=of_item)) for name in ordered]


def _own_pages(made: Site) -> list[tuple[str, MenuItem]]:
    """Return the pages of cards and of own code that the user can open, with their
    groups."""
    found = [
        (str(page.group), MenuItem(_address_of(page.name), str(page.label), page.icon))
        for page in made.card_pages.values()
        if page.name and is_for_user(page.roles)
    ]
    return found + [
        (str(entry.group), MenuItem(url_for(entry.endpoint), str(entry.label), entry.icon))
        for entry in made.own_menu
        if is_for_user(entry.roles)
    ]  # fmt: skip


def _address_of(page: str) -> str:
    return url_for("pages.card_page", page=page)


def menu(here: str) -> Markup:
    """Return the menu for a page of table `here`, or for a page of another kind, as the
    user has arranged it."""
    here = here or request.script_root + request.path
    counts: Mapping[str, str] | None = site().counts.peek(counts_key())
    if counts is None:
        text = site().plan(("menu", *_key()), lambda: _rendered(None))
    else:  # kept for as long as the numbers are
        key = ("menu", counts_key())
        text = site().counts.get(key, lambda: _rendered(counts))
    name = f'data-name="{escape(here)}"'
    text = text.replace(name, f'{name} aria-current="page"')
    kept = preferences()
    if kept.user_id is not None:
        text = _folded(text, here, (kept.get(TOGGLED) or "").split("\n"))
        text = text.replace(_FAVOURITES, _favourites_as_html())
    return Markup(text)


def counts_key() -> tuple[Any, ...]:
    """Return the key under which the numbers of records in the menu are kept: for all
    users of one reach."""
    made = site()
    return "counts", *_key(), current_reach().identity, made.language, made.root


def _rendered(counts: Mapping[str, str] | None) -> str:
    groups = menu_groups()
    return render_template(
        "_menu.html",
        groups=groups,
        counts=counts,
        is_long=sum(len(items) for _group, items in groups) > MANY,
        favourites_here=Markup(_FAVOURITES),
    )


def _folded(text: str, here: str, toggled: Sequence[str]) -> str:
    """Return the menu with the groups that the user folded, or opened; the one of the
    present page is open."""
    for group, items in menu_groups():
        mark = f'data-group="{escape(group)}"'
        is_open = f"{mark} open" in text
        wanted = is_open != (group in toggled) or any(i.name == here for i in items)
        if wanted != is_open:
            old, new = (mark, f"{mark} open") if wanted else (f"{mark} open", mark)
            text = text.replace(old, new, 1)
    return text


def favourites() -> list[str]:
    """Return the names of the entries that the user has as favourites."""
    return [name for name in (preferences().get(FAVOURITES) or "").split("\n") if name]


def _favourites_as_html() -> str:
    chosen = favourites()
    if not chosen:
        return ""
    known = {item.name: item for _group, items in menu_groups() for item in items}
    items = [known[name] for name in chosen if name in known]
    return render_template("_favourites.html", items=items) if items else ""
