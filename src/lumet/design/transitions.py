"""Reading decisions about transitions: `[transitions.COLUMN]`."""

from typing import Any

from lumet.design.decision_schema import Transition
from lumet.design.value_types import COLUMNS, CONDITION, Scope

Path = tuple[str, ...]
_KEYS = ("label", "from", "to", "roles", "where", "fields")
_EXAMPLE = 'finish = { from = ["planned"], to = "done" }'


def read_transitions(
    scope: Scope, path: Path, value: Any
) -> tuple[Transition, ...] | None:
    """Return the transitions of one column; None for mistakes, which are reported."""
    if not scope.column(path, path[1]):
        return None
    if not isinstance(value, dict) or not value:
        scope.checker.wrong(path, f"Write [transitions.{path[1]}] above {_EXAMPLE}.")
        return None
    found = [_one(scope, (*path, name), item) for name, item in value.items()]
    kept = tuple(each for each in found if each is not None)
    return kept if len(kept) == len(found) else None


def _one(scope: Scope, path: Path, item: Any) -> Transition | None:
    checker, name = scope.checker, path[-1]
    before = len(checker.mistakes)
    if not isinstance(item, dict) or "from" not in item or "to" not in item:
        checker.wrong(path, f"Write a transition as {_EXAMPLE}.")
        return None
    if not (name.isascii() and name.isidentifier()) or name.startswith("_"):
        checker.wrong(path, f'"{name}" is not a name: use letters, digits and _.')
    for key in item:
        checker.known((*path, key), key, _KEYS, "A transition has no key")
    texts = {
        key: checker.texts((*path, key), item[key]) or ()
        for key in ("from", "roles")
        if key in item
    }
    for key in ("to", "label"):
        if key in item:
            checker.text((*path, key), item[key])
    where = item.get("where", "")
    if where:
        where = CONDITION.read(scope, (*path, "where"), where) or ""
    fields = item.get("fields", [])
    columns = COLUMNS.read(scope, (*path, "fields"), fields) if fields else ()
    if len(checker.mistakes) > before:
        return None
    return Transition(
        name=name,
        column=path[1],
        label=str(item.get("label", "")),
        sources=texts["from"],
        target=str(item["to"]),
        roles=texts.get("roles", ()),
        where=str(where),
        fields=tuple(columns or ()),
    )
