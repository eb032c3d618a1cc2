"""Accounts by themselves: users, sessions, links, guessing, the log and the store."""

import sqlite3
import tempfile
import unittest
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any
from unittest import mock

from sqlalchemy import text

from lumet.kit.accounts import invitations, passwords, sessions, throttle, user_rows
from lumet.kit.accounts import store as stores
from lumet.kit.accounts import users as accounts
from lumet.kit.accounts.audit_log import (
    Actor,
    AuditEvent,
    AuditLog,
    AuditQuery,
    recorded,
)
from lumet.kit.accounts.outbox import Message, Outbox
from lumet.kit.accounts.passwords import AccountError
from lumet.kit.accounts.store import open_store
from lumet.kit.accounts.throttle import TooManyFailures
from lumet.kit.accounts.user_rows import AccountPolicy
from lumet.kit.accounts.users import Users
from lumet.kit.common.exceptions import CannotStart
from tests.support.capabilities import needs
from tests.support.servers import MARIADB, POSTGRESQL, make_server_database

PASSWORD = "seven lamps on the bar"
# The store as the first version made it, with one user in it.
VERSION_1 = """
CREATE TABLE store_version (version INTEGER NOT NULL);
INSERT INTO store_version VALUES (1);
CREATE TABLE app_user (id INTEGER {number}, name VARCHAR(80) NOT NULL,
    folded VARCHAR(80) NOT NULL UNIQUE, password VARCHAR(200) NOT NULL,
    stamp VARCHAR(40) NOT NULL, disabled BOOLEAN NOT NULL, created_at {moment} NOT NULL,
    PRIMARY KEY (id));
CREATE TABLE user_role (user_id INTEGER NOT NULL REFERENCES app_user (id) ON DELETE CASCADE,
    role VARCHAR(80) NOT NULL, PRIMARY KEY (user_id, role));
CREATE TABLE sign_in_failure (id INTEGER {number}, folded VARCHAR(80) NOT NULL,
    origin VARCHAR(80) NOT NULL, at {moment} NOT NULL, PRIMARY KEY (id));
CREATE TABLE invitation (token VARCHAR(80) PRIMARY KEY, role VARCHAR(80) NOT NULL,
    expires_at {moment} NOT NULL);
INSERT INTO app_user (id, name, folded, password, stamp, disabled, created_at)
    VALUES (1, 'Ina', 'ina', '{hashed}', 's', FALSE, '2026-01-02 03:04:05');
INSERT INTO user_role VALUES (1, 'administrator');
"""


def clock(moment: datetime) -> Any:
    """Let the accounts believe that it is `moment`."""
    modules = (throttle, sessions, invitations, user_rows, accounts)
    return [mock.patch.object(each, "now", lambda: moment) for each in modules]


class AccountsTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.users = Users(
            self.open(), AccountPolicy(), administrator_roles=["administrator"]
        )

    def open(self) -> Any:
        store = open_store("sqlite:///accounts.db", self.folder)
        self.addCleanup(store.engine.dispose)
        return store

    def at(self, later: timedelta) -> None:
        """Go on in time."""
        for patch in clock(throttle.now() + later):
            patch.start()
            self.addCleanup(patch.stop)

    def test_the_store_is_made_once_and_is_private(self) -> None:
        self.users.add("Ina", PASSWORD, ["administrator"])
        self.assertEqual([a.name for a in Users(self.open()).accounts()], ["Ina"])
        self.assertEqual((self.folder / "accounts.db").stat().st_mode & 0o077, 0)

    def test_a_newer_store_is_refused(self) -> None:
        def add_table(connection: Any) -> None:
            connection.exec_driver_sql("CREATE TABLE later (x)")

        with mock.patch.object(stores, "UPGRADES", (*stores.UPGRADES, add_table)):
            self.open()
        version = len(stores.UPGRADES) + 1
        with sqlite3.connect(self.folder / "accounts.db") as raw:
            found = raw.execute("SELECT version FROM store_version").fetchall()
        self.assertEqual(found, [(version,)])
        with self.assertRaises(CannotStart) as caught:
            self.open()
        self.assertIn(f"version {version}", str(caught.exception))
        # one that runs already goes on: what it knows is still there
        self.users.add("Ina", PASSWORD, ["administrator"])
        self.assertIsNotNone(self.users.sessions.sign_in("ina", PASSWORD, "here"))

    def test_names_and_passwords(self) -> None:
        self.users.add("Ina", PASSWORD, ["administrator", "administrator"])
        stored = self.users.sessions.sign_in("  INA ", PASSWORD, "here")
        assert stored is not None
        self.assertEqual(stored.roles, ("administrator",))
        self.assertIsNone(self.users.sessions.sign_in("ina", "wrong", "here"))
        self.assertIsNone(self.users.sessions.sign_in("nobody", PASSWORD, "here"))
        for name, password in (
            ("ina", PASSWORD),
            ("x", "short"),
            ("tove", "my name is Tove"),
            ("x", "a" * 20),
            ("x", "abcdefghijklmnop"),
            ("x", "zaqwsxzaqwsx"),
            ("x", "passwordpassword"),
            ("x", "!Liverpool2026!!"),
            ("x", "qwertyuiop123456"),
            (" ", PASSWORD),
        ):
            with self.subTest(name, password=password), self.assertRaises(AccountError):
                self.users.add(name, password, ["viewer"])
        raw = b"".join(f.read_bytes() for f in self.folder.glob("accounts.db*"))
        self.assertNotIn(PASSWORD.encode(), raw)
        self.assertNotIn(stored.token.encode(), raw)
        self.assertIn(b"$argon2id$", raw)

    def test_a_new_password_or_disabling_ends_sessions(self) -> None:
        self.users.add("eva", PASSWORD, ["administrator"])
        number = self.users.add("ina", PASSWORD, ["administrator"])
        for end in (
            lambda session: self.users.set_password("ina", PASSWORD),
            lambda session: self.users.sessions.sign_out(session.token),
            lambda session: self.users.sessions.end_sessions(number),
            lambda session: self.users.sessions.end_session(
                number, self.users.sessions.own_session(session)
            ),
            lambda session: self.users.disable("ina"),
        ):
            found = self.users.sessions.sign_in("ina", PASSWORD, "here")
            assert found is not None
            self.assertIsNotNone(self.users.sessions.load(found.get_id()))
            end(found)
            self.assertIsNone(self.users.sessions.load(found.get_id()))
        self.assertIsNone(self.users.sessions.sign_in("ina", PASSWORD, "here"))
        for session in ("", "1", "x.y", "%", "' OR 1=1 --"):
            self.assertIsNone(self.users.sessions.load(session))

    def test_sessions_end_by_rest_and_by_age(self) -> None:
        self.users.add("ina", PASSWORD, ["administrator"])
        rested = self.users.sessions.sign_in("ina", PASSWORD, "here")
        aged = self.users.sessions.sign_in("ina", PASSWORD, "there")
        assert rested is not None
        assert aged is not None
        for _ in range(23):  # used every seven hours, for nearly seven days
            self.at(timedelta(hours=7))
            self.assertIsNotNone(self.users.sessions.load(aged.token))
        self.assertIsNone(self.users.sessions.load(rested.token))
        self.at(timedelta(hours=8))
        self.assertIsNone(self.users.sessions.load(aged.token))

    def test_one_s_own_new_password_keeps_the_present_session(self) -> None:
        self.users.add("ina", PASSWORD, ["administrator"])
        here = self.users.sessions.sign_in("ina", PASSWORD, "here")
        there = self.users.sessions.sign_in("ina", PASSWORD, "there")
        assert here is not None
        assert there is not None
        with self.assertRaises(AccountError):
            self.users.confirm(here, "wrong", "10.0.0.1")
        self.users.confirm(here, PASSWORD, "10.0.0.1")
        self.users.change_password(here, "another long one")
        self.assertIsNotNone(self.users.sessions.load(here.token))
        self.assertIsNone(self.users.sessions.load(there.token))

    def test_the_present_password_cannot_be_guessed_without_end(self) -> None:
        self.at(timedelta())
        self.users.add("ina", PASSWORD, ["administrator"])
        here = self.users.sessions.sign_in("ina", PASSWORD, "10.0.0.1")
        assert here is not None
        for _number in range(4):
            with self.assertRaises(AccountError):
                self.users.confirm(here, "wrong", "10.0.0.1")
        with self.assertRaises(TooManyFailures):
            self.users.confirm(here, PASSWORD, "10.0.0.1")
        self.at(timedelta(minutes=1))
        self.assertIsNotNone(self.users.sessions.load(here.token))
        with self.assertRaises(AccountError):
            self.users.confirm(here, "wrong", "10.0.0.1")
        self.assertIsNone(self.users.sessions.load(here.token), "the session ends")

    def test_names_that_were_in_use_stay_reserved(self) -> None:
        number = self.users.add("ann", PASSWORD, ["viewer"])
        other = self.users.add("bert", PASSWORD, ["viewer"])
        for same in ("ànn", "ANN", "ann "):
            with self.subTest(same), self.assertRaises(AccountError):
                self.users.rename(other, same)
        self.users.rename(number, "anne")
        for taken in ("ann", "Ànn", "anne"):
            with self.subTest(taken), self.assertRaises(AccountError):
                self.users.add(taken, PASSWORD, ["viewer"])
            with self.subTest(taken), self.assertRaises(AccountError):
                self.users.set_display_name(other, taken)
        self.users.rename(number, "ann")
        self.users.set_display_name(other, "Bert the mate")
        with self.assertRaises(AccountError):
            self.users.set_display_name(number, "Bért the Mate")

    def test_guessing_is_slowed_down_and_locks_nobody_out(self) -> None:
        self.at(timedelta())  # the clock stands still, however busy the machine is
        self.users.add("ina", PASSWORD, ["administrator"])
        right = mock.patch.object(
            passwords, "is_correct", side_effect=lambda kept, typed: typed == PASSWORD
        )
        right.start()
        self.addCleanup(right.stop)
        known = self.users.sessions.sign_in("ina", PASSWORD, "10.0.0.1")
        assert known is not None
        self.users.sessions.remember_device(known.id, "a device")
        waits = []
        for _ in range(throttle.FREE):
            self.assertIsNone(self.users.sessions.sign_in("ina", "wrong", "10.9.9.9"))
        for _ in range(6):
            with self.assertRaises(TooManyFailures) as caught:
                self.users.sessions.sign_in("ina", PASSWORD, "10.9.9.9")
            waits.append(caught.exception.seconds)
            self.at(timedelta(seconds=waits[-1]))
            self.assertIsNone(self.users.sessions.sign_in("ina", "wrong", "10.9.9.9"))
        self.assertEqual(waits, [2, 4, 8, 16, 32, 64])
        # from elsewhere, and from the same network with a known device
        self.assertIsNotNone(self.users.sessions.sign_in("ina", PASSWORD, "10.0.0.2"))
        self.assertIsNotNone(
            self.users.sessions.sign_in("ina", PASSWORD, "10.9.9.9", "a device")
        )
        with self.assertRaises(TooManyFailures):
            self.users.sessions.sign_in("ina", PASSWORD, "10.9.9.9", "another")
        # one network over many names, known or not
        for number in range(throttle.FAILURES_PER_NETWORK):
            self.users.sessions.sign_in(f"n{number}", "wrong", "2001:db8::1")
        with self.assertRaises(TooManyFailures):
            self.users.sessions.sign_in("ina", PASSWORD, "2001:db8::2")
        self.at(throttle.NETWORK_WINDOW)
        self.assertIsNotNone(
            self.users.sessions.sign_in("ina", PASSWORD, "2001:db8::2")
        )

    def test_links_work_once_and_not_for_ever(self) -> None:
        old = self.users.invitations.invite_first("administrator")
        token = self.users.invitations.invite_first("administrator")
        self.assertIsNone(self.users.invitations.invited_role(old))
        self.assertNotIn(token.encode(), (self.folder / "accounts.db").read_bytes())
        with self.assertRaises(AccountError):
            self.users.invitations.accept(token, "ina", "short")
        self.users.invitations.accept(token, "ina", PASSWORD)
        self.assertIsNone(self.users.invitations.invited_role(token))
        invited = self.users.invitations.invite("Tove", ["viewer"])
        self.assertIsNone(self.users.sessions.sign_in("tove", "!", "here"))
        self.assertEqual(self.users.invitations.of_link(invited), "Tove")
        with self.assertRaises(AccountError):
            self.users.invitations.use_link(invited, "short")
        self.users.invitations.use_link(invited, PASSWORD)
        self.assertIsNotNone(self.users.sessions.sign_in("tove", PASSWORD, "here"))
        for wrong in (invited, "", "x"):
            with self.assertRaises(AccountError):
                self.users.invitations.use_link(wrong, "another long one")
        late = self.users.invitations.link_for(self.users.find("tove").id)
        self.at(invitations.LINK_LASTS + timedelta(seconds=1))
        self.assertIsNone(self.users.invitations.of_link(late))

    def test_of_several_who_come_at_once_one_is_the_first_user(self) -> None:
        token = self.users.invitations.invite_first("administrator")
        names = ("ina", "eva", "tove", "rolf")

        def accept(name: str) -> bool:
            try:
                self.users.invitations.accept(token, name, PASSWORD)
            except AccountError:
                return False
            return True

        with ThreadPoolExecutor(len(names)) as pool:
            self.assertEqual(sum(pool.map(accept, names)), 1)
        self.assertEqual(len(self.users.accounts()), 1)

    def test_a_link_finds_its_user_under_another_name(self) -> None:
        number = self.users.add("tove", PASSWORD, ["viewer"])
        token = self.users.invitations.link_for(number)
        hashed = passwords.hash_password

        def renamed(password: str) -> str:
            self.users.rename(number, "Tove Marsk")
            return hashed(password)

        with mock.patch.object(passwords, "hash_password", renamed):
            self.users.invitations.use_link(token, "lamps on the seven bars")
        found = self.users.sessions.sign_in(
            "tove marsk", "lamps on the seven bars", "here"
        )
        self.assertIsNotNone(found)

    def test_somebody_always_keeps_the_accounts(self) -> None:
        number = self.users.add("ina", PASSWORD, ["administrator"])
        with self.assertRaises(AccountError):
            self.users.set_roles(number, ["viewer"])
        with self.assertRaises(AccountError):
            self.users.disable("ina")
        self.users.add("eva", PASSWORD, ["administrator"])
        self.users.set_roles(number, ["viewer"])
        with self.assertRaises(AccountError):
            self.users.disable("eva")

    def test_a_change_that_broke_off_is_seen_in_the_log(self) -> None:
        log = AuditLog(self.users.store, days=30)
        who = Actor("ina", 1, "10.0.0.1", "r1")
        with recorded(log) as recording:
            recording.mean(
                who, AuditEvent("add", "light", "7", "Main", changes={"A": (None, "x")})
            )
            recording.begin()
        with suppress(ZeroDivisionError), recorded(log) as recording:
            recording.mean(who, AuditEvent("edit", "light", "7"))
            recording.begin()
            raise ZeroDivisionError
        log.begin([(who, AuditEvent("delete", "light", "7"))])  # and the machine stops
        self.assertEqual(log.unfinished(), 0)
        with mock.patch(
            "lumet.kit.accounts.audit_log.now",
            lambda: throttle.now() + timedelta(minutes=2),
        ):
            self.assertEqual(log.unfinished(), 1)
        found = log.read(AuditQuery(), 10)
        self.assertEqual([e.state for e in found], ["begun", "failed", "done"])
        self.assertEqual(found[2].event.changes, {"A": (None, "x")})
        self.assertEqual(
            [e.event.kind for e in log.each(AuditQuery(kind="edit"), 1)], ["edit"]
        )
        later = mock.patch(
            "lumet.kit.accounts.audit_log.now",
            lambda: throttle.now() + timedelta(days=31),
        )
        with later:
            log._swept = None
            log.note(who, AuditEvent("sign-in"))
            self.assertEqual(
                [e.event.kind for e in log.read(AuditQuery(), 10)], ["sign-in"]
            )


