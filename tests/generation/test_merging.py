"""Merging: nothing of a person's is lost, nothing that is generated goes missing
silently."""

import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from lumet.generation.merging import merge

LINES = [f"line {n}\n".encode() for n in range(12)]
edits = st.dictionaries(
    st.integers(0, len(LINES) - 1), st.sampled_from(["change", "delete", "insert"])
)


def edited(edits: dict[int, str], by: bytes) -> bytes:
    """Return the lines with some changed, deleted, or with a line put before them."""
    found = []
    for number, line in enumerate(LINES):
        kind = edits.get(number, "")
        if kind == "insert":
            found.append(b"%s inserted %d\n" % (by, number))
        if kind != "delete":
            found.append(
                b"%s changed %d\n" % (by, number) if kind == "change" else line
            )
    return b"".join(found)


class MergingTest(unittest.TestCase):
    @settings(max_examples=400, deadline=None)
    @given(mine=edits, new=edits)
    def test_every_edit_of_both_sides_is_in_the_text_or_in_a_conflict(
        self, mine: dict[int, str], new: dict[int, str]
    ) -> None:
        before, ours, theirs = b"".join(LINES), edited(mine, b"P"), edited(new, b"G")
        merged = merge(ours, before, theirs)
        for number, kind in mine.items():
            if kind != "delete":
                word = {"change": b"changed", "insert": b"inserted"}[kind]
                self.assertIn(b"P %s %d\n" % (word, number), merged.text)
            elif not merged.lines:
                self.assertNotIn(LINES[number], merged.text)
        wanted = [line for line in theirs.splitlines() if line.startswith(b"G ")]
        for line in wanted:
            self.assertIn(line, merged.generated)
            self.assertTrue(line in merged.text or merged.lines)
        if not merged.lines:
            self.assertEqual((merged.text, merged.base), (merged.generated, theirs))
        again = merge(merged.text, merged.base, theirs)
        self.assertEqual(
            len(again.lines), len(merged.lines), "open until it is settled"
        )
        self.assertEqual(again.text, merged.text)
        taken = merge(merged.generated, merged.base, theirs)
        self.assertEqual((taken.text, taken.lines), (merged.generated, ()))

    def test_sides_that_agree_or_change_alone_do_not_conflict(self) -> None:
        for mine, before, new, text in (
            (b"a\nB\nc\n", b"a\nb\nc\n", b"a\nB\nc\n", b"a\nB\nc\n"),
            (b"a\r\nm\r\nb\r\n", b"a\nb\n", b"a\nb\nc\n", b"a\r\nm\r\nb\r\nc\r\n"),
            (b"", b"a\n", b"a\n", b""),
            (b"x", b"", b"", b"x"),
        ):
            self.assertEqual((merge(mine, before, new).text, merge(mine, before, new).lines), (text, ()))  # fmt: skip
