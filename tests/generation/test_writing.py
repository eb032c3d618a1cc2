"""Writing: nothing of a person's is lost, nothing is half-written."""

import json
import subprocess
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from lumet.errors import CannotRun
from lumet.generation import merge_writer
from lumet.generation.merge_writer import (
    BASES,
    MANIFEST,
    STAGING,
    Conflict,
    Written,
    finish,
    write_generated,
)

BASE = b"one = 1\n\ntwo = 2\n\nthree = 3\n"
OPEN = [Conflict("app/light.py", (3,))]


class WritingTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.file = self.folder / "app" / "light.py"

    def write(self, content: bytes = BASE, **more: bytes) -> Written:
        wanted = {"app/light.py": content} | {
            f"app/{name}.py": text for name, text in more.items()
        }
        return write_generated(
            self.folder, wanted, {"app/custom.py": b"mine\n"}, {"lumet": "1"}
        )

    def everything(self) -> dict[str, bytes]:
        return {str(p): p.read_bytes() for p in self.folder.rglob("*") if p.is_file()}

    def test_writing_twice_changes_nothing(self) -> None:
        self.assertEqual(
            sorted(self.write().written), ["app/custom.py", "app/light.py"]
        )
        before = self.everything()
        stamps = {path: Path(path).stat().st_mtime_ns for path in before}
        self.assertTrue(self.write().is_quiet)
        self.assertEqual(self.everything(), before)
        self.assertEqual(
            {path: Path(path).stat().st_mtime_ns for path in before}, stamps
        )

    def test_your_edit_is_merged_with_what_is_new(self) -> None:
        self.write()
        self.file.write_bytes(BASE.replace(b"one = 1", b"one = 'mine'"))
        (self.folder / "app" / "custom.py").write_bytes(b"changed\n")
        report = self.write(BASE.replace(b"three = 3", b"three = 33"))
        self.assertEqual(report.merged, ["app/light.py"])
        self.assertEqual(
            self.file.read_bytes(), b"one = 'mine'\n\ntwo = 2\n\nthree = 33\n"
        )
        self.assertEqual((self.folder / "app" / "custom.py").read_bytes(), b"changed\n")

    def test_a_conflict_leaves_yours_until_you_settle_it(self) -> None:
        self.write()
        mine = BASE.replace(b"two = 2", b"two = 'mine'")
        new = BASE.replace(b"two = 2", b"two = 22")
        copy = self.folder / "app" / "light.py.conflict"
        self.file.write_bytes(mine)
        for _ in range(2):
            self.assertEqual(self.write(new).conflicts, OPEN)
            self.assertEqual(self.file.read_bytes(), mine)
            self.assertIn(b"-two = 'mine'\n+two = 22\n", copy.read_bytes())
        later = new.replace(b"three = 3", b"three = 33")
        mine = mine.replace(b"three = 3", b"three = 33")
        self.assertEqual(self.write(later).conflicts, OPEN)
        self.assertEqual(self.file.read_bytes(), mine, "all else is merged")
        copy.unlink()
        report = self.write(later)
        self.assertEqual((report.conflicts, report.settled), ([], ["app/light.py"]))
        self.assertEqual(self.file.read_bytes(), mine)
        self.assertTrue(self.write(later).is_quiet)
        self.assertEqual(self.write(BASE.replace(b"2", b"222")).conflicts, OPEN)

    def test_a_conflict_is_settled_by_taking_what_is_generated(self) -> None:
        self.write()
        self.file.write_bytes(b"# mine\n" + BASE.replace(b"two = 2", b"two = 'mine'"))
        new = BASE.replace(b"two = 2", b"two = 22")
        (conflict,) = self.write(new).conflicts
        self.assertEqual(conflict, Conflict("app/light.py", (4,)))
        subprocess.run(
            ["git", "apply", "app/light.py.conflict"], cwd=self.folder, check=True
        )
        report = self.write(new)
        self.assertEqual((report.settled, report.total), (["app/light.py"], 2))
        self.assertEqual(self.file.read_bytes(), b"# mine\n" + new)
        self.assertEqual([*self.folder.rglob("*.conflict")], [])
        self.assertTrue(self.write(new).is_quiet)

    def test_a_merge_that_is_no_python_is_a_conflict(self) -> None:
        self.write(b"x = (\n    1,\n\n\n\n)\n")
        self.file.write_bytes(b"x = [\n    1,\n\n\n\n]\n")
        report = self.write(b"x = (\n    1,\n\n    2,\n\n)\n")
        self.assertEqual((report.conflicts, report.merged), ([], ["app/light.py"]))
        self.file.write_bytes(
            b"x = [\n    1,\n\n    2,\n\n)\n"
        )  # yours does not compile
        mine, new = self.file.read_bytes(), b"x = (\n    0,\n\n    2,\n\n)\n"
        self.assertEqual(self.write(new).conflicts, [Conflict("app/light.py", (1,))])
        self.assertEqual(self.file.read_bytes(), mine)

    def test_what_a_file_was_generated_as_may_be_missing(self) -> None:
        self.write()
        mine = BASE.replace(b"one", b"eins")
        self.file.write_bytes(mine)
        (self.folder / BASES / "app/light.py").unlink()
        report = self.write(BASE + b"four = 4\n")
        self.assertEqual(report.conflicts, [Conflict("app/light.py", (1,))])
        self.assertEqual(self.file.read_bytes(), mine)

    def test_what_is_no_longer_generated_goes_unless_edited(self) -> None:
        self.write(old=b"a = 1\n", edited=b"b = 1\n")
        (self.folder / "app" / "edited.py").write_bytes(b"b = 'mine'\n")
        report = self.write()
        self.assertEqual(
            (report.removed, report.kept), (["app/old.py"], ["app/edited.py"])
        )
        self.assertFalse((self.folder / "app" / "old.py").exists())
        self.assertTrue((self.folder / "app" / "edited.py").exists())

    def test_a_file_that_was_there_before_is_kept(self) -> None:
        self.file.parent.mkdir()
        self.file.write_bytes(b"theirs\n")
        self.assertEqual(self.write().kept, ["app/light.py"])
        self.assertEqual(self.file.read_bytes(), b"theirs\n")

    def test_a_run_killed_at_any_step_is_finished_or_undone(self) -> None:
        """Let the n-th file operation fail, for every n, then look what the next command
        finds: all of the old files, or all of the new ones."""
        self.write(b"a = 1\n", other=b"b = 1\n")
        before = self.everything()
        seen = set()
        for step in range(40):
            calls = iter(range(1000))
            real_replace, real_write = Path.replace, merge_writer._write

            def fail(real, calls=calls, step=step):
                def call(*arguments):
                    if next(calls) == step:
                        raise KeyboardInterrupt
                    return real(*arguments)

                return call

            with (
                mock.patch.object(Path, "replace", fail(real_replace)),
                mock.patch.object(merge_writer, "_write", fail(real_write)),
            ):
                try:
                    self.write(b"a = 2\n", other=b"b = 2\n")
                except KeyboardInterrupt:
                    pass
                else:
                    break
            finish(self.folder)
            self.assertFalse((self.folder / STAGING).exists())
            texts = (
                self.file.read_bytes(),
                (self.folder / "app" / "other.py").read_bytes(),
            )
            self.assertIn(texts, [(b"a = 1\n", b"b = 1\n"), (b"a = 2\n", b"b = 2\n")])
            digests = json.loads((self.folder / MANIFEST).read_bytes())["files"]
            self.assertEqual(digests["app/light.py"], merge_writer.digest_of(texts[0]))
            seen.add(texts)
            for path, content in before.items():
                Path(path).write_bytes(content)
        self.assertEqual(len(seen), 2)

    def test_a_folder_that_cannot_be_written_says_so(self) -> None:
        (self.folder / ".lumet").write_text("in the way")
        with self.assertRaises(CannotRun) as caught:
            self.write()
        self.assertIn("cannot be written", str(caught.exception))
        self.assertFalse(self.file.exists())
