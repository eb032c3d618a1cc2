"""The registry of all tables and of the references between them."""

from collections.abc import Iterable, Mapping

from sqlalchemy import ForeignKeyConstraint

from ..forms.fields import LookupField
from .table_pages import Reference, RelatedRecords, TablePages


class Registry:
    """All tables of the application, by their names in addresses."""

    def __init__(self, pages: Mapping[str, TablePages]) -> None:
        self.pages = dict(pages)
        self.by_table = {each.table.fullname: each for each in self.pages.values()}
        self.references = tuple(self._references())
        self._by_ends = {
            (each.target, each.source, each.columns): each for each in self.references
        }
        self.outgoing: dict[str, list[Reference]] = {name: [] for name in self.pages}
        self.incoming: dict[str, list[Reference]] = {name: [] for name in self.pages}
        for reference in self.references:
            self.outgoing[reference.source].append(reference)
            if not self.pages[
                reference.source
            ].is_read_only_source:  # views and queries own no records
                self.incoming[reference.target].append(reference)
        for pages_ in self.pages.values():
            self._link(pages_)
        for pages_ in self.pages.values():
            self._lend(pages_)

    def __getitem__(self, name: str) -> TablePages:
        return self.pages[name]

    def _references(self) -> Iterable[Reference]:
        for name, pages in self.pages.items():
            found = [
                constraint
                for constraint in pages.table.constraints
                if isinstance(constraint, ForeignKeyConstraint)
            ]
            for constraint in sorted(found, key=lambda each: tuple(each.column_keys)):
                target = self.by_table.get(constraint.referred_table.fullname)
                told = {**constraint.elements[0].info, **constraint.info}
                if target is not None:
                    yield Reference(
                        source=name,
                        columns=tuple(column.key for column in constraint.columns),
                        target=target.name,
                        referred=tuple(e.column.key for e in constraint.elements),
                        on_delete=(constraint.ondelete or "").lower(),
                        enforced=told.get("enforced", True),
                    )

    def _link(self, pages: TablePages) -> None:
        for reference in self.outgoing[pages.name]:
            key = reference.columns[0]
            field = pages.fields.get(key)
            if len(reference.columns) == 1 and (
                isinstance(field, LookupField) or field is None
            ):
                pages.lookups[key] = reference
        for reference in self.outgoing[pages.name]:
            if len(reference.columns) == 1:
                continue
            for key in reference.columns:
                field = pages.fields.get(key)
                if isinstance(field, LookupField) and key not in pages.lookups:
                    pages.lookups[key] = reference.led_by(key)
                    field.is_part = True
                    break

    def _lend(self, pages: TablePages) -> None:
        """Give a table the columns of referenced records that it shows."""
        for key in (
            *pages.lookup_columns,
            *(key for key in pages.list.columns if "." in key),
        ):
            lookup, _, column = key.partition(".")
            reference = pages.lookups.get(lookup)
            target = self.pages[reference.target] if reference else None
            if target is not None and column in target.fields:
                pages.extras[key] = target.fields[column]
                pages.beyond[key] = target
        for lookup, reference in pages.lookups.items():
            pages.referenced[lookup] = self.pages[reference.target]

    def lookups_of(self, name: str) -> list[tuple[str, str]]:
        """Return the lookups that choose among the records of a table, as the table
        that has it and its column."""
        return [
            (pages.name, key)
            for pages in self.pages.values()
            for key, reference in pages.lookups.items()
            if reference.target == name
        ]

    def reference(self, name: str, related: RelatedRecords) -> Reference:
        """Return the reference behind a block of related records of table `name`."""
        found = self._by_ends.get((name, related.table, related.columns))
        if found is not None:
            return found
        raise KeyError(f"{related.table} does not refer to {name} by {related.by}")

    def other_side(self, related: RelatedRecords) -> Reference:
        """Return the reference of a table that joins two to the side which is
        chosen."""
        for reference in self.outgoing[related.table]:
            if reference.columns == related.joined:
                return reference
        raise KeyError(f"{related.table} refers to nothing by {related.joined}")
