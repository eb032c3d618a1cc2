"""Every kind of field, typed, saved, read by the driver and shown again: equal to the last
digit that the server can hold, or refused before anything is saved."""

import io
import json
from typing import Any, ClassVar
from unittest import mock

from PIL import Image

from lumet.browsing.pages import Page
from tests.support.capabilities import needs
from tests.support.projects import ApplicationCase
from tests.support.servers import MARIADB, POSTGRESQL, OnServer

TABLES = """
CREATE TABLE lamp (
    id INTEGER PRIMARY KEY, name VARCHAR(12) NOT NULL, words TEXT, tiny {tiny},
    count_no BIGINT, exact DECIMAL(30,12), cost_eur DECIMAL(9,2), share_pct DECIMAL(5,2),
    volts DOUBLE PRECISION, is_lit BOOLEAN, lit_on DATE, opens TIME, seen_at {moment},
    told_at {zoned}, work_duration {duration}, sides {several}, notes {json},
    latitude DECIMAL(9,6), longitude DOUBLE PRECISION, email VARCHAR(60), website VARCHAR(60),
    phone VARCHAR(30), colour VARCHAR(9), api_token VARCHAR(40), chart_image {bytes},
    photo VARCHAR(60), fee_in_cents INTEGER, damp_pct DECIMAL(6,5), wet_pct DOUBLE PRECISION);
INSERT INTO lamp (id, name) VALUES (1, 'Lamp');
"""
DECIDED = """
[field.api_token]
hidden = false
kind = "secret"

[field.photo]
kind = "image"
folder = "lamps"

[field.damp_pct]
storage_format = "fraction"

[field.wet_pct]
storage_format = "fraction"

[field.told_at]
time_zone = "UTC"
"""
UTC_MORNING = "2026-10-25T07:30"
# column, what is typed, what the form then shows; None: refused
CASES: tuple[tuple[str, str, str | None], ...] = (
    ("name", "Ø'<b>&\"", "Ø'<b>&\""),
    ("name", "灯台 🗼", "灯台 🗼"),
    ("name", "thirteen long", None),
    ("name", "", None),
    ("words", "two\nlines", "two\nlines"),
    ("words", "<script>alert(1)</script>", "<script>alert(1)</script>"),
    ("count_no", "9223372036854775807", "9223372036854775807"),
    ("count_no", "-9,223,372,036,854,775,808", "-9223372036854775808"),
    ("count_no", "1.5", None),
    ("exact", "123456789012345678.123456789012", "123456789012345678.123456789012"),
    ("exact", "0.0000000000001", None),
    ("exact", "1e19", None),
    ("cost_eur", "1,234.50", "1234.50"),
    ("cost_eur", "1.234", None),
    ("share_pct", "86.25", "86.25"),
    ("fee_in_cents", "1,234.5", "1234.50"),
    ("fee_in_cents", "-0.07", "-0.07"),
    ("fee_in_cents", "1.234", None),
    ("damp_pct", "62.125", "62.125"),
    ("damp_pct", "0.0001", None),
    ("wet_pct", "7", "7"),
    ("wet_pct", "0.1", "0.1"),
    ("volts", "0.1", "0.1"),
    ("volts", "1e300", "1e+300"),
    ("is_lit", "no", "no"),
    ("lit_on", "17.11.2026", "17 Nov 2026"),
    ("lit_on", "0001-01-01", "0001-01-01"),
    ("lit_on", "2026-02-30", None),
    ("opens", "09:40", "09:40"),
    ("opens", "25:00", None),
    ("seen_at", "2026-11-17T09:40:01.123456", "2026-11-17T09:40:01.123456"),
    ("seen_at", "2026-11-17T09:40+02:00", None),
    ("told_at", "2026-07-01T12:00", "1 Jul 2026, 12:00"),
    ("told_at", "2026-10-25T02:30", None),
    ("told_at", "2026-10-25T02:30+01:00", "2026-10-25T02:30+01:00"),
    ("told_at", "2026-10-25T02:30+02:00", "2026-10-25T02:30+02:00"),
    ("told_at", "2026-03-29T02:30", None),
    ("notes", '{"a": 1.10, "b": [true, "x"]}', '{\n  "a": 1.10,\n  "b": [\n    true,\n    "x"\n  ]\n}'),
    ("notes", "{broken", None),
    ("latitude", "61.204", "61.204000"),
    ("latitude", "61° 12.24′ N", "61.204000"),
    ("latitude", "61 12 14.4 S", "-61.204000"),
    ("latitude", "4 E", None),
    ("latitude", "91", None),
    ("longitude", "4° 7' 5.52\" W", "-4.1182"),
    ("email", "ina@lights.example", "ina@lights.example"),
    ("email", "ina", None),
    ("website", "https://lights.example/a?b=c", "https://lights.example/a?b=c"),
    ("phone", "+47 55 12 34", "+47 55 12 34"),
    ("colour", "#2a6f97", "#2a6f97"),
    ("colour", "teal", None),
)  # fmt: skip


