"""Walks over applications on databases as they are elsewhere: nothing is lost, altered,
shown or open that should not be."""

import unittest
from collections.abc import Sequence
from typing import Any, ClassVar

from lumet.demo.making import decide_demo, make_demo_database
from lumet.rehearsal.checks import rehearse
from lumet.rehearsal.probe import Probe
from lumet.rehearsal.rehearsal import Choice, Limits, Rehearsal
from tests.application import test_oddities
from tests.facts import test_servers as museums
from tests.support.capabilities import needs
from tests.support.projects import ApplicationCase, make_database
from tests.support.schemas import STEMS, habits, old_style
from tests.support.servers import MARIADB, POSTGRESQL, OnServer, run


def named_by(case: Any, stems: Sequence[str]) -> list[str]:
    """The tables of an application whose names begin with these."""
    begins = tuple(stem.casefold() for stem in stems)
    names = case.app.extensions["site"].registry.pages
    return [name for name in names if name.casefold().startswith(begins)]


class Walk:
    """A walk over one database; not a test by itself."""

    KIND: ClassVar[str] = "sqlite"
    LIMITS: ClassVar[Limits] = Limits()

    def setUp(self: Any) -> None:
        super().setUp()
        self.app.config["WTF_CSRF_ENABLED"] = True

    def only(self) -> list[str]:
        """Return the tables to walk over, [] for all."""
        return []

    def test_walk(self: Any) -> None:
        probe = Probe.at(getattr(self, "address", str(getattr(self, "path", ""))))
        choice = Choice(tables=self.only())
        figures = rehearse(Rehearsal(self.app, probe, limits=self.LIMITS, choice=choice))  # fmt: skip
        print(f"{type(self).__name__}: {figures.line()}")
        failures = [str(each) for each in figures.failures]
        self.assertEqual(failures, [])
        self.assertGreater(figures.writes, 0)


class HabitsWalk(Walk, ApplicationCase):
    LIMITS: ClassVar[Limits] = Limits(records=4, forms=4, titles=2, choices=2, orders=12, links=8, violations=12)  # fmt: skip
    SCRIPT_OF: ClassVar[Any] = staticmethod(habits)

    @classmethod
    def make(cls) -> str:
        script = ";\n".join(cls.SCRIPT_OF(cls.KIND))
        cls.path = make_database(cls.folder / "coast.db", script)
        return str(cls.path)


class OldStyleWalk(HabitsWalk):
    """Every shape of a table five times."""

    SCRIPT_OF = staticmethod(old_style)
    LIMITS = Limits(records=2, forms=1, titles=1, choices=1, orders=2, links=4, violations=5)  # fmt: skip

    def only(self: Any) -> list[str]:
        return named_by(self, STEMS[::3])


class DemoWalk(Walk, ApplicationCase):
    LIMITS = Limits(records=1, forms=1, rows=600, titles=1, choices=1, orders=2, links=4, violations=8)  # fmt: skip

    @classmethod
    def make(cls) -> str:
        cls.path = make_demo_database(cls.folder / "made")
        # as many as an export in every format takes seconds for
        make_database(cls.path, "DELETE FROM lamp_reading WHERE id > 9000")
        return str(cls.path)

    @classmethod
    def decide(cls) -> None:
        decide_demo(cls.folder)


class NamesWalk(Walk, ApplicationCase):
    """Every name that breaks things, a text that is no UTF-8, a reference to nowhere."""

    SCRIPT = test_oddities.SCRIPT


class ServerWalk(Walk, OnServer):
    """On servers less of each table: what does not depend on them, SQLite's walk sees."""

    LIMITS: ClassVar[Limits] = Limits(records=2, forms=3, titles=1, choices=2, orders=4, links=4, violations=6)  # fmt: skip
    SCRIPT_OF: ClassVar[Any] = staticmethod(habits)

    @classmethod
    def script(cls) -> Any:
        return cls.SCRIPT_OF(cls.KIND)


@needs("postgresql")
class PostgresqlHabitsWalk(ServerWalk, ApplicationCase):
    SERVER, KIND, DATABASE = POSTGRESQL, "postgresql", "lumet_test_habits"


@needs("mariadb")
class MariadbHabitsWalk(ServerWalk, ApplicationCase):
    SERVER, KIND, DATABASE = MARIADB, "mariadb", "lumet_test_habits"


class ServerOldStyleWalk(ServerWalk):
    """On servers every shape of a table three times; SQLite's walk sees twice as many."""

    SCRIPT_OF = staticmethod(old_style)
    LIMITS = Limits(records=1, forms=1, titles=1, choices=1, orders=1, links=4, violations=8)  # fmt: skip

    def only(self: Any) -> list[str]:
        return named_by(self, STEMS[::4])


@needs("postgresql")
class PostgresqlOldStyleWalk(ServerOldStyleWalk, ApplicationCase):
    SERVER, KIND, DATABASE = POSTGRESQL, "postgresql", "lumet_test_old"


@needs("mariadb")
class MariadbOldStyleWalk(ServerOldStyleWalk, ApplicationCase):
    SERVER, KIND, DATABASE = MARIADB, "mariadb", "lumet_test_old"


def rooms(museum: Any) -> str:
    """Return the statements of a museum, without its own users, as another database."""
    script = (
        museum.SCRIPT.replace("60000", "600")
        .split(";\nDROP ROLE")[0]
        .split(";\nDROP USER")[0]
    )
    return str(script).replace("lumet_test_isles", "lumet_test_piers")


@needs("postgresql")
class PostgresqlMuseumWalk(ServerWalk, ApplicationCase):
    SERVER, KIND, DATABASE = POSTGRESQL, "postgresql", "lumet_test_rooms"
    LIMITS = Limits(records=3, rows=600, orders=3, links=8, violations=10)
    SCRIPT_OF = staticmethod(lambda _kind: rooms(museums.PostgresqlMuseum))

    def test_generated_code_is_clean(self) -> None:
        self.assert_clean(with_types=False)


@needs("mariadb")
class MariadbMuseumWalk(ServerWalk, ApplicationCase):
    SERVER, KIND, DATABASE = MARIADB, "mariadb", "lumet_test_rooms"
    LIMITS = Limits(records=3, rows=600, orders=3, links=8, violations=10)
    SCRIPT_OF = staticmethod(lambda _kind: rooms(museums.MariadbMuseum))

    @classmethod
    def make(cls) -> str:
        drop = ["DROP DATABASE IF EXISTS lumet_test_piers"]
        cls.addClassCleanup(run, MARIADB, drop)
        return str(super().make())


if __name__ == "__main__":
    unittest.main()
