"""E-mails and webhooks of changes and actions: each is sent where its change was kept, and
else never, whatever fails, hangs or is killed."""

import base64
import hmac
import json
import os
import signal
import subprocess
import sys
import threading
import unittest
from collections.abc import Callable
from contextlib import nullcontext, suppress
from datetime import timedelta
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any, ClassVar
from unittest import mock

from aiosmtpd.controller import Controller
from sqlalchemy import text
from sqlalchemy.exc import IntegrityError

from lumet.kit.accounts.audit_log import AuditLog, recorded
from lumet.kit.accounts.outbox import EMAIL, WAITS, Message, Outbox
from lumet.kit.accounts.store import open_store
from lumet.kit.delivery import webhooks
from lumet.kit.delivery.errors import NotSent
from lumet.kit.delivery.webhooks import PRIVATE, is_public, read_receiver, send_webhook
from lumet.kit.delivery.worker import Worker
from tests.support.projects import PASSWORD, ApplicationCase, read_form
from tests.support.served import Client, free_port, start, wait_for

SECRET = base64.b64encode(b"for tests alone, 24 bytes").decode()
CODE = '''"""Buoys: who is told of them."""

from datetime import date
from decimal import Decimal

from ..kit.custom import ADD, DELETE, Action, ActionCall, Change, Email, UsersOf, Webhook
from ..tables.buoy import BuoyPages


class OwnBuoyPages(BuoyPages):
    """The pages of buoys."""

    actions = (Action("alarm", "Alarm"),)

    def write(self, change: Change) -> None:
        super().write(change)
        name = change.after["name"]
        subject, values = f"{name}:\\nadrift", {"name": name}
        if change.kind == ADD:
            change.send(Email(["duty@skerry.example", change.after["email"]], subject, "adrift", values))
        elif change.kind == DELETE:
            change.send(Email("duty@skerry.example", "Gone", "missing"))
        elif change.sets("depth"):
            change.send(Webhook("DUTY", "buoy.moved", {"name": name, "on": date(2026, 1, 2), "depth": Decimal("1.50")}))
            change.send(Email(UsersOf("editor"), subject, "adrift", values))

    def committed(self, change: Change) -> None:
        if change.after["name"] == "Loud":
            change.send(Webhook("DUTY", "buoy.loud"))

    def alarm(self, call: ActionCall) -> None:
        call.edit({"name": call.values["name"] + "!"})
        call.send(Email("duty@skerry.example", "Alarm", "adrift", {"name": "<b>"}))
'''  # fmt: skip
# a program that is killed at the worst moments
KILLED = '''"""Yours."""

import os
import signal

from ..kit.accounts.outbox import Outbox
from ..kit.custom import setting, OwnSetting

SETTINGS = (OwnSetting(name="KILLED_AT"),)


def dies(name: str) -> None:
    usual = getattr(Outbox, name)

    def method(self, *given):
        if setting("KILLED_AT") == name:
            if name == "prepare":
                usual(self, *given)
            os.kill(os.getpid(), signal.SIGKILL)
        return usual(self, *given)

    setattr(Outbox, name, method)


dies("prepare")
dies("release")
'''
TEMPLATES = {
    "adrift.txt": "{{ name }} is adrift: {{ link }}\n",
    "adrift.html": '{% extends "mail/base.html" %}{% block text %}<p>{{ name }} is adrift.</p>{% endblock %}',
}


class Letters:
    """A server of e-mails that keeps what comes, or `says` something else."""

    def __init__(self) -> None:
        self.kept: list[Any] = []
        self.says = ""

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
        import email.policy

        if self.says:
            return self.says
        told = email.message_from_bytes(envelope.content, policy=email.policy.default)
        self.kept.append(told)
        return "250 Taken"


