"""Decision files: the machine's lines follow, a person's stay byte for byte."""

import tomllib
import unittest
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from lumet.design.decision_schema import Entry
from lumet.design.rewriting import new_file, rewrite, set_decision
from lumet.design.toml_statements import format_value, scan

COMMENT = "# How table x appears.\n\n"


def entry(path: str, value: Any, reason: str = "") -> Entry:
    return Entry(tuple(path.split("/")), value, reason)


FIRST = (
    entry("singular", "Light", "from the table's name"),
    entry("plural", "Lights"),
    entry("list/columns", ["a", "b"], "short"),
    entry("field/a/label", "A"),
    entry("field/a/kind", "text", "declared as TEXT"),
    entry("field/b.c/label", "B"),
)


class RewritingTest(unittest.TestCase):
    def test_a_decision_is_set_where_a_person_would_write_it(self) -> None:
        text = new_file(COMMENT, FIRST)
        for path, value, old, new in (
            ("plural", "Lamps", '#~ plural = "Lights"\n', 'plural = "Lamps"\n'),
            ("field/a/label", "Own", '#~ label = "A"\n', 'label = "Own"\n'),
            ("field/a/hidden", True, "[field.a]  #~\n", "[field.a]  #~\nhidden = true\n"),
            ("list/columns", ["b"], '#~ columns = ["a", "b"]  # short\n', 'columns = ["b"]\n'),
        ):  # fmt: skip
            done = set_decision(text, tuple(path.split("/")), value)
            self.assertEqual(done, text.replace(old, new, 1), path)
            again = set_decision(done, tuple(path.split("/")), value)
            self.assertEqual(again, done)
            tomllib.loads(rewrite(done, FIRST, FIRST).text)
        done = set_decision(text, ("field", "new one", "help"), "h")
        self.assertEqual(done, f'{text}\n[field."new one"]\nhelp = "h"\n')

    def test_a_new_file_shows_every_decision_with_its_reason(self) -> None:
        self.assertEqual(
            new_file(COMMENT, FIRST),
            COMMENT
            + '#~ singular = "Light"  # from the table\'s name\n'
            + '#~ plural = "Lights"\n'
            + '\n[list]  #~\n#~ columns = ["a", "b"]  # short\n'
            + '\n[field.a]  #~\n#~ label = "A"\n#~ kind = "text"  # declared as TEXT\n'
            + '\n[field."b.c"]  #~\n#~ label = "B"\n',
        )

    def test_a_decided_key_loses_its_inferred_line_and_gets_it_back(self) -> None:
        text = new_file(COMMENT, FIRST)
        mine = text.replace('#~ plural = "Lights"', 'plural = "Lamps"  # ours')
        self.assertEqual(rewrite(mine, FIRST, FIRST).text, mine)
        self.assertEqual(
            rewrite(mine.replace('plural = "Lamps"  # ours\n', ""), FIRST, FIRST).text,
            text,
        )

    def test_a_person_s_lines_stay_whatever_they_look_like(self) -> None:
        mine = (
            "\ufeff# top\r\n#~note mine\r\n#~) mine too\r\n"
            "help = '''\r\n#~ singular = \"in a text\"\r\n[not.a.heading]\r\n'''\r\n"
            '[field.a]\r\nhelp = "x\\u2028 # no comment" # one\r\n'
            'many = [ # opened\r\n  "]", #~ x = 1\r\n]\r\nlast = 1'
        )
        made = rewrite(mine, FIRST, ()).text
        kept = [line for line in mine.split("\r\n") if line]
        self.assertEqual([line for line in made.split("\r\n") if line in kept], kept)
        self.assertIn('#~ label = "A"\r\n', made)
        self.assertEqual(made.count("[field.a]"), 1)
        self.assertEqual(rewrite(made, FIRST, FIRST).text, made)

    def test_a_dotted_key_forbids_a_heading(self) -> None:
        made = rewrite('field.a.label = "Mine"\n', FIRST, ()).text
        self.assertNotIn("[field.a]", made)
        self.assertIn('#~ field.a.kind = "text"', made)
        tomllib.loads(made)

    def test_an_inline_table_decides_all_below_it(self) -> None:
        made = rewrite('field = { a = { label = "Mine" } }\n', FIRST, ()).text
        self.assertNotIn("#~ label", made)
        tomllib.loads(made)

    def test_an_edit_in_a_machine_line_is_kept_and_reported(self) -> None:
        text = new_file(COMMENT, FIRST).replace('"Lights"', '"Lamps"')
        made = rewrite(text, FIRST, FIRST)
        self.assertEqual(made.text, text)
        self.assertEqual(
            [(e.line, e.text) for e in made.edited], [(4, '#~ plural = "Lamps"')]
        )

    def test_what_is_gone_goes_and_what_changed_changes(self) -> None:
        fewer = (entry("singular", "Lamp", "renamed"), *FIRST[2:3])
        made = rewrite(new_file(COMMENT, FIRST), fewer, FIRST)
        self.assertEqual(made.text, new_file(COMMENT, fewer))
        self.assertEqual(made.edited, ())


