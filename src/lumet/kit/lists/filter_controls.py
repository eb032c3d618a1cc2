"""The filter controls of a list, and its active filters in words."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from itertools import chain

from flask_babel import gettext as _
from sqlalchemy import (
    Connection,
)

from ..contract import FROM, IS, NOT, TO
from ..forms.date_fields import DateField, DateTimeField
from ..forms.fields import ChoiceField, LookupField, ValueField, YesNoField
from ..forms.operators import OF_CHOICES
from ..pages import urls
from ..pages.context import lower_first
from ..pages.table_context import TableContext
from ..pages.table_pages import Reference
from ..pages.urls import list_address
from ..queries.cells import Cell
from ..queries.filters import (
    MATCH,
    MUST,
    Filter,
    day_text,
    describe_filter,
    filter_values,
    filterable_beyond,
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
    joined: str = ""  # the word between it and the one before
    closes: bool = False  # it is the last of several of which one is enough


@dataclass(frozen=True, slots=True)
class Control:
    """The filter of a column: its operators, its present texts by operator,
    and the choices that there are."""

    key: str
    label: str
    legend: str
    kind: ValueField
    operators: tuple[str, ...]
    texts: Mapping[str, tuple[str, ...]]
    options: Sequence[tuple[str, str]] = ()
    is_day: bool = False
    shown: Mapping[str, str] = field(default_factory=dict)  # texts as people read them
    choices: str = ""  # the address that finds more of them, where there are more


@dataclass(frozen=True, slots=True)
class ControlGroup:
    """The controls of the record that a lookup refers to."""

    label: str
    controls: Sequence[Control]
    is_new: bool = False  # it was just asked for


def _written(text: str, language: str) -> str:
    """Return the day of a filter as its control has it: one relative to today as it
    is."""
    return text if text.startswith("today") else day_text(text, language)


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
        found += self._filters(connection)
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

    def _filters(self, connection: Connection) -> Iterator[ActiveFilter]:
        """Yield the filters in words: those that hold in any case, then those of which
        one is enough, of which a range is one."""
        alternatives = self.list_request.alternatives
        always = self.list_request.filters[len(alternatives) :]
        before: Filter | None = None
        for filter_ in (*always, *alternatives):
            joined = ""
            if before is not None and alternatives:
                is_range = {before.operator, filter_.operator} == {FROM, TO}
                is_one = is_range and before.key == filter_.key
                is_alternative = filter_ in alternatives and before in alternatives
                joined = str(_("or") if is_alternative and not is_one else _("and"))
                joined += " (" if always and filter_ is alternatives[0] else ""
            yield ActiveFilter(
                self.pages.label(filter_.key),
                describe_filter(self.pages, filter_, self.site.language, self._titles_of(connection, filter_)),
                self.list_request.links.address(filter_.name),
                joined,
                bool(always) and bool(alternatives) and filter_ is alternatives[-1],
            )  # fmt: skip
            before = filter_

    def in_words(self, connection: Connection) -> str:
        """Return the search and the filters as one text, without their columns."""
        text = ""
        for each in self.active_filters(connection):
            gap = f" {each.joined} ".replace("( ", "(") if each.joined else ", "
            text += (gap if text else "") + lower_first(each.description)
            text += ")" if each.closes else ""
        return text

    def _words_above(self, connection: Connection) -> str:
        """Return the title of the record whose branch it is."""
        tree, above = self.list_request.tree, tuple(self.list_request.above.values())
        if tree is None or not above or None in above:
            return "–"
        titled = titles_of(self.context.on(connection), tree, [above])
        return next(iter(titled.values()), Cell("–")).text

    def _titles_of(self, connection: Connection, filter_: Filter) -> dict[str, str]:
        shown = self.pages.shown_field(filter_.key)
        if filter_.operator not in (IS, NOT) or not isinstance(shown, LookupField):
            return {}
        context, key = self._owner(filter_.key)
        if not shown.is_part:
            values = [first for first, *_rest in filter_.values]
            return titles_by_value(context.on(connection), key, values)
        reference = context.pages.lookups[key]
        plan = lookup_plan(context, reference, is_whole=True)
        return {o.value: o.title for o in plan.of_keys(connection, filter_.values)}

    def controls(self, connection: Connection) -> list[Control]:
        """Return the filter controls of the columns."""
        return [
            self._control(connection, key, self.pages.label(key))
            for key in self.list_request.known.filterable
        ]

    def groups(self, connection: Connection) -> list[ControlGroup]:
        """Return the controls of referenced records: of those by which the list is
        filtered, and of the one that the user asked for."""
        found = []
        for lookup, keys in self._groups.items():
            owner = self.pages.referenced[lookup]
            controls = [
                self._control(connection, key, owner.label(key.partition(".")[2]))
                for key in keys
            ]
            is_new = lookup == self.list_request.filter_by
            found.append(ControlGroup(self.pages.label(lookup), controls, is_new))
        return found

    @cached_property
    def _groups(self) -> dict[str, list[str]]:
        """The columns of referenced records that have controls, by lookup."""
        active = {each.key.partition(".")[0] for each in self.list_request.filters if "." in each.key}  # fmt: skip
        lookups = {self.list_request.filter_by, *active}
        found = {key: filterable_beyond(self.context, key) for key in self.pages.lookups if key in lookups}  # fmt: skip
        return {key: keys for key, keys in found.items() if keys}

    def further(self) -> list[tuple[str, str]]:
        """Return the lookups by whose records the list can be filtered too, with their
        labels."""
        return [
            (key, self.pages.label(key))
            for key in self.pages.lookups
            if key not in self._groups and filterable_beyond(self.context, key)
        ]

    def _owner(self, key: str) -> tuple[TableContext, str]:
        """Return the context of the table that has a column, and its key there."""
        owner, column = self.pages.owner_of(key)
        if owner is self.pages:
            return self.context, key
        return self.context.about(owner), column

    def _control(self, connection: Connection, key: str, legend: str) -> Control:
        shown = self.pages.shown_field(key)
        texts = {s.operator: s.texts for s in self.list_request.filters if s.key == key}
        options, choices = self._options(connection, key)
        is_day = isinstance(shown, DateField | DateTimeField)
        language = self.site.language
        days = {
            operator: _written(found[0], language)
            for operator, found in texts.items()
            if is_day and operator in (FROM, TO)
        }
        return Control(
            key=key,
            label=self.pages.label(key),
            legend=legend,
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
        shown = self.pages.shown_field(key)
        context, column = self._owner(key)
        reference = context.pages.lookups.get(column)
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
        context, column = self._owner(key)
        shown, choices = context.pages.fields[column], ""
        is_whole = isinstance(shown, LookupField) and shown.is_part
        plan = lookup_plan(context, reference, is_whole=is_whole)
        first = plan.first(connection, SHORT_LIST + 1)
        options = [(option.value, option.title) for option in first]
        if len(options) > SHORT_LIST and not is_whole:
            choices = f"{list_address(context.pages.name)}{urls.CHOICES}{column}"
        known = {value for value, _title in options}
        for filter_ in self.list_request.filters:
            if filter_.key == key:
                titles = self._titles_of(connection, filter_).items()
                options += [each for each in titles if each[0] not in known]
        return options, choices

    def loosening(self, connection: Connection) -> list[ActiveFilter]:
        """Return, for a list without rows, the filters without which there are some."""
        found: list[ActiveFilter] = []
        if self.list_request.is_any:
            return found
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
            for key in (
                *self.list_request.known.filterable,
                *chain.from_iterable(self._groups.values()),
            )
            for operator in self.pages.shown_field(key).operators
        }
        own |= {"deleted", MATCH, MUST}
        return [
            (key, value)
            for key, value in self.list_request.links.hidden()
            if key not in own
        ]
