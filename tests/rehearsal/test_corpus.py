"""Small schemas that nobody here wrote: surveyed, generated, filled and rehearsed as they
are, on the three servers."""

import json
import subprocess
import tempfile
from pathlib import Path
from unittest import mock

from bench import corpus

from tests.support.capabilities import needs
from tests.support.projects import ProjectCase, run_command
from tests.support.servers import MARIADB, POSTGRESQL, run

SCHEMAS = (("zone keys", corpus.FILE), ("name server", corpus.PG), ("network access", corpus.MY))  # fmt: skip


@needs("packages")
@needs("postgresql")
@needs("mariadb")
class CorpusTest(ProjectCase):
    def test_schemas_of_others_are_rehearsed_without_a_failure(self) -> None:
        packages = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.enterContext(mock.patch.object(corpus, "NAME", "lumet_test_corpus"))
        for server in (POSTGRESQL, MARIADB):
            self.addCleanup(run, server, ["DROP DATABASE IF EXISTS lumet_test_corpus"])
        for name, kind in SCHEMAS:
            with self.subTest(schema=name, server=kind):
                schema = next(each for each in corpus.CORPUS if each.name == name)
                try:
                    home = corpus.unpacked(schema, packages)
                except subprocess.CalledProcessError as error:
                    self.skipTest(f"{schema.packages}: {error.stderr.decode()[-200:]}")
                address = corpus.made(
                    kind, corpus.texts_of(schema, kind, home), packages
                )
                folder = packages / name
                folder.mkdir()
                database = Path(address).name if kind == corpus.FILE else corpus.NAME
                self.lumet(folder, "survey", address)
                self.lumet(folder, "generate")
                with (folder / ".env").open("a") as file:
                    file.write(f"DEVELOPMENT_DATABASE='{database}'\n")
                self.lumet(folder, "populate", "--rows", "20", "--yes", database)
                found = json.loads(self.lumet(folder, "rehearse", "--quick", "--json"))
                self.assertEqual(found["failures"], [])
                self.assertGreater(found["figures"]["writes"], 5)
                self.assertGreater(found["figures"]["rows"], 200)

    def lumet(self, folder: Path, *words: str) -> str:
        ran = run_command(*words, cwd=folder, timeout=300)
        self.assertEqual(ran.returncode, 0, f"{words[0]}: {ran.stdout[-2000:]}{ran.stderr[-2000:]}")  # fmt: skip
        return ran.stdout
