"""The house: standard words, and packages that say what they are for."""

import ast
import re
import unittest
from collections.abc import Iterator
from pathlib import Path

TOP = Path(__file__).parents[2]
SOURCE = TOP / "src" / "lumet"
TEXTS = (".py", ".html", ".jinja", ".js", ".css", ".md")

# Names of modules that only their author understood; docs/architecture.md has today's.
MODULES = {
    "acting",
    "activity",
    "addresses",
    "agreeing_",
    "asking",
    "beginnings",
    "blocks",
    "browsing",
    "checking",
    "choosing",
    "choosing_views",
    "columns_",
    "containing",
    "contradicting",
    "deleting",
    "entry_views",
    "following",
    "form_page",
    "here",
    "inferring",
    "keeping",
    "kept",
    "likeness",
    "lines",
    "listing",
    "measures",
    "origin",
    "others",
    "parts",
    "picking",
    "pictures_",
    "refusals",
    "rows",
    "saving",
    "saving_rows",
    "searching",
    "selection",
    "sent",
    "sifting",
    "site",
    "spellings",
    "supplement",
    "times",
    "trails",
    "vocabulary",
}
# Phrases that a reader would have to translate, and the standard ones.
PHRASES = {
    r"return what|tell whether what|yield what": "a noun",
    r"\bhangs? on\b|what hangs": "depends on, dependent records",
    r"take out|taken out|takes out": "export, remove",
    r"for paper": "print",
    r"those chosen|look first": "selected, preview",
    r"forbids it|goes with it|left without it": "prevents deletion, also deleted",
    r"be yourself again|looks? as another": "stop, view as",
    r"keeps? the accounts|keeping the accounts": "manages users",
    r"\bstewards?\b": "administrator",
    r"only they\b|shown as well": "only deleted, include deleted",
    r"is told of|takes? (it|them|others) along": "a verb of the field",
    r"\bsifts?\b|\bsifting\b": "filter",
    r"\bdeeds?\b": "audit event",
    r"written down behind": "recorded",
    r"nobody would": "an active sentence",
}


def sources() -> Iterator[Path]:
    """Yield the texts that people read: code, templates, scripts, documents."""
    for folder in (SOURCE, TOP / "docs"):
        for path in sorted(folder.rglob("*")):
            if path.suffix in TEXTS and "vendor" not in path.parts:
                yield path
    yield TOP / "README.md"


class HouseTest(unittest.TestCase):
    def test_modules_have_the_names_of_the_field(self) -> None:
        found = {path.stem for path in SOURCE.rglob("*.py")}
        self.assertEqual(found & MODULES, set())

    def test_private_words_do_not_come_back(self) -> None:
        for path in sources():
            text = re.sub(r"\s+", " ", path.read_text(encoding="utf-8")).lower()
            for phrase, standard in PHRASES.items():
                with self.subTest(path=str(path.relative_to(TOP)), instead=standard):
                    hit = re.search(phrase, text)
                    self.assertIsNone(
                        hit, text[hit.start() - 40 : hit.end() + 40] if hit else ""
                    )

    def test_servers_are_named_by_their_own_classes_alone(self) -> None:
        names = {"sqlite", "postgresql", "postgres", "mariadb", "mysql"}
        for path in sorted(SOURCE.rglob("*.py")):
            if "dialects" in path.parts:
                continue
            with self.subTest(str(path.relative_to(SOURCE))):
                tree = ast.parse(path.read_text(encoding="utf-8"))
                texts = {n.value for n in ast.walk(tree) if isinstance(n, ast.Constant)}
                self.assertEqual(
                    names & {t for t in texts if isinstance(t, str)}, set()
                )

    def test_addresses_are_made_in_one_module(self) -> None:
        for path in sorted((SOURCE / "kit").rglob("*")):
            if path.suffix in (".py", ".html", ".js") and path.name != "urls.py":
                with self.subTest(str(path.relative_to(SOURCE))):
                    self.assertNotRegex(
                        path.read_text(encoding="utf-8"), r"[\"'`/]t/[<{$]"
                    )

    def test_each_package_says_what_it_is_for(self) -> None:
        for path in sorted(SOURCE.rglob("__init__.py")):
            with self.subTest(str(path.relative_to(SOURCE))):
                said = ast.get_docstring(ast.parse(path.read_text(encoding="utf-8")))
                self.assertRegex(said or "", r"^[A-Z][^.]{10,}")


if __name__ == "__main__":
    unittest.main()