class Receiver(BaseHTTPRequestHandler):
    """A receiver of webhooks that does what it is told to."""

    seen: ClassVar[list[tuple[dict[str, str], str]]] = []
    answers: ClassVar[Callable[[], int]]

    def do_POST(self) -> None:
        body = self.rfile.read(int(self.headers["Content-Length"])).decode()
        self.seen.append(({k.lower(): v for k, v in self.headers.items()}, body))
        status = type(self).answers()
        with suppress(OSError):
            self.send_response(status)
            if status == 302:
                self.send_header("Location", "/elsewhere")
            self.end_headers()

    def log_message(self, *_: Any) -> None:
        pass


def verified(headers: dict[str, str], body: str) -> bool:
    """Tell whether a request is signed as the specification has it."""
    signed = f"{headers['webhook-id']}.{headers['webhook-timestamp']}.{body}".encode()
    digest = hmac.new(base64.b64decode(SECRET), signed, "sha256").digest()
    return headers["webhook-signature"] == f"v1,{base64.b64encode(digest).decode()}"


class OutboxTest(ApplicationCase):
    SCRIPT = """
        CREATE TABLE buoy (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, depth NUMERIC(4,1), email VARCHAR(80),
          CHECK (name <> 'Never'));
        INSERT INTO buoy VALUES (1, 'North', 3.0, 'north@skerry.example');
    """

    @classmethod
    def decide(cls) -> None:
        path = cls.folder / "access.toml"
        path.write_text(path.read_text() + '\n[user]\nemail = "text"\n')
        buoy = cls.folder / "design/tables/buoy.toml"  # addresses are checked when sent
        buoy.write_text(buoy.read_text() + '\n[field.email]\nkind = "text"\n')

    @classmethod
    def create_app(cls) -> Any:
        custom = cls.folder / cls.package / "custom"
        (custom / "buoy.py").write_text(CODE)
        (custom / "templates/mail").mkdir(parents=True)
        for name, words in TEMPLATES.items():
            (custom / "templates/mail" / name).write_text(words)
        return super().create_app()

    def setUp(self) -> None:
        super().setUp()
        self.outbox = self.app.extensions["site"].log.outbox
        self.store("DELETE FROM outbox")
        self.letters = Letters()
        smtp = Controller(self.letters, hostname="127.0.0.1", port=free_port())
        smtp.start()
        self.addCleanup(smtp.stop)
        self.hooks = ThreadingHTTPServer(("127.0.0.1", 0), Receiver)
        self.addCleanup(self.hooks.server_close)
        threading.Thread(target=self.hooks.serve_forever, daemon=True).start()
        self.addCleanup(self.hooks.shutdown)
        Receiver.seen.clear()
        Receiver.answers = staticmethod(lambda: 204)
        self.settings = {
            "SMTP_HOST": "127.0.0.1",
            "SMTP_PORT": str(smtp.port),
            "SMTP_SECURITY": "none",
            "MAIL_FROM": "Skerry Lights <lights@skerry.example>",
            "WEBHOOK_DUTY_URL": f"http://127.0.0.1:{self.hooks.server_port}/duty?x=1",
            "WEBHOOK_DUTY_SECRET": f"whsec_{SECRET}",
            PRIVATE: "1",
        }

    def store(self, statement: str) -> list[Any]:
        """Execute a statement in the accounts store behind the application's back."""
        with self.outbox.store.writing() as connection:
            result = connection.execute(text(statement))
            return [tuple(row) for row in result] if result.returns_rows else []

    def states(self) -> list[str]:
        return [each.state for each in reversed(self.outbox.read("", 20))]

    def later(self) -> None:
        """Let the time pass until everything is due, and leases are over."""
        self.store("UPDATE outbox SET due_at = '2000-01-01 00:00:00.000000', at = '2000-01-01 00:00:00.000000'")  # fmt: skip

    def work(self) -> int:
        return Worker(self.outbox, self.settings).send_due()

    def move(self, client: Any, depth: str) -> Any:
        form = self.form_data(client, "/t/buoy/r/1/edit")
        return client.post("/t/buoy/r/1/edit", data=form | {"depth": depth})

    def test_what_is_kept_is_sent_and_nothing_else(self) -> None:
        client = self.client()
        added = {"id": "2", "name": "South", "depth": "1", "email": "no address"}
        self.assertEqual(client.post("/t/buoy/add", data=added).status_code, 302)
        never = client.post("/t/buoy/add", data=added | {"name": "Never"})
        self.assertEqual(never.status_code, 422)
        with self.assertLogs(level="ERROR") as logged:  # there is no such template
            answer = client.post("/t/buoy/r/1/delete")
        self.assertIn("own code failed", answer.text)
        self.assertIn("mail/missing.txt", logged.output[0])
        self.assertEqual(len(self.rows("SELECT id FROM buoy")), 2)
        self.assertEqual(self.states(), ["waiting", "failed"])
        self.assertEqual(self.work(), 1)
        self.assertEqual(self.work(), 0)
        (letter,) = self.letters.kept
        self.assertEqual(letter["To"], "duty@skerry.example")
        self.assertEqual(letter["Subject"], "South: adrift")
        plain = letter.get_body(("plain",)).get_content()
        self.assertEqual(plain.strip(), "South is adrift: http://localhost/t/buoy/r/2")
        self.assertIn("<p>South is adrift.</p>", letter.get_body(("html",)).get_content())  # fmt: skip
        self.assertEqual(client.post("/t/buoy/r/1/action/alarm").status_code, 302)
        self.work()
        html = self.letters.kept[1].get_body(("html",)).get_content()
        self.assertIn("&lt;b&gt;", html)

    def test_webhooks_are_signed_and_repeated_until_they_are_taken(self) -> None:
        client = self.client()
        users = self.app.extensions["users"]
        for name, address in (("ada", "ada@skerry.example"), ("bo", "")):
            users.add(name, PASSWORD, ["editor"], {"email": address} if address else {})
        answers = iter([500, 302])
        Receiver.answers = staticmethod(lambda: next(answers, 200))
        self.letters.says = "451 Later"
        self.assertEqual(self.move(client, "7").status_code, 302)
        with self.assertLogs(level="WARNING"):
            self.assertEqual(self.work(), 0)
        first, mail = reversed(self.outbox.read("", 9))
        self.assertIn("answered 500", first.message.error)
        self.assertIn("451 Later", mail.message.error)
        self.assertEqual(self.work(), 0, "it waits")
        self.later()
        with self.assertLogs(level="WARNING") as logged:
            self.work()
        self.assertIn("redirects are not followed", " ".join(logged.output))
        waits = self.outbox.read("waiting", 1)[0]
        self.assertEqual(waits.tries, 2)
        self.later()
        self.letters.says = ""
        self.assertEqual(self.work(), 2)
        self.assertEqual(self.letters.kept[0]["To"], "ada@skerry.example")
        self.assertEqual(len(Receiver.seen), 3)
        self.assertEqual(len({headers["webhook-id"] for headers, _ in Receiver.seen}), 1)  # fmt: skip
        for headers, body in Receiver.seen:
            self.assertTrue(verified(headers, body))
            told = json.loads(body)
            self.assertEqual(told["type"], "buoy.moved")
            self.assertEqual(told["data"], {"name": "North", "on": "2026-01-02", "depth": "1.50"})  # fmt: skip
        for status, state in ((410, "failed"), (200, "sent")):
            Receiver.answers = staticmethod(lambda status=status: status)
            self.move(client, str(status / 10))
            with self.assertLogs() if status == 410 else nullcontext():
                self.work()
            self.assertEqual(self.states()[-2], state)
        self.letters.says = "550 No such user"
        self.move(client, "9")
        with self.assertLogs(level="WARNING"):
            self.work()
        self.assertEqual(self.states()[-2:], ["sent", "failed"])
        self.assertEqual(sorted(WAITS), list(WAITS))
        self.assertGreater(sum(WAITS, timedelta()), timedelta(days=1))

    def test_a_hanging_receiver_and_a_worker_that_is_killed(self) -> None:
        client, hanging = self.client(), threading.Event()
        self.addCleanup(hanging.set)
        begun = threading.Event()

        def hang() -> int:
            begun.set()
            hanging.wait(60)
            return 200

        Receiver.answers = staticmethod(hang)
        self.move(client, "8")
        environment = {**os.environ, **self.settings, "PYTHONPATH": str(self.folder), "PYTHONUNBUFFERED": "1"}  # fmt: skip
        command = [sys.executable, "-m", self.package, "worker"]
        worker = subprocess.Popen(command, cwd=self.folder, env=environment,
                                  stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)  # fmt: skip
        wait_for(worker, "Sending")
        self.assertTrue(begun.wait(30))
        worker.send_signal(signal.SIGKILL)
        worker.wait()
        assert worker.stdout is not None
        worker.stdout.close()
        Receiver.answers = staticmethod(lambda: 200)
        once = [*command, "--once"]
        nothing = subprocess.run(once, cwd=self.folder, env=environment, capture_output=True, text=True, check=True)  # fmt: skip
        self.assertIn("Sent: 0", nothing.stdout, "another may still be sending it")
        self.later()
        done = subprocess.run(once, cwd=self.folder, env=environment, capture_output=True, text=True, check=True)  # fmt: skip
        self.assertIn("Sent: 1", done.stdout)
        tokens = {headers["webhook-id"] for headers, _ in Receiver.seen}
        self.assertEqual((len(Receiver.seen), len(tokens)), (2, 1))
        with mock.patch.object(webhooks, "SECONDS", 0.2):
            Receiver.answers = staticmethod(hang)
            self.move(client, "6")
            with self.assertLogs(level="WARNING") as logged:
                self.work()
        self.assertIn("timed out", logged.output[0])

    def test_a_crash_between_the_two_commits_leaves_it_doubtful(self) -> None:
        custom = self.folder / self.package / "custom"
        (custom / "__init__.py").write_text(KILLED)
        self.addCleanup((custom / "__init__.py").write_text, '"""Yours."""\n')
        client = self.client()
        for moment, kept in (("prepare", 3.0), ("release", 5.0)):
            process, port, _said = start(self, self.package, self.folder, self.folder, KILLED_AT=moment)  # fmt: skip
            browser = Client(port)
            browser.sign_in("administrator", PASSWORD)
            form = read_form(browser.get("/t/buoy/r/1/edit").text)
            with suppress(OSError, EOFError):
                browser.post("/t/buoy/r/1/edit", form | {"depth": "5"})
            self.assertEqual(process.wait(20), -signal.SIGKILL)
            self.assertEqual(self.rows("SELECT depth FROM buoy"), [(kept,)])
        self.assertEqual(self.states(), [], "for a minute a transaction may go on")
        self.later()
        self.assertEqual((self.work(), self.states()), (0, ["doubtful"] * 4))
        page = client.get("/outbox").text
        self.assertIn("4 messages are doubtful.", page)
        self.assertIn('<a href="/t/buoy/r/1">', page)
        hook, mail = [each.id for each in reversed(self.outbox.read("doubtful", 9))][2:]
        self.assertIn("buoy.moved", client.get(f"/outbox/{hook}").text)
        for number, chosen in ((hook, "send"), (mail, "discard")):
            answer = client.post(f"/outbox/{number}", data={"do": chosen}, follow_redirects=True)  # fmt: skip
            self.assertEqual(answer.status_code, 200)
        self.assertEqual(self.states()[2:], ["waiting", "discarded"])
        self.assertEqual(self.work(), 1)
        self.assertTrue(verified(*Receiver.seen[0]))
        log = client.get("/log?kind=action").text
        self.assertIn("sends the message to DUTY", log)
        for role in ("editor", "viewer"):
            other = self.client(role)
            self.assertEqual(other.get("/outbox").status_code, 404)
            self.assertEqual(other.post(f"/outbox/{mail}", data={"do": "send"}).status_code, 404)  # fmt: skip
        self.assertEqual(self.states()[3], "discarded")

    def test_what_committed_sends_and_a_store_of_version_9(self) -> None:
        client = self.client()
        form = self.form_data(client, "/t/buoy/r/1/edit")
        client.post("/t/buoy/r/1/edit", data=form | {"name": "Loud"})
        self.assertEqual(self.states(), ["waiting"])
        self.work()
        self.assertEqual(json.loads(Receiver.seen[0][1])["type"], "buoy.loud")
        self.store("UPDATE store_version SET version = 9")
        self.store("DROP TABLE outbox")
        store = open_store("sqlite:///accounts.db", self.folder)
        self.addCleanup(store.engine.dispose)
        outbox = Outbox(store, days=30)
        number, other = outbox.prepare([Message(EMAIL, "a@b.example", "", {})] * 1 + [Message(EMAIL, "b@b.example", "", {})])  # fmt: skip
        outbox.release([number])
        claimed = [outbox.claim(), outbox.claim()]
        self.assertEqual([each and each.id for each in claimed], [number, None])
        outbox.mark_sent(number)
        outbox.withdraw([number, other])
        self.assertEqual(self.states(), ["sent"])
        log = AuditLog(store, outbox=outbox)
        refused, lost = IntegrityError("", None, Exception()), KeyboardInterrupt()
        for error in (refused, lost):
            with self.assertRaises(type(error)), recorded(log) as recording:
                recording.send([Message(EMAIL, "a@b.example", "", {})])
                recording.begin()
                raise error
        self.later()
        self.assertEqual(self.states(), ["sent", "doubtful"], "of the second nobody knows")  # fmt: skip
        outbox.decide(outbox.read("doubtful", 1)[0].id, is_sent=False)
        self.later()
        outbox.sweep()
        self.assertEqual(self.states(), [])


