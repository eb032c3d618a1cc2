"""Renamed tables and columns in modules that a person edited: the names are changed in
the module and in what it was generated as alike, so that the edits are merged with what
is generated next."""

import io
import json
import tokenize
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from lumet.generation.merge_writer import (
    BASES,
    MANIFEST,
    PENDING,
    Change,
    digest_of,
    keep_inside,
    read_bytes,
    read_manifest,
)
from lumet.generation.merging import CONFLICT
from lumet.generation.names import class_name

_PARTS = ("Columns", "Form", "Pages", "Formulas")


class EditedModules:
    """The modules of the tables of an application while renames are followed."""

    def __init__(self, folder: Path, package: str) -> None:
        self.folder, self.home = folder, f"{package}/tables"
        self.manifest: dict[str, Any] = read_manifest(folder / MANIFEST)
        self.digests: dict[str, str] = self.manifest.get("files", {})
        self.contents: dict[str, bytes | None] = {}

    def rename_table(self, old: str, new: str) -> None:
        """Follow the renaming of a table, by the names of its modules."""
        before, after = f"{self.home}/{old}.py", f"{self.home}/{new}.py"
        if before in self.digests and after not in self.digests:
            self._move(before, after)
        words = {f"{old}_table": f"{new}_table"}
        words |= {class_name(old) + part: class_name(new) + part for part in _PARTS}
        for path in self._edited():
            names = words if path == after else {}
            self._rewrite(path, lambda text, n=names: _renamed(text, n, {old: new}))  # type: ignore[misc]

    def rename_column(self, table: str, old: str, new: str) -> None:
        """Follow the renaming of a column, by its key in the code, in the module of its
        table."""
        path = f"{self.home}/{table}.py"
        if path in self._edited():
            self._rewrite(path, lambda text: _renamed(text, {old: new}, {old: new}))

    def changes(self) -> list[Change]:
        """Return the changes of files that follow."""
        if not self.contents:
            return []
        self.manifest["files"] = dict(sorted(self.digests.items()))
        text = json.dumps(self.manifest, indent=1) + "\n"
        found = [Change(MANIFEST, text.encode())]
        return found + [
            Change(path, content) for path, content in self.contents.items()
        ]

    def _read(self, path: str) -> bytes | None:
        if path in self.contents:
            return self.contents[path]
        keep_inside(self.folder, path, MANIFEST)
        return read_bytes(self.folder / path)

    def _edited(self) -> list[str]:
        """Return the modules of tables that differ from what was generated."""
        paths = [p for p in self.digests if p.startswith(f"{self.home}/")]
        found = []
        for path in paths:
            content = self._read(path)
            if content is not None and digest_of(content) != self.digests[path]:
                found.append(path)
        return found

    def _move(self, before: str, after: str) -> None:
        for path, target in (
            (before, after),
            (f"{BASES}/{before}", f"{BASES}/{after}"),
        ):
            self.contents[target], self.contents[path] = self._read(path), None
        self.digests[after] = self.digests.pop(before)
        pending: list[str] = self.manifest.get("pending", [])
        self.manifest["pending"] = [path for path in pending if path != before]
        self.contents[before + CONFLICT] = None
        self.contents[f"{PENDING}/{before}"] = None

    def _rewrite(self, path: str, change: Callable[[bytes], bytes]) -> None:
        base = self._read(f"{BASES}/{path}")
        content = self._read(path)
        if base is None or content is None:
            return
        new, mine = change(base), change(content)
        if (new, mine) == (base, content):
            return
        self.contents[f"{BASES}/{path}"], self.contents[path] = new, mine
        self.digests[path] = digest_of(new)


def _renamed(
    module: bytes, names: Mapping[str, str], texts: Mapping[str, str]
) -> bytes:
    """Return a module with other names, and with other texts where a text is one of
    these, or names one in braces. What is no Python stays as it is."""
    text = module.decode()
    try:
        tokens = list(tokenize.generate_tokens(io.StringIO(text).readline))
    except (tokenize.TokenError, SyntaxError, IndentationError):
        return module
    lines = text.splitlines(keepends=True)
    for token in reversed(tokens):
        new = token.string
        if token.type == tokenize.NAME:
            new = names.get(token.string, token.string)
        elif token.type == tokenize.STRING and token.start[0] == token.end[0]:
            inner = token.string[1:-1]
            if inner in texts:
                new = token.string[0] + texts[inner] + token.string[-1]
            for old, other in texts.items():
                new = new.replace(f"{{{old}}}", f"{{{other}}}")
        if new != token.string:
            row, start = token.start[0] - 1, token.start[1]
            lines[row] = lines[row][:start] + new + lines[row][token.end[1] :]
    return "".join(lines).encode()
