"""Walks over applications on databases as they are elsewhere: nothing is lost, altered,
shown or open that should not be."""

import unittest
from typing import Any, ClassVar

from tests.support.capabilities import needs
from tests.support.probe import Probe
from tests.support.projects import ApplicationCase, make_database
from tests.support.schemas import habits, old_style
from tests.support.servers import MARIADB, POSTGRESQL, OnServer
from tests.support.walker import Limits, Walker


class Walk:
    """A walk over one database; not a test by itself. `TOLERATED` says what may be met,
    and why, by kind and table."""

    KIND: ClassVar[str] = "sqlite"
    LIMITS: ClassVar[Limits] = Limits()
    TOLERATED: ClassVar[dict[tuple[str, str], str]] = {}

    def setUp(self: Any) -> None:
        super().setUp()
        self.app.config["WTF_CSRF_ENABLED"] = True

    def test_walk(self: Any) -> None:
        probe = Probe(getattr(self, "address", str(getattr(self, "path", ""))))
        figures = Walker(self.app, probe, limits=self.LIMITS).walk()
        print(figures.line(type(self).__name__))
        faults = [str(f) for f in figures.faults if (f.kind, f.table) not in self.TOLERATED]  # fmt: skip
        self.assertEqual(faults, [])
        self.assertGreater(figures.writes, 0)


class HabitsWalk(Walk, ApplicationCase):
    @classmethod
    def make(cls) -> str:
        script = ";\n".join(habits(cls.KIND))
        cls.path = make_database(cls.folder / "coast.db", script)
        return str(cls.path)


class OldStyleWalk(Walk, ApplicationCase):
    LIMITS = Limits(records=2, forms=1, titles=2, choices=2, orders=4)

    @classmethod
    def make(cls) -> str:
        script = ";\n".join(old_style(cls.KIND))
        cls.path = make_database(cls.folder / "coast.db", script)
        return str(cls.path)


class ServerWalk(Walk, OnServer):
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
    # on MariaDB a zero day IS NULL where the column takes none
    TOLERATED = {("rows of a filter", "zero_day"): "the server's own comparison"}


@needs("postgresql")
class PostgresqlOldStyleWalk(ServerWalk, ApplicationCase):
    SERVER, KIND, DATABASE = POSTGRESQL, "postgresql", "lumet_test_old"
    SCRIPT_OF = staticmethod(old_style)
    LIMITS = Limits(records=1, forms=1, titles=1, choices=1, orders=1)


@needs("mariadb")
class MariadbOldStyleWalk(ServerWalk, ApplicationCase):
    SERVER, KIND, DATABASE = MARIADB, "mariadb", "lumet_test_old"
    SCRIPT_OF = staticmethod(old_style)
    LIMITS = Limits(records=1, forms=1, titles=1, choices=1, orders=1)


if __name__ == "__main__":
    unittest.main()