KEYS = st.sampled_from(["a", "b", "list", "x y", "é", 'q"', "a.b", "1"])
PATHS = st.lists(KEYS, min_size=1, max_size=3).map(tuple)
VALUES = st.one_of(
    st.text(max_size=12).filter(lambda text: text.isprintable() or text == "\u2028"),
    st.booleans(),
    st.integers(-99, 99),
    st.lists(st.sampled_from(["p", "q'", '"']), max_size=3),
)


def consistent(entries: list[tuple[tuple[str, ...], Any]]) -> tuple[Entry, ...]:
    """Drop entries whose path begins another's: TOML has no value that is a table."""
    kept: list[Entry] = []
    for path, value in entries:
        clash = any(
            e.path[: len(path)] == path or path[: len(e.path)] == e.path for e in kept
        )
        if not clash:
            kept.append(Entry(path, value, "why not"))
    kept.sort(key=lambda e: (len(e.path) > 1, e.section))
    return tuple(kept)


ENTRIES = st.lists(st.tuples(PATHS, VALUES), max_size=7).map(consistent)
NOTES = st.lists(
    st.sampled_from(["# mine", "", "#~ ", "#~) x", "   # indented"]), max_size=4
)


class PropertyTest(unittest.TestCase):
    @settings(max_examples=300, deadline=None)
    @given(ENTRIES, ENTRIES, NOTES, st.sampled_from(["\n", "\r\n"]), st.data())
    def test_your_bytes_survive_any_change_of_the_schema(
        self,
        first: tuple[Entry, ...],
        second: tuple[Entry, ...],
        notes: list[str],
        end: str,
        data: Any,
    ) -> None:
        """Decide some keys, survey A → B → A: your values and lines stay, the file stays
        TOML, and writing twice is writing once."""
        text = new_file("# top\n\n", first).replace("\n", end)
        lines = text.split(end)
        for place, line in enumerate(lines):
            if line.startswith("#~ ") and data.draw(st.booleans()):
                lines[place] = line.removeprefix("#~ ")
        at = data.draw(st.integers(0, len(lines)))
        mine = end.join([*lines[:at], *notes, *lines[at:]])
        before = tomllib.loads(mine)
        plain = [s.text for s in scan(mine) if not s.machine and s.kind != "blank"]
        there = rewrite(mine, second, first).text
        back = rewrite(there, first, second).text
        for made in (there, back):
            found = tomllib.loads(made)
            self.assertEqual(_without_empty(found), _without_empty(before))
            kept = [s.text for s in scan(made) if not s.machine and s.kind != "blank"]
            self.assertEqual([t.strip() for t in kept], [t.strip() for t in plain])
        self.assertEqual(rewrite(back, first, first).text, back)

    @settings(deadline=None)
    @given(VALUES)
    def test_values_are_written_as_toml_reads_them(self, value: Any) -> None:
        self.assertEqual(tomllib.loads(f"x = {format_value(value)}")["x"], value)


def _without_empty(value: Any) -> Any:
    """Headings alone make empty tables, which decide nothing."""
    if not isinstance(value, dict):
        return value
    inner = {key: _without_empty(each) for key, each in value.items()}
    return {key: each for key, each in inner.items() if each != {}}