class StoreTest(unittest.TestCase):
    """Every version that there ever was is brought up to date, wherever it is kept."""

    def check(self, url: str, folder: Path) -> None:
        store = open_store(url, folder)
        self.addCleanup(store.engine.dispose)
        open_store(url, folder).engine.dispose()  # a second start changes nothing
        users = Users(store)
        found = users.sessions.sign_in("ina", PASSWORD, "here")
        assert found is not None
        self.assertEqual(found.roles, ("administrator",))
        users.set_attributes(found.id, {"district": "NR"})
        users.set_profile(found.id, "de", "Europe/Berlin")
        users.invitations.invite("Tove", ["viewer"])
        again = users.sessions.load(found.token)
        assert again is not None
        self.assertEqual((again.attributes, again.language), ({"district": "NR"}, "de"))
        log = AuditLog(store)
        log.note(
            Actor("ina"),
            AuditEvent("edit", "light", "1", changes={"Näme": ("ä", None)}),
        )
        self.assertEqual(
            log.read(AuditQuery(), 1)[0].event.changes, {"Näme": ("ä", None)}
        )
        long = {f"Field {n}": (None, "ä" * 400) for n in range(150)}
        log.note(Actor("ina"), AuditEvent("edit", "light", "1", changes=long))
        self.assertEqual(log.read(AuditQuery(), 1)[0].event.changes, long)
        outbox = Outbox(store)
        self.assertFalse(outbox.is_used())
        told = Message("email", "ina@skerry.example", "Näme", {"text": "ä" * 70_000})
        first, second = outbox.prepare([told, replace(told, token="other", error="no")])  # fmt: skip
        self.assertIsNone(outbox.claim())
        outbox.release([first, second])
        claimed = outbox.claim()
        assert claimed is not None
        self.assertEqual((claimed.id, claimed.message), (first, told))
        self.assertIsNone(outbox.claim(), "it is another worker's")
        outbox.mark_failed(claimed, "away", is_final=False)
        self.assertTrue(outbox.decide(second, is_sent=True))
        self.assertFalse(outbox.decide(second, is_sent=True), "it waits already")
        counts = {"waiting": 2, "sent": 0, "failed": 0, "doubtful": 0, "discarded": 0}
        self.assertEqual(outbox.counts(), counts)
        self.assertTrue(outbox.is_used())

    def script(self, number: str = "", moment: str = "TIMESTAMP") -> str:
        hashed = passwords.hash_password(PASSWORD)
        return VERSION_1.format(number=number, moment=moment, hashed=hashed)

    def test_on_sqlite(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            with sqlite3.connect(Path(folder, "accounts.db")) as raw:
                raw.executescript(self.script())
            self.check("sqlite:///accounts.db", Path(folder))

    @needs("postgresql")
    def test_on_postgresql(self) -> None:
        script = self.script("GENERATED BY DEFAULT AS IDENTITY (START 9)")
        url = make_server_database(
            type(self), POSTGRESQL, "lumet_test_accounts", script
        )
        self.check(url, Path())
        with self.assertRaises(CannotStart) as caught:
            open_store(url, Path(), url)
        self.assertIn("a database of their own", str(caught.exception))
        # two who demote each other at once: one is refused
        store = open_store(url, Path())
        self.addCleanup(store.engine.dispose)
        users = Users(store, AccountPolicy(), administrator_roles=["administrator"])
        pair = (users.find("ina").id, users.add("eva", PASSWORD, ["administrator"]))
        done = []

        def demote(number: int) -> None:
            with suppress(AccountError):
                users.set_roles(number, ["viewer"])
                done.append(number)

        with ThreadPoolExecutor(2) as pool:
            list(pool.map(demote, pair))
        self.assertEqual(len(done), 1)

    @needs("mariadb")
    def test_on_mariadb(self) -> None:
        script = self.script("AUTO_INCREMENT", "DATETIME")
        url = make_server_database(type(self), MARIADB, "lumet_test_accounts", script)
        self.check(url, Path())
        store = open_store(url, Path())
        self.addCleanup(store.engine.dispose)
        with store.reading() as connection:
            tables = connection.execute(text("SHOW TABLES")).scalars().all()
        self.assertIn("log_entry", tables)
