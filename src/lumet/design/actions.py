"""Reading decisions about actions that call stored procedures and functions:
`[actions.NAME]`."""

import re
from collections.abc import Mapping
from typing import Any

from lumet.design.decision_schema import (
    Action,
    Argument,
    FieldDecisions,
    keys_of,
)
from lumet.design.toml_statements import Path
from lumet.design.value_types import TEXT, YES_NO, Scope, Words
from lumet.facts.model import Parameter, Routine
from lumet.kit.contract import RIGHTS

_TEXT_KEYS = ("call", "label", "question", "message")
_KEYS = (*_TEXT_KEYS, "on", "right", "roles", "bulk", "parameters")
_ON = Words("on", ("record", "list"), "An action is on a record or a list, not on")
_RIGHT = Words("right", RIGHTS, "There is no right")
_OF_INPUTS = ("label", "kind", "help", "unit", "placeholder", "required", "choices",
              "pattern", "message")  # fmt: skip
_FIELD = keys_of(FieldDecisions)
_COLUMN = re.compile(r"\{([^{}]+)\}")
_USER = re.compile(r":user\.(\w+)")
_IN_MESSAGE = re.compile(r"\{(\w+)\}")
RESULT = "result"  # the name of a function's value in a message


def read_action(scope: Scope, path: Path, value: Any) -> Action | None:
    """Return an action; None for mistakes, which are reported."""
    checker, name = scope.checker, path[1]
    before = len(checker.mistakes)
    if not isinstance(value, dict) or "call" not in value:
        checker.wrong(path, f'Write [actions.{name}] above call = "…", the procedure or the function.')  # fmt: skip
        return None
    if not (name.isascii() and name.isidentifier()) or name.startswith("_"):
        checker.wrong(path, f'"{name}" is not a name: use letters, digits and _.')
    for key in value:
        checker.known((*path, key), key, _KEYS, "An action has no key")
    for key in _TEXT_KEYS:
        if key in value:
            TEXT.read(scope, (*path, key), value[key])
    on = _ON.read(scope, (*path, "on"), value.get("on", "record"))
    right = _RIGHT.read(scope, (*path, "right"), value.get("right", "edit"))
    bulk = YES_NO.read(scope, (*path, "bulk"), value.get("bulk", False))
    roles = checker.texts((*path, "roles"), value.get("roles", []))
    routine = _routine(scope, path, value["call"])
    if routine is None or len(checker.mistakes) > before:
        return None
    arguments = _arguments(scope, path, routine, value.get("parameters", {}), str(on))
    _check_message(scope, path, routine, value.get("message", ""))
    if bulk and (on != "record" or any(each.field for each in arguments)):
        problem = (
            "Only an action on records that asks for nothing can be a bulk action."
        )
        checker.wrong((*path, "bulk"), problem)
    if len(checker.mistakes) > before:
        return None
    return Action(
        name=name,
        call=routine.name,
        arguments=arguments,
        label=str(value.get("label", "")),
        question=str(value.get("question", "")),
        message=str(value.get("message", "")),
        on=str(on),
        right=str(right),
        roles=tuple(roles or ()),
        bulk=bool(bulk),
    )


def _routine(scope: Scope, path: Path, name: Any) -> Routine | None:
    assert scope.database is not None
    known = scope.database.routine_by_name
    what = "The database has no procedure and no function"
    if not isinstance(name, str):
        return None
    is_known = scope.checker.known((*path, "call"), name, known, what)
    return known[name] if is_known else None


def _arguments(
    scope: Scope, path: Path, routine: Routine, given: Any, on: str
) -> tuple[Argument, ...]:
    checker = scope.checker
    path = (*path, "parameters")
    if not isinstance(given, dict):
        checker.wrong(path, 'Write parameters as { NAME = "{column}" }.')
        return ()
    taken = {name_of(routine, n): p for n, p in enumerate(routine.parameters) if p.mode != "out"}  # fmt: skip
    for name in given:
        what = f"{routine.name} takes no parameter"
        checker.known((*path, name), name, taken, what)
    return tuple(
        _argument(scope, (*path, name), parameter, given, on)
        for name, parameter in taken.items()
    )


def name_of(routine: Routine, place: int) -> str:
    """Return the name of a parameter by its place; one without a name is p and its
    number, from 1."""
    return routine.parameters[place].name or f"p{place + 1}"


def _argument(
    scope: Scope, path: Path, parameter: Parameter, values: Mapping[str, Any], on: str
) -> Argument:
    """Return the argument for a parameter: one that is not named is asked for."""
    name, checker = path[-1], scope.checker
    value = values.get(name, {})
    if isinstance(value, dict):
        read = {
            key: _FIELD[key].takes.read(scope, (*path, key), item)
            for key, item in value.items()
            if checker.known((*path, key), key, _OF_INPUTS, "A parameter has no key")
        }
        read.setdefault("required", not parameter.optional)
        read.setdefault("label", label_of(name))
        decided = FieldDecisions(**{k: v for k, v in read.items() if v is not None})
        return Argument(name=name, field=decided)
    if isinstance(value, str) and (found := _COLUMN.fullmatch(value)):
        if on != "record":
            checker.wrong(path, "An action on a list has no record whose column it could take.")  # fmt: skip
        scope.column(path, found[1])
        return Argument(name=name, column=found[1])
    if isinstance(value, str) and (found := _USER.fullmatch(value)):
        return Argument(name=name, user=found[1])
    if not isinstance(value, str | int | float):
        checker.wrong(path, f'{name} takes a constant, "{{column}}", ":user.name", or what is asked for, as in {{ label = "…" }}.')  # fmt: skip
    return Argument(name=name, value=value)


def label_of(name: str) -> str:
    """Return the label of a parameter: its name without the beginnings that tell
    parameters from columns."""
    words = re.sub(r"^_*(p|in|inout|par|arg|i)_+", "", name.strip("_"))
    return words.replace("_", " ").strip().capitalize() or name


def _check_message(scope: Scope, path: Path, routine: Routine, message: Any) -> None:
    names = [name_of(routine, n) for n in range(len(routine.parameters))]
    if routine.returns is not None:
        names.append(RESULT)
    for name in _IN_MESSAGE.findall(message if isinstance(message, str) else ""):
        what = f"{routine.name} has no parameter"
        scope.checker.known((*path, "message"), name, names, what)
