"""Rewriting a decision file: only the machine's lines change, yours never.

The rules that were found to hold:

- a key is decided when a plain key equals it, is a prefix of it or begins with it;
  the inferred line is then dropped;
- a new line goes behind its predecessor in canonical order, else below its heading,
  else, in the root, behind the leading comments;
- a dotted plain key forbids a heading of the same name, so lines of that section are
  written dotted where the plain key stands;
- a machine line that is neither what was last written nor what would be written now
  is a person's edit: it is kept, and reported.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from lumet.design.decision_schema import Entry
from lumet.design.toml_statements import (
    BYTE_ORDER_MARK,
    MARK,
    Path,
    Statement,
    format_key,
    format_value,
    scan,
    without_doubled,
)


@dataclass(frozen=True, slots=True)
class Edited:
    """A machine line that a person changed in place, which decides nothing."""

    line: int
    text: str


@dataclass(frozen=True, slots=True)
class Rewritten:
    """The new text, and the machine lines in it that a person changed."""

    text: str
    edited: tuple[Edited, ...] = ()


def machine_line(entry: Entry, section: Path) -> str:
    """Return the line for `entry` in `section`, without its line end."""
    key = format_key(entry.path[len(section) :])
    line = f"{MARK} {key} = {format_value(entry.value)}"
    # TOML takes no control character in a comment, and names may hold some
    reason = "".join(
        c if c.isprintable() else "?" for c in " ".join(entry.reason.split())
    )
    return f"{line}  # {reason}" if reason else line


def table_comment(kind: str, table: str) -> str:
    """Return the comment at the head of a table's decision file."""
    printable = "".join(c if c.isprintable() else "?" for c in table)
    return (
        f'# How {kind} "{printable}" appears in the application.\n'
        f'# Lines with "{MARK}" are inferred and follow the database.'
        " Write a line without it to decide yourself.\n\n"
    )


def without_machine_lines(text: str) -> str:
    """Return the text without the machine's lines; its headings stay, for what a person
    wrote below them."""
    return "".join(e.text for e in scan(text) if not e.machine or e.kind == "heading")


def new_file(comment: str, entries: Sequence[Entry]) -> str:
    """Return the text of a decision file that has no line of a person's yet."""
    return rewrite(comment, entries, ()).text


def rewrite(text: str, entries: Sequence[Entry], before: Iterable[Entry]) -> Rewritten:
    """Bring the machine's lines in `text` up to `entries`, in their order.

    `before` are the entries of the last writing, which tell a person's edit of a
    machine line from the machine's own.
    """
    mark = BYTE_ORDER_MARK if text.startswith(BYTE_ORDER_MARK) else ""
    sheet = _Sheet(text.removeprefix(mark), entries, before)
    sheet.drop_or_replace()
    sheet.insert_missing()
    sheet.drop_empty_headings()
    joined = "".join(statement.text for statement in sheet.statements)
    return Rewritten(mark + joined, tuple(sheet.edited))


def set_plain(text: str, key: str, value: object) -> str:
    """Return the text with a person's own line for `key` in the root, as that person
    asked for on the command line; an older one is replaced."""
    statements = scan(text)
    end = "\r\n" if "\r\n" in text else "\n"
    line = f"{format_key((key,))} = {format_value(value)}{end}"
    for place, each in enumerate(statements):
        if each.kind == "pair" and not each.machine and each.path == (key,):
            statements[place] = replace(each, text=line)
            return "".join(statement.text for statement in statements)
    place = 0
    while place < len(statements) and statements[place].kind in ("comment", "blank"):
        place += 1
    before = "".join(statement.text for statement in statements[:place])
    return before + line + "".join(statement.text for statement in statements[place:])


def set_decision(text: str, path: Path, value: object) -> str:
    """Return the text of a decision file with a person's own line for the key at
    `path`, where a person would write it: in the place of an older one or of the
    machine's, else below the heading of its section, else in a new section at the
    end."""
    statements = scan(text)
    end = "\r\n" if "\r\n" in text else "\n"
    found = [
        (each.machine, place)
        for place, each in enumerate(statements)
        if each.kind == "pair" and each.path == path
    ]
    if found:
        place = min(found)[1]
        section = statements[place].section
        line = f"{format_key(path[len(section) :])} = {format_value(value)}{end}"
        statements[place] = replace(statements[place], text=line)
        return "".join(each.text for each in statements)
    line = f"{format_key(path[-1:])} = {format_value(value)}{end}"
    headings = [
        (each.machine, place)
        for place, each in enumerate(statements)
        if each.kind == "heading" and each.path == path[:-1] and len(path) > 1
    ]
    if headings:  # a person's before the machine's, which gives way to it
        place = min(headings)[1]
        head = "".join(s.text for s in statements[: place + 1])
        return head + line + "".join(s.text for s in statements[place + 1 :])
    if len(path) == 1:
        return set_plain(text, path[0], value)
    start = text if not text or text.endswith("\n") else text + end
    return f"{start}{end}[{format_key(path[:-1])}]{end}{line}"