class PrivateAddressTest(unittest.TestCase):
    def test_nothing_is_sent_into_the_own_network(self) -> None:
        for address, is_allowed in (
            ("127.0.0.1", False), ("10.1.2.3", False), ("169.254.169.254", False), ("0.0.0.0", False),
            ("100.64.0.1", False), ("224.0.0.1", False), ("::1", False), ("fe80::1%eth0", False),
            ("fd00::1", False), ("::ffff:127.0.0.1", False), ("64:ff9b::7f00:1", False),
            ("2002:7f00:1::", False), ("8.8.8.8", True), ("2606:4700::1111", True),
        ):  # fmt: skip
            self.assertEqual(is_public(address), is_allowed, address)
        message = Message("webhook", "DUTY", "x", {"body": "{}"})
        for url, said in (
            ("https://127.0.0.1/x", "private address"),
            ("https://localhost/x", "private address"),
            ("https://2130706433/x", "private address"),
            ("http://8.8.8.8/x", "must begin with https://"),
            ("ftp://8.8.8.8/x", "must be https://"),
            ("https://me@8.8.8.8/x", "must be https://"),
            ("https://[::1/x", "cannot be understood"),
        ):
            given = {"WEBHOOK_DUTY_URL": url, "WEBHOOK_DUTY_SECRET": SECRET}
            with self.assertRaisesRegex(NotSent, said):
                send_webhook(read_receiver(given, "DUTY"), message)
        for secret, said in (("", "not set"), ("whsec_!", "base64"), ("whsec_c2hvcnQ=", "24 bytes")):  # fmt: skip
            given = {"WEBHOOK_DUTY_URL": "https://x.example", "WEBHOOK_DUTY_SECRET": secret}  # fmt: skip
            with self.assertRaisesRegex(NotSent, said):
                read_receiver(given, "DUTY")
