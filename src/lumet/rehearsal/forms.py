"""Forms: new records with all fields and with the required alone, what forms have to
refuse, and deletions."""

import re
from collections import Counter
from collections.abc import Iterator, Mapping
from contextlib import suppress
from datetime import datetime, timedelta
from decimal import Decimal, InvalidOperation
from importlib import import_module
from typing import Any

from lumet.browsing.entries import FAR, example, is_led, owners_of_messages
from lumet.browsing.pages import Control, Form, Page
from lumet.rehearsal.lists import plain
from lumet.rehearsal.probe import is_empty
from lumet.rehearsal.rehearsal import Rehearsal

REFUSALS = (422, 409)
# a sentence, where a constraint would have a name
_OWN_WORDS = re.compile(r"The database does not allow this: \S+ \S")
_SHOWN_DATES = (("%d %b %Y", "%Y-%m-%d"), ("%d %b %Y, %H:%M", "%Y-%m-%dT%H:%M"))
_IN_ADDRESS = re.compile(r"/r/([^/?#]+)")
_TAKEN = re.compile(r"([^;]*\balready\b[^;]*;? ?)+")


class FormChecks:
    """The checks of the forms of one table."""

    def __init__(
        self, rehearsal: Rehearsal, name: str, above: tuple[str, ...] = ()
    ) -> None:
        self.rehearsal, self.name = rehearsal, name
        self._above = (*above, name)  # the tables that wait for a record to refer to
        self._parents: list[tuple[FormChecks, str]] = []
        self.pages = rehearsal.pages(name)
        self.address = f"/t/{name}/add"
        self._is_large = rehearsal.is_large(name)
        self._typed: dict[str, Any] = {}  # of the last record that was added

    def check_adding(self) -> None:
        """Add a record with all fields, and one with the required alone; try what has to
        be refused; delete both."""
        form = self._open()
        if form is None:
            return
        if lacking := self._add_parents(form):
            self.rehearsal.notice("no record to choose", self.name, self.address, ", ".join(lacking))  # fmt: skip
        else:
            self._check_records(form)
        self.delete_parents()

    def _check_records(self, form: Form) -> None:
        fields = [key for key in form.controls if key in self.pages.fields]
        added = self._add(dict.fromkeys(fields, True))
        if added is None:
            self._check_required()
        else:
            full = dict(self._typed)
            self.delete(added)
            self._check_refusals(full)
        required = {key: form.controls[key].required for key in fields}
        added = self._add(required)
        if added is not None:
            self._compare_cleared(added, form, required)
            self.delete(added)

    def _add_parents(self, form: Form) -> list[str]:
        """Add a record to each empty table that a required lookup chooses from; return
        the lookups that still have none."""
        lacking = []
        for key, control in form.controls.items():
            reference = self.pages.lookups.get(key)
            is_open = any(control.offers) or "data-more" in control.attributes
            if reference is None or not control.required or is_open:
                continue
            if not self._add_parent(reference.target):
                lacking.append(key)
        return lacking

    def _add_parent(self, target: str) -> bool:
        rehearsal = self.rehearsal
        if rehearsal.count(target):
            return True  # what can be chosen depends on another choice
        is_offered = rehearsal.pages(target).offers("add") and rehearsal.may("add", target)  # fmt: skip
        if target in self._above or not is_offered or not rehearsal.is_written(target):
            return False
        parent = FormChecks(rehearsal, target, self._above)
        form = parent._open()
        if form is None or parent._add_parents(form):
            parent.delete_parents()
            return False
        fields = [key for key in form.controls if key in parent.pages.fields]
        added = parent._add({key: form.controls[key].required for key in fields})
        if added is None:
            parent.delete_parents()
            return False
        self._parents.append((parent, added))
        return True

    def delete_parents(self) -> None:
        """Delete the records that were added to be referred to."""
        for parent, key in reversed(self._parents):
            parent.delete(key)
            parent.delete_parents()
        self._parents = []

    def _open(self) -> Form | None:
        return self.rehearsal.open(self.name, self.address).form()

    def _check_required(self) -> None:
        """Each column that needs a value is on the form; one that is not may be filled by
        the database in ways that cannot be told, so that it is looked at where no record
        could be added."""
        entered = {*self.pages.entered_on(True)}
        made = {key for key, _value in (*self.pages.generated_values, *self.pages.automatic_values)}  # fmt: skip
        for key, column in self.pages.table.c.items():
            is_filled = column.server_default is not None or key in made
            is_numbered = column.primary_key and column is column.table.autoincrement_column  # fmt: skip
            if not (column.nullable or is_filled or is_numbered or key in entered):
                self.rehearsal.fail("required, and on no form", self.name, key)

    def _add(self, filled: Mapping[str, bool]) -> str | None:
        """Add a record, again with what a refusal tells; return its key, None for none."""
        rehearsal, entries = self.rehearsal, self.rehearsal.entries
        hints: dict[str, str] = {}
        said = ""
        for tried in range(rehearsal.limits.tries):
            entries.far = FAR * tried
            form = self._open()
            if form is None:
                return None
            typed: dict[str, Any] = {}
            for key in sorted(filled, key=lambda each: is_led(form, each)):
                control = form.controls[key]
                typed[key] = entries.value(control, hints, typed) if filled[key] else ""
            before = {} if self._is_large or not self.pages.key else rehearsal.keys(self.name)  # fmt: skip
            count = rehearsal.probe.count(self.pages.table)
            answer = rehearsal.main.post(self.address, form.sent(**typed))
            rehearsal.figures.forms += 1
            if answer.status == 302:
                self._typed = typed
                return self._compare_added(answer, before, count, typed)
            if answer.status not in REFUSALS:
                rehearsal.fail(f"page with status {answer.status}", self.name, self.address, f"with {typed}"[:300])  # fmt: skip
                return None
            rehearsal.figures.refusals += 1
            for owner, words in owners_of_messages(answer).items():
                if hint := example(words, tried):
                    hints[owner] = hint
            said = "; ".join(
                answer.words(".note[role=alert] li")
                or answer.words(".note[role=alert] b")
            )
        if _OWN_WORDS.match(said):  # a trigger asks for what no control tells of
            rehearsal.notice("form that the database refuses", self.name, self.address, said[:300])  # fmt: skip
        elif not _TAKEN.fullmatch(said):
            # what must be unique is not taken by all there can be
            kind = "form that cannot be filled" if any(filled.values()) else "empty form refused"  # fmt: skip
            rehearsal.fail(kind, self.name, self.address, said[:300])
        return None

    def _compare_added(
        self,
        answer: Page,
        before: Mapping[str, Any],
        count: int,
        typed: Mapping[str, Any],
    ) -> str | None:
        rehearsal, name = self.rehearsal, self.name
        rehearsal.figures.writes += 1
        if rehearsal.probe.count(self.pages.table) != count + 1:
            rehearsal.fail("added, and not there", name, self.address)
            return None
        if not self.pages.key:
            return None
        if self._is_large:  # the answer leads to the record
            found = _IN_ADDRESS.search(answer.location)
            fresh = {found[1]} if found else set()
        else:
            fresh = rehearsal.keys(name).keys() - before.keys()
        if not fresh:
            rehearsal.fail("added beyond reach", name, self.address)
            return None
        (key,) = fresh
        if rehearsal.main.get(answer.location).status != 200:
            rehearsal.fail("new record leads nowhere", name, answer.location)
        row = rehearsal.row(name, key) or {}
        form = None
        if self.pages.offers("edit") and rehearsal.may("edit", name):
            form = rehearsal.open(name, f"/t/{name}/r/{key}/edit").form()
        for column, value in typed.items():
            if (
                not isinstance(value, str)
                or not value
                or _is_typed(value, row.get(column))
            ):
                continue
            shown = form.controls.get(column) if form is not None else None
            if shown is None:  # a key, which stays as it is
                held = _as_read(self.pages.column(column).type, row.get(column))
            else:
                held = _plain_day(shown.value)
            if not _is_typed(value, held):
                detail = f"{value!r} as {row.get(column)!r}"
                rehearsal.fail("value that is stored otherwise", name, column, detail)
        return key

    def _compare_cleared(
        self, key: str, form: Form, required: Mapping[str, bool]
    ) -> None:
        row = self.rehearsal.row(self.name, key) or {}
        for column, needed in required.items():
            shown = form.controls[column]
            was_filled = bool(shown.value) and shown.kind != "hidden"
            can_clear = shown.kind != "radio" or "" in shown.offers
            is_back = not is_empty(row.get(column))
            if not needed and was_filled and can_clear and is_back:
                self.rehearsal.fail("cleared value that came back", self.name, column, f"{row[column]!r}")  # fmt: skip

    # What has to be refused

    def _check_refusals(self, typed: Mapping[str, Any]) -> None:
        """Try wrong values, each in a form that was accepted without it: each is refused
        with a message at its field, and nothing is added."""
        rehearsal = self.rehearsal
        form = self._open()
        if form is None:
            return
        tries = list(self._wrong(form))
        rehearsal.chance.shuffle(tries)
        met: Counter[str] = Counter()
        for what, column, value in tries[: rehearsal.limits.violations]:
            fresh = self._open()
            if fresh is None:
                return
            count = rehearsal.probe.count(self.pages.table)
            sent = {**typed, column: value}
            for key, control in fresh.controls.items():
                if control.kind == "file" and key in sent:  # what was sent is closed
                    sent[key] = rehearsal.entries.value(control, {}, {})
            answer = rehearsal.main.post(self.address, fresh.sent(**sent))
            rehearsal.figures.forms += 1
            where = f"{column}: {what}"
            if answer.status not in REFUSALS:
                kind = "wrong value that was accepted" if answer.status == 302 else f"page with status {answer.status}"  # fmt: skip
                rehearsal.fail(kind, self.name, where, f"{value!r}"[:100])
                return  # a record more is there now
            rehearsal.figures.refusals += 1
            if rehearsal.probe.count(self.pages.table) != count:
                rehearsal.fail("refused, and there", self.name, where)
            met[what] += 1
            if column not in owners_of_messages(answer):
                rehearsal.fail("message that is not at its field", self.name, where)

    def _wrong(self, form: Form) -> Iterator[tuple[str, str, Any]]:
        """Yield each mistake in words, the column, and the value."""
        for key, control in form.controls.items():
            if key not in self.pages.fields or control.kind in ("hidden", "file"):
                continue
            if control.required and control.kind not in ("radio", "checkbox"):
                yield "nothing where something is required", key, ""
            yield from _wrong_values(control)
        for columns in self._single_uniques():
            value = self._present(columns)
            if columns in form.controls and value:
                yield "a value that another record has", columns, value

    def _single_uniques(self) -> list[str]:
        package = import_module(f"{self.rehearsal.app.name}.kit.pages.table_pages")
        sets = [each for each in package.unique_sets(self.pages) if len(each) == 1]
        return [key for (key,) in sets if key not in self.pages.lookups]

    def _present(self, column: str) -> str:
        """Return a value that a record holds, "" where forms write it otherwise."""
        texts = ("TextField", "IntegerField", "CodeField")
        kind = type(self.pages.fields.get(column)).__name__
        if kind not in texts or not self.pages.key:
            return ""
        rows = self.rehearsal.sample(self.name).values()
        return next((plain(row[column]) for row in rows if row[column]), "")

    # Deletions

    def delete(self, key: str) -> None:
        """Delete a record that was added; it is gone then, and no other."""
        rehearsal, pages = self.rehearsal, self.pages
        if not pages.offers("delete") or not rehearsal.may("delete", self.name):
            return
        address = f"/t/{self.name}/r/{key}/delete"
        before = rehearsal.probe.count(pages.table)
        is_there = rehearsal.key_values(self.name, key) is not None
        form = rehearsal.open(self.name, address).form("form.bar")
        if form is None or not is_there:
            return
        answer = rehearsal.main.post(address, form.sent())
        rehearsal.figures.writes += 1
        if pages.soft_delete:
            return
        after = rehearsal.probe.count(pages.table)
        is_gone = rehearsal.key_values(self.name, key) is None
        if answer.status != 302 or after != before - 1 or not is_gone:
            detail = f"{answer.status}, {before - after} went"
            rehearsal.fail("record that is not deleted", self.name, address, detail)


