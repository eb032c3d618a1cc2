"""The code of the rules over a form's fields."""

from collections.abc import Sequence

from lumet.expressions.check_translation import Tree, read_trees
from lumet.generation.columns import is_stored_otherwise
from lumet.generation.model import TableSource
from lumet.generation.rules import Wording, code_of
from lumet.kinds import KIND_OF


def form_rules(source: TableSource) -> list[str]:
    """Return the rules as code: what the check constraints say and no field says by
    itself, and those decided ones that a form can work out."""
    if source.table.is_view:
        return []
    found = []
    for check in source.table.checks:
        for tree in (
            read_trees(check.text, source.table, source.application.dialect) or ()
        ):
            message = source.decisions.messages.get(check.name, "")
            if not _is_said(source, tree, bool(message)):
                found.append(_rule(source, tree, message, ""))
    for name, each in source.decisions.field.items():
        if each.rule and (trees := _trees(source, each.rule)) is not None:
            found += [_rule(source, tree, each.message, name) for tree in trees]
    return [rule for rule in found if rule]


def database_rules(source: TableSource) -> list[str]:
    """Return the decided rules that only the database can work out, as code: in SQL,
    with the message, at their field."""
    if source.table.is_view:
        return []
    found = []
    for name, each in source.decisions.field.items():
        if each.rule and _trees(source, each.rule) is None:
            message = each.message or f"This condition is not met: {each.rule}"
            condition = each.rule.replace(":", "\\:")
            key = source.keys[name]
            found.append(f"DatabaseRule({key!r}, {condition!r}, _({message!r}))")
    return found


def _trees(source: TableSource, rule: str) -> tuple[Tree, ...] | None:
    """Return a decided rule as trees, None where the form has not all its columns."""
    trees = read_trees(rule, source.table, source.application.dialect)
    return trees if trees is not None and _has_fields(source, trees) else None


def _is_said(source: TableSource, tree: Tree, has_message: bool) -> bool:
    """Tell whether a field says a check by itself: a choice; the bounds of a number,
    unless the check has a message of its own."""
    names = list(dict.fromkeys(tree.columns()))
    if not names or not _has_fields(source, (tree,)):
        return True  # or no form could: the database does
    if len(names) > 1:
        return False
    decided = source.decisions.field[names[0]]
    kind = KIND_OF[decided.kind]
    if tree.kind == "one of":
        return kind.names_values(decided)
    if not kind.is_number or has_message:
        return False
    compared = tree.parts if tree.kind == "and" else (tree,)
    return all(
        each.kind == "compare"
        and each.value in (">=", "<=")
        and [part.kind for part in each.parts] == ["column", "number"]
        for each in compared
    )


def _has_fields(source: TableSource, trees: Sequence[Tree]) -> bool:
    """Tell whether all columns of some trees are in the form, stored as they are."""
    names = {name for tree in trees for name in tree.columns()}
    return all(
        KIND_OF[each.kind].in_rules
        and not (each.hidden or each.storage_format)
        and not is_stored_otherwise(source.table.column(name), each)
        for name in names
        for each in (source.decisions.field[name],)
    )


def _rule(source: TableSource, tree: Tree, message: str, at: str) -> str:
    names = list(dict.fromkeys(tree.columns()))
    if not names:
        return ""
    keys, fields = source.keys, source.decisions.field
    labels = {name: each.label for name, each in fields.items()}
    choices = {name: each.choices for name, each in fields.items()}
    text = message or Wording(source.table, labels, choices).message(tree)
    places = [keys[name] for name in names if name != at] + ([keys[at]] if at else [])
    listed = ", ".join(repr(each) for each in places)
    code = code_of(tree, keys, folds=source.server.like_ignores_case)
    return f"Rule({code}, _({text!r}), ({listed},))"
