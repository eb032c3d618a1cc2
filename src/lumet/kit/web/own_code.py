"""Loading your own code from `custom/`, with every mistake found at start: files and
classes that belong to nothing, and names and signatures that nothing would call."""

import importlib
import inspect
from collections.abc import Collection, Iterator, Mapping
from difflib import SequenceMatcher, get_close_matches
from pathlib import Path
from types import ModuleType
from typing import Any

from flask import Blueprint

from ..common.exceptions import CannotStart
from ..common.settings import OwnSetting
from ..pages.actions import LIST, ActionCall
from ..pages.menu import MenuEntry
from ..pages.table_pages import TablePages

ALIKE = 0.85  # of two names, from where one is taken for the other misspelt
# what custom/__init__.py may define, by name, with the type of each item
_LISTS: Mapping[str, type] = {
    "BLUEPRINTS": Blueprint,
    "MENU": MenuEntry,
    "SETTINGS": OwnSetting,
}
# methods that were called before, and those that are now
_FORMER = {"before_save": "write(self, change), which may set change.values"}


class OwnCode:
    """Your own code of one application. Raises CannotStart with all mistakes."""

    def __init__(
        self, package: str, folder: Path, tables: Mapping[str, type[TablePages]]
    ) -> None:
        self._package, self._folder = package, folder
        self._mistakes: list[str] = []
        self.pages = {**tables}
        modules = [path for path in sorted(folder.glob("*.py")) if path.stem[:1] != "_"]
        for path in modules:
            if path.stem in tables:
                self.pages[path.stem] = self._of_table(path, tables[path.stem])
            else:
                self._say_unknown(path, tables)
        found = self._listed()
        self.blueprints: tuple[Blueprint, ...] = found["BLUEPRINTS"]
        self.menu: tuple[MenuEntry, ...] = found["MENU"]
        self.settings: tuple[OwnSetting, ...] = found["SETTINGS"]
        if self._mistakes:
            raise CannotStart("\n".join(self._mistakes))

    def _say(self, path: Path, line: int, problem: str) -> None:
        place = path.relative_to(self._folder.parent.parent).as_posix()
        self._mistakes.append(f"{place}:{line}: {problem}")

    def _say_unknown(self, path: Path, tables: Mapping[str, Any]) -> None:
        near = get_close_matches(path.stem, tables, n=1, cutoff=0.5)
        hint = f" Nearest: {near[0]}." if near else ""
        self._say(
            path, 1,
            f"There is no table {path.stem}.{hint} Begin the name of a module of another"
            " kind with an underscore, or put it into a folder.",
        )  # fmt: skip

    def _of_table(self, path: Path, generated: type[TablePages]) -> type[TablePages]:
        """Return the class of a table's pages, with the subclasses of `custom/TABLE.py`
        in the place of the generated ones."""
        module = importlib.import_module(f"{self._package}.custom.{path.stem}")
        own = [*_subclasses(module, generated)]
        forms = [*_subclasses(module, generated.form)]
        for classes, what in ((own, "pages"), (forms, "form")):
            for second in classes[1:]:
                problem = f"{second.__name__} is a second class for the {what} of {path.stem}."
                self._say(path, _line_of(second), problem)
        if not own and not forms:
            names = f"{generated.__name__} or {generated.form.__name__}"
            self._say(path, 1, f"No class here is a subclass of {names}.")
        pages = own[0] if own else generated
        self._check_names(path, pages, generated)
        if forms and not issubclass(pages.form, forms[0]):
            pages = type(pages.__name__, (pages,), {"form": forms[0]})
        return pages

    def _check_names(
        self, path: Path, own: type[TablePages], generated: type[TablePages]
    ) -> None:
        """Report what the class defines and nothing would call: names that are nearly
        known, methods with other parameters, and actions without their method."""
        known = [name for name in dir(generated) if not name.startswith("_")]
        actions = {each.name for each in own.actions}
        computed = {each.name for each in own.computed_columns}
        for name, value in vars(own).items():
            if name.startswith("_") or name in actions | computed:
                continue
            if name in _FORMER:
                problem = f"{name} is not called any more: override {_FORMER[name]}."
                self._say(path, _line_of(value, own), problem)
            elif name not in known:
                near = max(known, key=lambda each: _likeness(name, each))
                if _likeness(name, near) >= ALIKE:
                    problem = f"{own.__name__} has {name}, which nothing calls. Nearest: {near}."
                    self._say(path, _line_of(value, own), problem)
            elif inspect.isfunction(value):
                expected = _parameters(getattr(generated, name))
                if expected is not None and _parameters(value) != expected:
                    problem = f"{name} takes other parameters: write def {name}({', '.join(expected)})."
                    self._say(path, _line_of(value, own), problem)
        for each in own.actions:
            if each.bulk and (each.asked or each.on == LIST):
                problem = f"The action {each.name} asks for something, or is on lists: it cannot be a bulk action."
                self._say(path, _line_with(path, "actions"), problem)
        call, values = f"call: {ActionCall.__name__}", "values: Mapping[str, Any]"
        self._check_methods(path, own, actions, "an action", call)
        self._check_methods(path, own, computed, "a computed column", values)

    def _check_methods(
        self,
        path: Path,
        own: type[TablePages],
        names: Collection[str],
        what: str,
        takes: str,
    ) -> None:
        """Report names that have no method, or one with other parameters."""
        for name in sorted(names):
            method = getattr(own, name, None)
            if not callable(method):
                problem = (
                    f"{own.__name__} has {what} {name}, but no method of this name."
                )
                self._say(path, _line_of(own), problem)
            elif len(_parameters(method) or ()) != 2:
                problem = (
                    f"{name} takes other parameters: write def {name}(self, {takes})."
                )
                self._say(path, _line_of(method, own), problem)

    def _listed(self) -> dict[str, tuple[Any, ...]]:
        """Return the lists of custom/__init__.py."""
        module = importlib.import_module(f"{self._package}.custom")
        path = self._folder / "__init__.py"
        for name in vars(module):
            if name.isupper() and name not in _LISTS:
                near = max(_LISTS, key=lambda each: _likeness(name, each))
                if _likeness(name, near) >= ALIKE:
                    problem = f"Nothing reads {name}. Nearest: {near}."
                    self._say(path, _line_with(path, name), problem)
        found = {}
        for name, kind in _LISTS.items():
            value = getattr(module, name, ())
            if not isinstance(value, tuple | list) or not all(
                isinstance(each, kind) for each in value
            ):
                problem = f"{name} is a tuple of {kind.__name__}."
                self._say(path, _line_with(path, name), problem)
            found[name] = tuple(value) if isinstance(value, tuple | list) else ()
        return found


def _subclasses(module: ModuleType, base: type) -> Iterator[Any]:
    """Yield the classes that a module itself defines below another, in their order."""
    for each in vars(module).values():
        is_own = inspect.isclass(each) and each.__module__ == module.__name__
        if is_own and issubclass(each, base) and each is not base:
            yield each


def _parameters(method: Any) -> list[str] | None:
    try:
        return [*inspect.signature(method).parameters]
    except (TypeError, ValueError):
        return None  # no method: an attribute


def _likeness(one: str, other: str) -> float:
    if abs(len(one) - len(other)) > 2:
        return 0.0
    return SequenceMatcher(None, one, other).ratio()


def _line_of(value: Any, owner: type | None = None) -> int:
    for each in (value, owner):
        try:
            return inspect.getsourcelines(each)[1]  # type: ignore[arg-type]
        except (OSError, TypeError):
            continue
    return 1


def _line_with(path: Path, name: str) -> int:
    lines = path.read_text("utf-8").split("\n")
    return next(
        (n for n, each in enumerate(lines, 1) if each.strip().startswith(name)), 1
    )