def _wrong_values(control: Control) -> Iterator[tuple[str, str, Any]]:
    """Yield mistakes in words, with values that a control takes from nobody."""
    key, given = control.name, control.attributes
    if control.kind == "select" and "data-lookup" not in given and control.offers:
        yield "a choice that there is not", key, "no such choice"
    takes_any = "data-others" in given and "data-whole" not in given
    if "data-lookup" in given and not takes_any:
        yield "a record that there is not", key, "no-such-record"
    if "data-step" in given:
        yield "a text for a number", key, "about seven"
        for name, sign in (("data-lowest", -1), ("data-highest", 1)):
            if name in given:
                step = Decimal(given.get("data-step") or 1)
                yield "a number out of its range", key, f"{Decimal(given[name]) + sign * step:f}"  # fmt: skip
    if given.get("data-date") in ("date", "datetime"):
        yield "a date that there is not", key, "2026-02-31"
    if control.kind in ("text", "textarea") and given.get("maxlength"):
        yield "a text that is too long", key, "x" * (int(given["maxlength"]) + 1)
    if control.kind == "email":
        yield "no e-mail address", key, "nobody at all"


def _as_read(type_: Any, stored: Any) -> Any:
    """Return a value as a column of this type reads it, whose spelling may be its own."""
    spelling = getattr(type_, "spelling", None)
    return stored if spelling is None or stored is None else spelling.read(str(stored))


def _plain_day(shown: str) -> str:
    """Return a date, or moment, as forms show it, in ISO 8601."""
    for pattern, form in _SHOWN_DATES:
        with suppress(ValueError):
            return datetime.strptime(shown.replace("Sept ", "Sep "), pattern).strftime(form)  # fmt: skip
    return shown


def _is_typed(typed: str, stored: Any) -> bool:
    """Tell whether a stored value is the typed one, however it is spelled."""
    if stored is None:
        return False
    if isinstance(stored, bytes):
        stored = stored.decode("utf-8", "replace")
    if isinstance(stored, timedelta):  # of MariaDB, where it is a time of day
        stored = (datetime.min + stored).time()
    text, entered = str(stored), typed.replace("\r\n", "\n").strip()
    if text.replace("\r\n", "\n").strip() == entered or text.lstrip("#") == entered.lstrip("#"):  # fmt: skip
        return True
    try:
        return Decimal(text) == Decimal(entered)
    except InvalidOperation:
        return text.replace(" ", "T").startswith(entered) or text.startswith(entered)
