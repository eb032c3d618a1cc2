"""From any name in a database to a Python identifier that cannot clash."""

import builtins
import keyword
import re
from collections.abc import Collection, Iterable

from anyascii import anyascii

_ODD = re.compile(r"\W+")
_CAMEL = re.compile(r"(?<=[a-z0-9])(?=[A-Z])")
_KEYWORDS = {*keyword.kwlist, *keyword.softkwlist}

# Every lower-case name that a generated module uses, and the built-in ones.
MODULE_NAMES = frozenset(
    {
        *_KEYWORDS,
        *(name for name in dir(builtins) if name.islower()),
        "metadata",
        "required",
        "longest",
        "within",
        "ascending",
        "descending",
        "text",
        *(
            "all_of",
            "any_of",
            "compare",
            "filled",
            "fixed",
            "length",
            "like",
            "none_of",
        ),
        *("number", "one_of", "reckon", "the"),
    }
)

# What WTForms' Form and ours hold, and what would shadow a helper in the class's body.
FIELD_NAMES = frozenset(
    {
        *_KEYWORDS,
        "l",  # a stranger's linter calls it ambiguous
        "add_error",
        "csrf_token",
        "data",
        "decimal",
        "errors",
        "form_errors",
        "is_new",
        "longest",
        "meta",
        "mistakes",
        "populate_obj",
        "post_process",
        "process",
        "required",
        "rules",
        "text",
        "validate",
        "value_fields",
        "within",
    }
)
_VALIDATOR_PREFIXES = ("validate_", "filter_")  # methods of these names are called


def python_names(names: Iterable[str], reserved: Collection[str]) -> dict[str, str]:
    """Give each of `names`, in order, an identifier of its own.

    Identifiers are lower case, in ASCII, begin with a letter and are none of `reserved`.
    Names that become the same are numbered; one that is its own identifier keeps it.
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
    word = _ODD.sub("_", plain).strip("_").lower()
    if not word.isidentifier():
        word = f"n{word}" if word else "unnamed"
    if word in reserved or word.startswith(_VALIDATOR_PREFIXES):
        return f"{word}_"
    return word


def class_name(identifier: str) -> str:
    """Return an identifier as the first part of a class's name."""
    return "".join(part[:1].upper() + part[1:] for part in identifier.split("_"))