def picture(side: int = 30, kind: str = "PNG") -> io.BytesIO:
    """Return a picture as a file."""
    made = io.BytesIO()
    Image.new("RGB", (side, side), "#e3a21a").save(made, kind)
    made.seek(0)
    return made


class Kinds:
    """The tests, for each kind of database; not a test by itself."""

    DATABASE = "lumet_test_kinds"
    WORDS: ClassVar[dict[str, str]] = {}
    OWN: ClassVar[tuple[tuple[str, str, str | None], ...]] = ()
    BEYOND: ClassVar[frozenset[tuple[str, str]]] = frozenset()

    @classmethod
    def script(cls) -> str:
        return TABLES.format(**cls.WORDS)

    @classmethod
    def decide(cls: Any) -> None:
        path = cls.folder / "design/tables/lamp.toml"
        lines = DECIDED
        if "zone" in cls.WORDS["zoned"]:
            lines = lines.partition("[field.told_at]")[0]
        path.write_text(path.read_text() + lines)

    def setUp(self: Any) -> None:
        super().setUp()  # type: ignore[misc]
        self.change("DELETE FROM lamp")
        self.change("INSERT INTO lamp (id, name) VALUES (1, 'Lamp')")
        self.home = "/t/lamp/r/1"
        self.user = self.client()
        users = self.app.extensions["users"]
        users.set_profile(users.find("administrator").id, "en_GB", "Europe/Oslo")

    def save(self: Any, **typed: Any) -> Any:
        data = self.form_data(self.user, f"{self.home}/edit") | typed
        return self.user.post(
            f"{self.home}/edit", data=data, content_type="multipart/form-data"
        )

    def shown(self: Any, column: str) -> str:
        return str(self.form_data(self.user, f"{self.home}/edit")[column])

    def stored(self: Any, column: str) -> Any:
        return self.rows(f"SELECT {column} FROM lamp WHERE id = 1")[0][0]

    def test_what_is_typed_comes_back_equal_or_is_refused(self: Any) -> None:
        for column, typed, expected in (*CASES, *self.OWN):
            if (column, typed) in self.BEYOND:
                continue
            with self.subTest(column=column, typed=typed):
                before = self.stored(column)
                answer = self.save(**{column: typed})
                if expected is None:
                    self.assertEqual(answer.status_code, 422)
                    self.assertIn(f'href="#field-{column}"', answer.text)
                    self.assertEqual(self.stored(column), before)
                    continue
                self.assertEqual(answer.status_code, 302, answer.text[:20_000])
                self.assertEqual(self.shown(column), expected)
                kept = self.stored(column)
                again = self.save(phone="1234")  # what is not touched stays as it is
                self.assertEqual(again.status_code, 302)
                self.assertEqual(
                    self.stored(column), kept if column != "phone" else "1234"
                )
                if column != "name":
                    self.assertEqual(self.save(**{column: ""}).status_code, 302)
                    self.assertIsNone(self.stored(column))

    def test_the_driver_reads_what_was_meant(self: Any) -> None:
        self.save(exact="123456789012345678.5", told_at="2026-07-01T12:00",
                  latitude="61° 12.24′ N", notes='{"a": 1.10}', fee_in_cents="12.34",
                  damp_pct="62.125", wet_pct="7")  # fmt: skip
        scaled = [float(self.stored(c)) for c in ("fee_in_cents", "damp_pct", "wet_pct")]  # fmt: skip
        self.assertEqual(scaled, [1234, 0.62125, 0.07])
        for asked, count in (("fee_in_cents.from=12.34", 1), ("wet_pct.from=7&wet_pct.to=7", 1), ("damp_pct.to=62", 0)):  # fmt: skip
            page = self.user.get(f"/t/lamp?{asked}").text.replace("\n", "")
            self.assertIn(f'<div class="count">{count}</div>', page, asked)
        self.assertIn("61.204° N", self.user.get(self.home).text)
        self.assertEqual(float(self.stored("latitude")), 61.204)
        found = self.stored("notes")
        self.assertEqual(
            json.loads(found) if isinstance(found, str) else found, {"a": 1.1}
        )
        told = self.stored("told_at")
        if not isinstance(told, str) and told.tzinfo is not None:
            self.assertEqual(told.timestamp(), 1782900000)
        else:
            self.assertEqual(str(told)[:16].replace("T", " "), "2026-07-01 10:00")

    def test_a_secret_is_entered_and_never_shown(self: Any) -> None:
        self.assertEqual(self.save(api_token="hush-1234").status_code, 302)
        self.assertEqual(self.stored("api_token"), "hush-1234")
        for address in (self.home, f"{self.home}/edit", "/t/lamp", "/t/lamp?columns=api_token",
                        "/t/lamp/export.json?columns=api_token", "/t/lamp?q=hush", "/log",
                        "/t/lamp?sort=api_token", "/t/lamp?api_token.begins=hush"):  # fmt: skip
            page = self.user.get(address)
            self.assertEqual(page.status_code, 200, address)
            self.assertNotIn("hush-1234", page.text, address)
        refused = self.save(api_token="typed-5678", name="")
        self.assertIn('value="typed-5678"', refused.text)  # one's own, not lost
        self.assertNotIn("hush-1234", refused.text)
        self.assertEqual(self.save(words="else").status_code, 302)
        self.assertEqual(self.stored("api_token"), "hush-1234")
        form = self.form_data(self.user, f"{self.home}/edit")
        self.change("UPDATE lamp SET api_token = 'of another' WHERE id = 1")
        answer = self.user.post(f"{self.home}/edit", data=form | {"api_token": "mine"})
        self.assertEqual(answer.status_code, 409)
        self.assertNotIn("of another", answer.text)

    def test_pictures_are_stored_served_and_taken_away(self: Any) -> None:
        answer = self.save(
            photo=(picture(), "Tern Holm.png"), chart_image=(picture(), "c.png")
        )
        self.assertEqual(answer.status_code, 302, answer.text[:20_000])
        name = self.stored("photo")
        stored = self.folder / "uploads/lamps" / name
        self.assertRegex(name, r"^tern-holm-[\w-]{22}\.png$")
        self.assertEqual(stored.read_bytes(), picture().getvalue())
        self.assertEqual(bytes(self.stored("chart_image")), picture().getvalue())
        self.assertEqual(list((self.folder / "uploads/waiting").iterdir()), [])
        for column in ("photo", "chart_image"):
            shown = self.user.get(f"{self.home}/file/{column}")
            self.assertEqual(shown.content_type, "image/png")
            self.assertIn("sandbox", shown.headers["Content-Security-Policy"])
            self.assertEqual(shown.headers["X-Content-Type-Options"], "nosniff")
            small = self.user.get(f"{self.home}/picture/{column}")
            self.assertEqual(small.status_code, 200)
        self.assertIn("Tern Holm.png", self.user.get("/uploads").text)
        self.assertEqual(self.client("viewer").get("/uploads").status_code, 404)
        other = self.folder / "uploads/lamps/theirs.png"
        other.write_bytes(picture().getvalue())
        self.save(photo=(picture(kind="JPEG"), "b.jpg"))
        self.assertFalse(stored.exists())
        self.change("UPDATE lamp SET photo = 'theirs.png' WHERE id = 1")
        self.assertEqual(self.user.get(f"{self.home}/file/photo").status_code, 200)
        self.assertEqual(self.save(photo="-").status_code, 302)
        self.assertIsNone(self.stored("photo"))
        self.assertTrue(other.exists())  # not stored by this application
        for path in ("../../coast.db", "/etc/passwd", "../lamps2/x.png"):
            self.change(f"UPDATE lamp SET photo = '{path}' WHERE id = 1")
            self.assertEqual(self.user.get(f"{self.home}/file/photo").status_code, 404)

    def test_what_is_no_picture_is_refused_and_what_is_waits(self: Any) -> None:
        for content, said in (
            (b"<svg onload=alert(1)>", "This is not an image"),
            (b"", "This file is empty."),
            (b"\x89PNG\r\n\x1a\n" + b"x" * 40, "This is not an image"),
            (picture(1).getvalue() + b"x" * 10_000_000, "larger than 10.0 MB"),
        ):
            answer = self.save(photo=(io.BytesIO(content), "a.png"))
            self.assertEqual(answer.status_code, 422)
            self.assertIn(said, answer.text)
            self.assertIsNone(self.stored("photo"))
        answer = self.save(name="", photo=(picture(), "kept.png"))
        self.assertEqual(answer.status_code, 422)
        self.assertIn("not saved yet", answer.text)
        from tests.support.projects import read_form

        typed = read_form(answer.text) | {"name": "Again"}
        thief = self.client("editor")
        self.assertEqual(
            thief.post(f"{self.home}/edit", data=typed).status_code, 422
        )  # what waits for one user is not another's
        self.assertEqual(
            self.user.post(f"{self.home}/edit", data=typed).status_code, 302
        )
        self.assertRegex(self.stored("photo"), r"^kept-")
        # nobody fills the disk with what is never saved
        uploads = self.app.extensions["uploads"]
        with mock.patch.object(type(uploads), "_waiting_bytes", lambda *_: 10**9):
            answer = self.save(photo=(picture(), "more.png"))
        self.assertIn("Too many of your files are waiting", answer.text)
        # several records have no field for a file, and take theirs along when they go
        several = {"do-action": "set", "set-column": "photo", "chosen-row": "1"}
        self.assertEqual(self.user.post("/t/lamp/bulk", data=several).status_code, 404)
        kept = self.folder / "uploads" / "lamps" / self.stored("photo")
        self.assertTrue(kept.exists())
        sure = {"do-action": "delete", "chosen-row": "1"}
        preview = Page(self.user.post("/t/lamp/bulk", data=sure), "").form("form.bar")
        assert preview is not None
        self.user.post("/t/lamp/bulk", data=preview.sent() | {"do-action": "delete"})
        self.assertFalse(kept.exists())


