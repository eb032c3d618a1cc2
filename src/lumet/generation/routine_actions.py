"""The code of actions that call stored procedures and functions."""

from lumet.design.actions import label_of, name_of
from lumet.design.decision_schema import Action, Argument
from lumet.facts.model import Column, Parameter
from lumet.generation.fields import input_code
from lumet.generation.model import Assignment, TableSource, tuple_code

RECORD, EDIT = "record", "edit"  # where an action is, and who may use it, by default


def routine_action_code(source: TableSource, action: Action) -> str:
    """Return an action as code."""
    routine = source.application.database.routine_by_name[action.call]
    label = action.label or action.name.replace("_", " ").capitalize()
    arguments = {each.name: each for each in action.arguments}
    names = [name_of(routine, n) for n in range(len(routine.parameters))]
    parameters = [
        _parameter(source, each, name, arguments.get(name))
        for name, each in zip(names, routine.parameters, strict=True)
    ]
    schema = [repr(routine.schema)] if routine.schema else []
    parts = [
        Assignment("routine", tuple_code((*schema, repr(routine.own_name)))),
        Assignment("is_function", "True" if routine.kind == "function" else ""),
        Assignment("returns", "True" if routine.returns is not None else ""),
        Assignment("rows", "True" if routine.rows else ""),
        Assignment("parameters", tuple_code(parameters)),
        Assignment("by_position", "True" if any(not e.name for e in routine.parameters) else ""),
        Assignment("on", repr(action.on) if action.on != RECORD else ""),
        Assignment("right", repr(action.right) if action.right != EDIT else ""),
        Assignment("roles", tuple_code(map(repr, action.roles))),
        Assignment("question", f"_({action.question!r})" if action.question else ""),
        Assignment("message", f"_({action.message!r})" if action.message else ""),
        Assignment("bulk", "True" if action.bulk else ""),
    ]  # fmt: skip
    inner = ", ".join(f"{each.name}={each.code}" for each in parts if each.code)
    return f"RoutineAction({action.name!r}, _({label!r}), {inner})"


def _parameter(
    source: TableSource, parameter: Parameter, name: str, argument: Argument | None
) -> str:
    parts = [repr(name), repr(parameter.type.native)]
    if parameter.mode != "in":
        parts.append(f"mode={parameter.mode!r}, label=_({label_of(name)!r})")
    if argument is None:
        return f"Parameter({', '.join(parts)})"
    if parameter.optional:
        parts.append("optional=True")
    if argument.field is not None:
        column = Column(name, parameter.type)
        parts.append(f"field={input_code(source, column, argument.field)}")
    elif argument.column:
        parts.append(f"column={source.keys[argument.column]!r}")
    elif argument.user:
        parts.append(f"user={argument.user!r}")
    else:
        parts.append(f"value={argument.value!r}")
    return f"Parameter({', '.join(parts)})"