class _Sheet:
    """The statements of one file while they are being rewritten."""

    def __init__(
        self, text: str, entries: Sequence[Entry], before: Iterable[Entry]
    ) -> None:
        self.statements = without_doubled(scan(text))
        self.line_end = "\r\n" if "\r\n" in text else "\n"
        plain = [each for each in self.statements if not each.machine and each.path]
        self.decided = {each.path for each in plain if each.kind == "pair"}
        self.dotted = {
            each.path[:length]: each.section
            for each in plain
            if each.kind == "pair"
            for length in range(len(each.section) + 1, len(each.path))
        }
        self.entries = {
            entry.path: entry for entry in entries if not self._is_decided(entry.path)
        }
        self.order = {entry.path: place for place, entry in enumerate(entries)}
        self.before = {entry.path: entry for entry in before}
        self.edited: list[Edited] = []

    def _is_decided(self, path: Path) -> bool:
        return any(
            path[: len(plain)] == plain or plain[: len(path)] == path
            for plain in self.decided
        )

    def drop_or_replace(self) -> None:
        """Replace machine lines in place, drop those no longer wanted."""
        kept: list[Statement] = []
        seen: set[Path] = set()
        for statement in self.statements:
            if statement.kind != "pair" or not statement.machine:
                kept.append(statement)
                continue
            new = self.entries.get(statement.path)
            if self._is_a_persons(statement, new):
                line = statement.text.strip()
                self.edited.append(Edited(statement.line, line))
                seen.add(statement.path)
                kept.append(statement)
            elif new is not None and statement.path not in seen:
                seen.add(statement.path)
                text = self._end(machine_line(new, statement.section))
                kept.append(replace(statement, text=text))
        self.statements = kept
        self.missing = [
            entry for path, entry in self.entries.items() if path not in seen
        ]

    def _is_a_persons(self, statement: Statement, new: Entry | None) -> bool:
        last = self.before.get(statement.path)
        known = [
            machine_line(entry, statement.section)
            for entry in (last, new)
            if entry is not None
        ]
        return bool(known) and statement.text.strip() not in known

    def _end(self, line: str) -> str:
        return line + self.line_end

    def insert_missing(self) -> None:
        for entry in self.missing:
            home = self.dotted.get(entry.section, entry.section)
            if home and not self._is_open(home):
                self._open(home, entry)
            statement = Statement(
                "pair",
                self._end(machine_line(entry, home)),
                0,
                home,
                entry.path,
                machine=True,
            )
            self._insert(self._place_for(entry, home), [statement])

    def _is_open(self, section: Path) -> bool:
        return any(
            each.kind == "heading" and each.path == section for each in self.statements
        )

    def _open(self, section: Path, entry: Entry) -> None:
        heading = Statement(
            "heading",
            self._end(f"[{format_key(section)}]  {MARK}"),
            0,
            section,
            section,
            machine=True,
        )
        blank = Statement("blank", self.line_end, 0, section)
        self._insert(self._end_of_section_before(entry), [blank, heading])

    def _insert(self, place: int, new: list[Statement]) -> None:
        if place and not self.statements[place - 1].text.endswith("\n"):
            last = self.statements[place - 1]
            self.statements[place - 1] = replace(last, text=last.text + self.line_end)
        self.statements[place:place] = new

    def _end_of_section_before(self, entry: Entry) -> int:
        """Return where a new heading goes: after the section of the nearest entry that
        comes earlier in canonical order, else behind the root."""
        place_of_entry = self.order[entry.path]
        best, best_place = -1, 0
        for place, each in enumerate(self.statements):
            order = self.order.get(each.path, -1) if each.kind == "pair" else -1
            if best < order < place_of_entry:
                best, best_place = order, place
        section = self.statements[best_place].section if best >= 0 else ()
        end = 0
        for place, each in enumerate(self.statements):
            if each.section == section:
                end = place + 1
        while end and self.statements[end - 1].kind == "blank":
            end -= 1
        return end

    def _place_for(self, entry: Entry, home: Path) -> int:
        place_of_entry = self.order[entry.path]
        best, best_place = -1, -1
        for place, each in enumerate(self.statements):
            if each.kind == "pair" and each.section == home:
                order = self.order.get(each.path, -1)
                if best < order < place_of_entry:
                    best, best_place = order, place
        if best_place >= 0:
            return best_place + 1
        if home:
            return 1 + next(
                place
                for place, each in enumerate(self.statements)
                if each.kind == "heading" and each.path == home
            )
        return self._after_leading_comments()

    def _after_leading_comments(self) -> int:
        place = 0
        while place < len(self.statements) and self.statements[place].kind == "comment":
            place += 1
        if place and place < len(self.statements):
            place += self.statements[place].kind == "blank"
        return place

    def drop_empty_headings(self) -> None:
        """Drop the machine's headings with nothing below."""
        kept: list[Statement] = []
        for place, each in enumerate(self.statements):
            below = []
            if each.kind == "heading" and each.machine:
                for later in self.statements[place + 1 :]:
                    if later.kind == "heading":
                        break
                    below.append(later)
            empty = all(later.kind == "blank" for later in below)
            if each.kind == "heading" and each.machine and empty:
                if kept and kept[-1].kind == "blank":
                    kept.pop()
                continue
            kept.append(each)
        self.statements = kept