class SqliteKindsTest(Kinds, ApplicationCase):
    WORDS: ClassVar[dict[str, str]] = {
        "tiny": "TEXT", "moment": "TIMESTAMP", "zoned": "TIMESTAMP", "duration": "TIME",
        "several": "TEXT", "json": "JSON", "bytes": "BLOB",
    }  # fmt: skip
    SCRIPT = TABLES.format(**WORDS)
    # SQLite keeps numbers of this length as floating ones
    BEYOND = frozenset({("exact", "123456789012345678.123456789012")})


@needs("postgresql")
class PostgresqlKindsTest(Kinds, OnServer, ApplicationCase):
    SERVER = POSTGRESQL
    WORDS: ClassVar[dict[str, str]] = {
        "tiny": "TEXT", "moment": "TIMESTAMP", "zoned": "TIMESTAMP WITH TIME ZONE",
        "duration": "INTERVAL", "several": "TEXT[]", "json": "JSON", "bytes": "BYTEA",
    }  # fmt: skip
    OWN = (
        ("work_duration", "2 days 4:00", "2 days 04:00:00"),
        ("work_duration", "PT90M", "01:30:00"),
        ("work_duration", "soon", None),
        ("sides", 'north\nso "uth"\nwe\\st', 'north\nso "uth"\nwe\\st'),
    )


@needs("mariadb")
class MariadbKindsTest(Kinds, OnServer, ApplicationCase):
    SERVER = MARIADB
    WORDS: ClassVar[dict[str, str]] = {
        "tiny": "TINYTEXT CHARACTER SET utf8mb4", "moment": "DATETIME(6)", "zoned": "DATETIME(6)",
        "duration": "TIME", "several": "SET('n', 'e', 's', 'w')", "json": "JSON",
        "bytes": "LONGBLOB",
    }  # fmt: skip
    OWN = (
        ("work_duration", "36:15", "36:15:00"),
        ("work_duration", "900:00", None),
        ("sides", "s\nn", "n\ns"),
        ("sides", "up", None),
        ("tiny", "灯" * 85, "灯" * 85),
        ("tiny", "灯" * 86, None),
    )
