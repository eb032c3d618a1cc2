"""From any name in a database to a Python identifier that cannot clash."""

import ast
import keyword
import re
from collections.abc import Collection, Iterable
from importlib.resources import files

from anyascii import anyascii

_ODD = re.compile(r"\W+")
_CAMEL = re.compile(r"(?<=[a-z0-9])(?=[A-Z])")
_KEYWORDS = {*keyword.kwlist, *keyword.softkwlist}

_KIT = files("lumet") / "kit"


def _names_in(module: str, owner: str) -> set[str]:
    """Return the names in the body of a class of a kit module: read as text, since the
    kit is not imported."""
    tree = ast.parse((_KIT / module).read_text(encoding="utf-8"))
    found: set[str] = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.ClassDef) and node.name == owner:
            for each in node.body:
                if isinstance(each, ast.FunctionDef):
                    found.add(each.name)
                elif isinstance(each, ast.Assign):
                    found |= {t.id for t in each.targets if isinstance(t, ast.Name)}
                elif isinstance(each, ast.AnnAssign) and isinstance(
                    each.target, ast.Name
                ):
                    found.add(each.target.id)
    return found


def exports(module: str) -> frozenset[str]:
    """Return the names that a kit module offers: of its `__all__`, of those modules that
    it imports whole, or all of its own that are public."""
    tree = ast.parse((_KIT / module).read_text(encoding="utf-8"))
    found: set[str] = set()
    for node in tree.body:
        if isinstance(node, ast.ImportFrom) and node.names[0].name == "*":
            folder = module.rpartition("/")[0]
            found |= exports(f"{folder}/{node.module}.py")
        elif isinstance(node, ast.ImportFrom) and node.module is None:
            found |= {each.name for each in node.names}
        if isinstance(node, ast.Assign) and ast.unparse(node.targets[0]) == "__all__":
            found |= set(ast.literal_eval(node.value))
    if found:
        return frozenset(found)
    own = (n.name for n in tree.body if isinstance(n, ast.ClassDef | ast.FunctionDef))
    return frozenset(name for name in own if not name.startswith("_"))


# A table's name is that of a module and begins that of a variable: no other name in the
# module is written in this way, so that only Python itself reserves some.
MODULE_NAMES = frozenset(_KEYWORDS)

# What WTForms' Form and ours hold. Helpers are classes, or functions of the module
# `rules`, which is used outside of classes alone: no column's name can shadow them.
FIELD_NAMES = frozenset(
    {
        *_KEYWORDS,
        *_names_in("forms/base.py", "RecordForm"),
        "l",  # a stranger's linter calls it ambiguous
        "csrf_token",
        # of WTForms' Form
        *("data", "errors", "form_errors", "meta", "populate_obj", "process"),
        *("post_process", "validate"),
    }
)
MAX_LENGTH = 80  # characters; a table's is a file's name
_VALIDATOR_PREFIXES = ("validate_", "filter_")  # methods of these names are called


def python_names(names: Iterable[str], reserved: Collection[str]) -> dict[str, str]:
    """Give each of `names`, in order, an identifier of its own.

    Identifiers are lower case, in ASCII, begin with a letter and are none of
    `reserved`. Names that become the same are numbered; one that is its own identifier
    keeps it.
    """
    listed = list(names)
    taken: dict[str, str] = {}
    for name in listed:
        if _identifier(name, reserved) == name:
            taken[name] = name
    used = set(taken)
    for name in listed:
        if name not in taken:
            taken[name] = _unused(_identifier(name, reserved), used)
            used.add(taken[name])
    return {name: taken[name] for name in listed}


def _unused(wanted: str, used: Collection[str]) -> str:
    number = 2
    found = wanted
    while found in used:
        found = f"{wanted.rstrip('_')}_{number}"
        number += 1
    return found


def _identifier(name: str, reserved: Collection[str]) -> str:
    plain = anyascii(_CAMEL.sub("_", name))
    word = _ODD.sub("_", plain).strip("_").lower()[:MAX_LENGTH].rstrip("_")
    if not word.isidentifier():
        word = f"n{word}" if word else "unnamed"
    if word in reserved or word.startswith(_VALIDATOR_PREFIXES):
        return f"{word}_"
    return word


def class_name(identifier: str) -> str:
    """Return an identifier as the first part of a class's name."""
    return "".join(part[:1].upper() + part[1:] for part in identifier.split("_"))
