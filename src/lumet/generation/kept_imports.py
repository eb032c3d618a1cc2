"""Imports for lines that a person kept: where the generated code no longer imports a
name that they use, the merged module imports it for them."""

import ast
import json
import re
import subprocess

from ruff import find_ruff_bin

MARK = "  # for lines that you kept"
_MARKED = re.compile(rb"^from [^\n]*" + re.escape(MARK.encode()) + rb"\r?\n", re.MULTILINE)  # fmt: skip
_NAMED = re.compile(r"`([^`]+)`")


def without_kept(module: bytes) -> bytes:
    """Return a module without the imports that were added for kept lines."""
    return _MARKED.sub(b"", module)


def with_kept(merged: bytes, *sources: bytes) -> bytes | None:
    """Return a merged module with an import for each name that it uses and does not
    import, as the first of the `sources`, which are versions of it, does; None where
    none of them knows one."""
    missing = _undefined(merged) - _undefined(sources[0])
    if not missing:
        return merged
    known: dict[str, str] = {}
    for source in reversed(sources):
        known |= _imports(source)
    if not missing <= set(known):
        return None
    lines = merged.decode().splitlines(keepends=True)
    end = "\r\n" if lines and lines[0].endswith("\r\n") else "\n"
    added = [f"from {known[name]} import {name}{MARK}{end}" for name in sorted(missing)]
    place = _end_of_imports(merged)
    return "".join([*lines[:place], *added, *lines[place:]]).encode()


def _undefined(module: bytes) -> set[str]:
    """Return the names that a module uses and nothing defines."""
    command = [find_ruff_bin(), "check", "--isolated", "--no-cache", "--select", "F821",
               "--output-format", "json", "--stdin-filename", "module.py", "-"]  # fmt: skip
    ran = subprocess.run(command, input=module, capture_output=True, check=False)
    try:
        found = json.loads(ran.stdout or b"[]")
    except ValueError:
        return set()
    names = (_NAMED.search(each["message"]) for each in found if each["code"] == "F821")
    return {name[1] for name in names if name is not None}


def _imports(module: bytes) -> dict[str, str]:
    """Return the modules from which a module imports names, by name."""
    try:
        tree = ast.parse(module)
    except (SyntaxError, ValueError):
        return {}
    return {
        alias.name: "." * node.level + (node.module or "")
        for node in tree.body
        if isinstance(node, ast.ImportFrom)
        for alias in node.names
        if alias.asname is None
    }


def _end_of_imports(module: bytes) -> int:
    """Return the number of lines up to the end of the imports at the top."""
    nodes = ast.parse(module).body
    ends = [n.end_lineno or 0 for n in nodes if isinstance(n, ast.Import | ast.ImportFrom)]  # fmt: skip
    return max(ends, default=0)
