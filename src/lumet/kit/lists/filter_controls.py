"""The filter controls of a list, and its active filters in words."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date

from flask_babel import gettext as _
from sqlalchemy import (
    Connection,
)

from ..common.formatting import date_text
from ..forms.date_fields import DateField, DateTimeField
from ..forms.fields import ChoiceField, LookupField, ValueField, YesNoField
from ..forms.operators import FROM, IS, OF_CHOICES, TO
from ..pages import urls
from ..pages.table_pages import Reference
from ..pages.urls import list_address
from ..queries.cells import Cell
from ..queries.filters import (
    Filter,
    describe_filter,
    filter_values,
    seen_operators,
    shape_of,
)
from ..queries.hierarchy import titles_of
from ..queries.lookups import SHORT_LIST, lookup_plan, titles_by_value
from ..queries.title_search import Search
from .list_query import list_plan
from .list_request import ListRequest
from .list_spec import ONLY, WITH, ListSpec


@dataclass(frozen=True, slots=True)
class ActiveFilter:
    """A filter in words, and the address of the list without it."""

    label: str
    description: str
    without: str


@dataclass(frozen=True, slots=True)
class Control:
    """The filter of a column: its operators, its present texts by operator,
    and the choices that there are."""

    key: str
    label: str
    kind: ValueField
    operators: tuple[str, ...]
    texts: Mapping[str, tuple[str, ...]]
    options: Sequence[tuple[str, str]] = ()
    is_day: bool = False
    shown: Mapping[str, str] = field(default_factory=dict)  # texts as people read them
    choices: str = ""  # the address that finds more of them, where there are more


class FilterControls:
    """The filters of one request: those that are active, and the controls of all."""

    def __init__(self, list_request: ListRequest) -> None:
        self.list_request = list_request
        self.context = list_request.context
        self.site, self.pages = list_request.site, list_request.pages
        self.reach = list_request.reach

    def active_filters(self, connection: Connection) -> list[ActiveFilter]:
        """Return the search and the filters in words, each with the address
        without it."""
        found = []
        if self.list_request.search.is_meant:
            words = f"“{self.list_request.search.text}”"
            found.append(
                ActiveFilter(
                    str(_("Search")), words, self.list_request.links.address("q")
                )
            )
        for filter_ in self.list_request.filters:
            titles = self._titles_of(connection, filter_)
            words = describe_filter(self.pages, filter_, self.site.language, titles)
            without = self.list_request.links.address(filter_.name)
            found.append(ActiveFilter(self.pages.label(filter_.key), words, without))
        if self.list_request.deleted:
            shown = {WITH: _("Include deleted"), ONLY: _("Only deleted")}[
                self.list_request.deleted
            ]
            without = self.list_request.links.address("deleted")
            found.append(ActiveFilter(str(_("Deleted records")), str(shown), without))
        if self.list_request.is_tree and self.list_request.under:
            label = self.pages.label(self.pages.list.parent)
            words = self._words_above(connection)
            found.append(
                ActiveFilter(label, words, self.list_request.links.address("under"))
            )
        return found

    def _words_above(self, connection: Connection) -> str:
        """Return the title of the record whose branch it is."""
        tree, above = self.list_request.tree, tuple(self.list_request.above.values())
        if tree is None or not above or None in above:
            return "–"
        titled = titles_of(self.context.on(connection), tree, [above])
        return next(iter(titled.values()), Cell("–")).text

    def _titles_of(self, connection: Connection, filter_: Filter) -> dict[str, str]:
        shown = self.pages.fields[filter_.key]
        if filter_.operator != IS or not isinstance(shown, LookupField):
            return {}
        if not shown.is_part:
            values = [first for first, *_rest in filter_.values]
            return titles_by_value(self.context.on(connection), filter_.key, values)
        reference = self.pages.lookups[filter_.key]
        plan = lookup_plan(self.context, reference, is_whole=True)
        return {o.value: o.title for o in plan.of_keys(connection, filter_.values)}

    def controls(self, connection: Connection) -> list[Control]:
        """Return the filter controls of the columns."""
        return [
            self._control(connection, key) for key in self.list_request.known.served
        ]

    def _control(self, connection: Connection, key: str) -> Control:
        shown = self.pages.fields[key]
        texts = {s.operator: s.texts for s in self.list_request.filters if s.key == key}
        options, choices = self._options(connection, key)
        is_day = isinstance(shown, DateField | DateTimeField)
        language = self.site.language
        days = {
            operator: date_text(date.fromisoformat(found[0]), language)
            for operator, found in texts.items()
            if is_day and operator in (FROM, TO)
        }
        return Control(
            key=key,
            label=self.pages.label(key),
            kind=shown,
            operators=seen_operators(self.context, key),
            texts=texts,
            options=options,
            is_day=is_day,
            shown=days,
            choices=choices,
        )

    def _options(
        self, connection: Connection, key: str
    ) -> tuple[list[tuple[str, str]], str]:
        """Return the values to choose from, with their labels, and the address that
        finds more of them, where there are more."""
        shown = self.pages.fields[key]
        reference = self.pages.lookups.get(key)
        if reference is not None:
            if not self.context.of(reference.target).may("view"):
                return [], ""
            return self._lookup_options(connection, key, reference)
        if isinstance(shown, YesNoField):
            return [("yes", str(_("Yes"))), ("no", str(_("No")))], ""
        if isinstance(shown, ChoiceField) and shown.operators is OF_CHOICES:
            return [(v, str(label)) for v, label in shown.choices.items()], ""
        return [], ""

    def _lookup_options(
        self, connection: Connection, key: str, reference: Reference
    ) -> tuple[list[tuple[str, str]], str]:
        """Return the first records that a lookup may be, and those that it is filtered
        by."""
        shown, choices = self.pages.fields[key], ""
        is_whole = isinstance(shown, LookupField) and shown.is_part
        plan = lookup_plan(self.context, reference, is_whole=is_whole)
        first = plan.first(connection, SHORT_LIST + 1)
        options = [(option.value, option.title) for option in first]
        if len(options) > SHORT_LIST and not is_whole:
            choices = f"{list_address(self.pages.name)}{urls.CHOICES}{key}"
        known = {value for value, _title in options}
        for filter_ in self.list_request.filters:
            if filter_.key == key:
                titles = self._titles_of(connection, filter_).items()
                options += [each for each in titles if each[0] not in known]
        return options, choices

    def loosening(self, connection: Connection) -> list[ActiveFilter]:
        """Return, for a list without rows, the filters without which there are some."""
        found = []
        for mark, filters, search in self._each_less(connection):
            asked = ListSpec(
                self.list_request.columns,
                shape_of(filters),
                len(search.words),
                deleted=self.list_request.deleted,
                titled=search.modes,
                is_folded=search.is_folded,
            )
            plan = list_plan(self.context, (), asked=asked)
            bound = {**filter_values(filters), **search.bound}
            if plan.count(connection, bound=bound).number:
                found.append(mark)
        return found

    def _each_less(
        self, connection: Connection
    ) -> Iterable[tuple[ActiveFilter, list[Filter], Search]]:
        active_filters, is_searched = (
            self.active_filters(connection),
            self.list_request.search.is_meant,
        )
        if is_searched:
            yield active_filters[0], self.list_request.filters, Search()
        for place, filter_ in enumerate(self.list_request.filters):
            rest = [each for each in self.list_request.filters if each is not filter_]
            yield active_filters[place + is_searched], rest, self.list_request.search

    def hidden(self) -> list[tuple[str, str]]:
        """Return the parameters that the form of the filters sends along unseen: not
        those that it has controls for."""
        own = {
            f"{key}.{operator}"
            for key in self.list_request.known.columns
            for operator in self.pages.fields[key].operators
        }
        own.add("deleted")
        return [
            (key, value)
            for key, value in self.list_request.links.hidden()
            if key not in own
        ]
