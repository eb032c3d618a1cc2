"""The statements of a decision file, found by scanning and never by prefix alone.

A line that begins with `#~`, a blank, a dotted key and `=` is the machine's; a heading
that ends in `#~` too. Everything else belongs to the person who wrote it.
"""

import json
import re
import tomllib
from dataclasses import dataclass
from functools import lru_cache
from typing import Literal

StatementKind = Literal["blank", "comment", "heading", "pair"]
Path = tuple[str, ...]

MARK = "#~"
BYTE_ORDER_MARK = "\ufeff"
_BARE = re.compile(r"[A-Za-z0-9_-]+")
_DOTTED_KEY = re.compile(
    r"""\s*(?:[A-Za-z0-9_-]+|"(?:[^"\\]|\\.)*"|'[^']*')"""
    r"""(?:\s*\.\s*(?:[A-Za-z0-9_-]+|"(?:[^"\\]|\\.)*"|'[^']*'))*\s*"""
)
_BARE_DOTTED = re.compile(r"[A-Za-z0-9_-]+(?:\.[A-Za-z0-9_-]+)*")
_MACHINE_LINE = re.compile(r"[ \t]*#~[ \t](?=[^#])")
_ENCODE = json.JSONEncoder(ensure_ascii=False).encode
_LINES = re.compile(r"[^\n]*\n|[^\n]+\Z")  # never splitlines(): it splits at U+2028


@dataclass(frozen=True, slots=True)
class Statement:
    """One statement: its text with line ends, the line it starts on (from 1), the
    section it stands in, and for headings and pairs the full path of its key."""

    kind: StatementKind
    text: str
    line: int
    section: Path
    path: Path = ()
    machine: bool = False


def split_lines(text: str) -> list[str]:
    """Split at line feeds only, keeping them."""
    return _LINES.findall(text)


def scan(text: str) -> list[Statement]:
    """Return the statements of `text` in order; joined, their texts are `text`.

    Never fails: invalid TOML is left to the TOML parser to reject.
    """
    lines = split_lines(text)
    statements: list[Statement] = []
    section: Path = ()
    position = 0
    while position < len(lines):
        end = position + 1
        line = lines[position]
        bare = line.strip().lstrip(BYTE_ORDER_MARK)
        if not bare:
            found = Statement("blank", line, position + 1, section)
        elif bare.startswith("#"):
            found = _comment(line, position + 1, section)
        elif bare.startswith("["):
            section = _heading_path(bare)
            machine = bare.endswith(MARK)
            found = Statement("heading", line, position + 1, section, section, machine)
        else:
            end = _value_end(lines, position)
            whole = "".join(lines[position:end])
            path = section + (_key_path(bare) or ())
            found = Statement("pair", whole, position + 1, section, path)
        statements.append(found)
        position = end
    return statements


def without_doubled(statements: list[Statement]) -> list[Statement]:
    """Return the statements without the machine's headings that a plain heading of the
    same name, or a plain dotted key through it, made superfluous, and without the
    machine's lines below them. One with a person's key below it stays: what is meant by
    it cannot be known."""
    written = [e for e in statements if e.path and not e.machine]
    plain = {e.path for e in written if e.kind == "heading"}
    plain |= {
        e.path[:length]
        for e in written
        if e.kind == "pair"
        for length in range(len(e.section) + 1, len(e.path))
    }
    kept: list[Statement] = []
    block: list[Statement] = []
    for statement in [*statements, None]:
        if statement is None or statement.kind == "heading":
            head = block[0] if block else None
            if head is None or not _is_doubled(head, block[1:], plain):
                kept.extend(block)
            block = []
        if statement is not None:
            block.append(statement)
    return kept


def _is_doubled(head: Statement, below: list[Statement], plain: set[Path]) -> bool:
    if head.kind != "heading" or not head.machine or head.path not in plain:
        return False
    return all(e.machine or e.kind == "blank" for e in below)


def _comment(line: str, number: int, section: Path) -> Statement:
    start = _MACHINE_LINE.match(line)
    path = _key_path(line[start.end() :]) if start else None
    if path is None:
        return Statement("comment", line, number, section)
    return Statement("pair", line, number, section, section + path, machine=True)


def _key_path(text: str) -> Path | None:
    """Return the dotted key that `text` begins with, None unless `=` follows it."""
    key = _DOTTED_KEY.match(text)
    if key is None or not text.startswith("=", key.end()):
        return None
    return _parse_key(key[0].strip())


@lru_cache(maxsize=100_000)
def _parse_key(key: str) -> Path | None:
    if _BARE_DOTTED.fullmatch(key):
        return tuple(key.split("."))
    try:
        return _only_path(tomllib.loads(key + " = 0"))
    except tomllib.TOMLDecodeError:
        return None


def _heading_path(bare: str) -> Path:
    inside = _DOTTED_KEY.match(bare.lstrip("["))
    return (_parse_key(inside[0].strip()) if inside else None) or ()


def _only_path(parsed: dict[str, object]) -> Path:
    path: list[str] = []
    inner: object = parsed
    while isinstance(inner, dict):
        key, inner = next(iter(inner.items()))
        path.append(key)
    return tuple(path)


def _value_end(lines: list[str], start: int) -> int:
    """Return the line after the value that begins on line `start`."""
    depth = 0
    quote = ""
    for position in range(start, len(lines)):
        text = lines[position]
        at = text.find("=") + 1 if position == start and '"' not in text[:1] else 0
        while at < len(text):
            at, depth, quote = _step(text, at, depth, quote)
        if quote in ("'", '"'):  # a one-line string that never ends is no TOML
            quote = ""
        if depth <= 0 and not quote:
            return position + 1
    return len(lines)


def _step(text: str, at: int, depth: int, quote: str) -> tuple[int, int, str]:
    character = text[at]
    if quote:
        if character == "\\" and quote.startswith('"'):
            return at + 2, depth, quote
        if text.startswith(quote, at):
            return at + len(quote), depth, ""
        return at + 1, depth, quote
    if character in "\"'":
        long = character * 3
        opened = long if text.startswith(long, at) else character
        return at + len(opened), depth, opened
    if character == "#":
        return len(text), depth, quote
    if character in "[{":
        return at + 1, depth + 1, quote
    if character in "]}":
        return at + 1, depth - 1, quote
    return at + 1, depth, quote


def format_key(path: Path) -> str:
    """Write a dotted key, quoting what is not bare."""
    return ".".join(
        part if _BARE.fullmatch(part) else _format_text(part) for part in path
    )


def format_value(value: object) -> str:
    """Write a value as TOML, on one line."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, str):
        return _format_text(value)
    if isinstance(value, dict):
        inner = ", ".join(
            f"{format_key((key,))} = {format_value(item)}"
            for key, item in value.items()
        )
        return f"{{ {inner} }}" if inner else "{}"
    if isinstance(value, list | tuple):
        return "[" + ", ".join(format_value(item) for item in value) + "]"
    return repr(value)


def _format_text(text: str) -> str:
    # JSON's strings are TOML's basic strings, but for DEL and lone surrogates
    plain = text.encode("utf-8", "replace").decode("utf-8")
    return _ENCODE(plain).replace("\x7f", "\\u007f")
