"""The list of lamp readings as one would write it for this one table: Flask, sqlite3,
one template with the menu, a signed-in user, paging by key, the joined titles of two
tables, a capped count."""

import sqlite3
from datetime import datetime
from pathlib import Path

from flask import Flask, request, session

PAGE = """<!doctype html><title>Readings</title><nav>{% for name, label in menu %}<a href="/t/{{ name }}">{{ label }}</a>{% endfor %}
<b>{{ user }}</b></nav><h1>Readings</h1><p>{{ count }}</p>
<table><tr><th>Reading<th>Current<th>Battery<th>Temperature<th>Alarm</tr>
{% for r in rows %}<tr><td><a href="/r/{{ r[0] }}">{{ r[1] }} · {{ r[2] }} · {{ r[3] }}</a>
<td>{{ "–" if r[4] is none else r[4] }}<td>{{ r[5] }}<td>{{ r[6] }}<td>{{ "Yes" if r[7] else "No" }}</tr>
{% endfor %}</table>
{% if rows %}<a href="?after={{ rows[-1][3] }},{{ rows[-1][0] }}">Later</a>{% endif %}"""
COLUMNS = """SELECT r.id, s.name, l.name, r.taken_at, r.lamp_current_a, r.battery_v,
    r.temperature_c, r.is_alarm FROM lamp_reading r
    LEFT JOIN light l ON l.id = r.light_id LEFT JOIN station s ON s.id = l.station_id"""
COUNT = "SELECT count(*) FROM (SELECT 1 FROM lamp_reading LIMIT 10001)"


MENU = [
    (name, name.capitalize())
    for name in [
        "inspections",
        "findings",
        "keepers",
        "readings",
        "lights",
        "stations",
        "overview",
        "logbook",
        "districts",
        "lenses",
    ]
]
USER = """SELECT u.name, r.role FROM app_user u LEFT JOIN user_role r ON r.user_id = u.id
    WHERE u.id = ?"""


def create_app(path: Path, accounts: Path) -> Flask:
    """Make the page over the demo's database and its users."""
    app = Flask(__name__)
    app.secret_key = "only for measuring"
    users = sqlite3.connect(accounts, check_same_thread=False)
    page = app.jinja_env.from_string(PAGE)
    connection = sqlite3.connect(path, check_same_thread=False)

    @app.get("/sign-in")
    def sign_in() -> str:
        session["user"] = 1
        return ""

    @app.get("/")
    def show() -> str:
        user = users.execute(USER, (session["user"],)).fetchall()
        assert user[0][1] == "administrator"
        if "last" in request.args:
            rows = connection.execute(
                f"{COLUMNS} ORDER BY r.taken_at, r.id LIMIT 26"
            ).fetchall()[::-1]
        else:
            rows = connection.execute(
                f"{COLUMNS} ORDER BY r.taken_at DESC, r.id DESC LIMIT 26"
            ).fetchall()
        shown = [
            (
                *row[:3],
                datetime.fromisoformat(row[3]).strftime("%d %b %Y, %H:%M"),
                *row[4:],
            )
            for row in rows[:25]
        ]
        count = connection.execute(COUNT).fetchone()[0]
        return page.render(rows=shown, count=count, menu=MENU, user=user[0][0])

    return app
