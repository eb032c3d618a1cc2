"""Changes in words, as the activity log keeps them."""

from collections.abc import Mapping
from typing import Any

from sqlalchemy import (
    Connection,
)

from ..accounts.audit_log import FieldLabel
from ..forms.fields import SecretField
from ..forms.file_fields import FileField
from ..pages.table_context import TableContext
from ..pages.table_pages import (
    Reference,
)
from ..queries.lookups import lookup_plan


class ChangeTexts:
    """Changes of one table's records in words; labels and titles are looked up once,
    however many rows are told of."""

    def __init__(self, context: TableContext) -> None:
        self.context = context
        self.site, self.pages, self.reach = context.site, context.pages, context.reach
        self._labels: dict[str, str] = {}
        self._titles: dict[tuple[Reference, Any], str] = {}

    def in_words(
        self, connection: Connection, changes: Mapping[str, tuple[Any, Any]]
    ) -> dict[str, tuple[str | None, str | None]]:
        """Return changes by label and in words, as the activity log keeps them."""

        def told(name: str, value: Any) -> str | None:
            if value is None:
                return None
            reference = self.pages.lookups.get(name)
            if (
                reference is not None
                and len(reference.columns) == 1
                and self._may_choose(reference)
            ):
                return self._title(connection, reference, value)
            field_ = self.pages.fields.get(name)
            if field_ is None:
                return str(value)
            return str(field_.show(value, self.site.default_language))

        return {
            self._label(name): (told(name, before), told(name, after))
            for name, (before, after) in changes.items()
        }

    def _title(self, connection: Connection, reference: Reference, value: Any) -> str:
        """Return the title of what is referred to: asked once, however many rows do."""
        place = (reference, value)
        if place not in self._titles:
            plan = lookup_plan(self.context, reference)
            found = plan.one(connection, value)
            self._titles[place] = found.title if found is not None else str(value)
        return self._titles[place]

    def _label(self, name: str) -> str:
        """Return the label of a column: translated once, however many rows are told
        of."""
        if name not in self._labels:
            self._labels[name] = FieldLabel(self.pages.label(name), name)
        return self._labels[name]

    def in_form(
        self, before: Mapping[str, Any], changed: Mapping[str, Any]
    ) -> dict[str, tuple[str | None, str | None]]:
        """Return changes as a form has them, so that they can be put back: without what
        is secret, and without files, which are gone."""
        fields = self.pages.fields
        return {
            name: (
                fields[name].to_text(before.get(name)),
                fields[name].to_text(value),
            )
            for name, value in changed.items()
            if name in fields and not isinstance(fields[name], SecretField | FileField)
        }

    def _may_choose(self, reference: Reference) -> bool:
        target = self.site.registry[reference.target]
        return self.reach.may("view", target.table.fullname)
