"""The list of readings as one would write it by hand for this one table: Flask,
SQLAlchemy Core and Jinja, with the session read from a store, the navigation, a search,
25 rows of 8 columns with the titles of two references, paging by key, a capped count.

    FLOOR_DATABASE=… FLOOR_ACCOUNTS=… waitress-serve --call bench.floor.lists:create_app
"""

import json
import os
from datetime import datetime
from typing import Any

from flask import Flask, abort, redirect, request, session
from sqlalchemy import (
    Column,
    DateTime,
    ForeignKey,
    Integer,
    MetaData,
    Numeric,
    Select,
    String,
    Table,
    bindparam,
    create_engine,
    func,
    literal,
    select,
    text,
)

metadata = MetaData()
light = Table(
    "light", metadata, Column("id", Integer, primary_key=True), Column("name", String)
)
keeper = Table(
    "keeper", metadata, Column("id", Integer, primary_key=True), Column("name", String)
)
reading = Table(
    "reading", metadata,
    Column("id", Integer, primary_key=True),
    Column("code", String),
    Column("light_id", ForeignKey("light.id")),
    Column("keeper_id", ForeignKey("keeper.id")),
    Column("taken_at", DateTime),
    Column("lamp_current_a", Numeric(6, 2)),
    Column("battery_v", Numeric(5, 2)),
    Column("temperature_c", Integer),
    Column("result", String),
)  # fmt: skip
USER = text(
    "SELECT u.id, u.name, s.began_at, s.seen_at, r.role FROM user_session s"
    " JOIN app_user u ON u.id = s.user_id JOIN user_role r ON r.user_id = u.id WHERE s.token = :token"
)
RESULTS = {"ok": ("Passed", "green"), "dim": ("Dim", "amber"), "out": ("Out", "red")}
MENU = [(f"table_{n}", f"Coastal table {n}") for n in range(11)] + [("light", "Lights"), ("keeper", "Keepers"), ("reading", "Readings")]  # fmt: skip
MARK = select(light.c.name).where(light.c.id == bindparam("light"))
LABELS = ["Light", "Keeper", "Taken at", "Lamp current, A", "Battery, V", "Temperature, °C", "Result"]  # fmt: skip
MAX_COUNT = 10_000
SIZE = 25
LINKS = ("First", "Earlier", "Later", "Last")

PAGE = """<!doctype html>
<html lang="en-GB"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1"><title>Readings</title>
<link rel="icon" href="/static/icon.svg"><link rel="stylesheet" href="/static/bootstrap.css"><link rel="stylesheet" href="/static/theme.css"></head>
<body><a class="skip" href="#work">To the page</a>
<div class="frame"><nav class="side" aria-label="Tables"><a class="name" href="/">Readings</a>
<details class="tables" open><summary>Tables</summary><section><h2>Records</h2><ul>
{% for name, label in menu %}<li><a href="/t/{{ name }}"{% if name == "reading" %} aria-current="page"{% endif %}>{{ label }}</a></li>
{% endfor %}</ul></section></details>
<div class="me"><div><b><a href="/profile">{{ user.name }}</a></b>{{ user.role }}</div><form method="post" action="/sign-out"><input type="hidden" name="token" value="{{ token }}"><button>Sign out</button></form></div></nav>
<main class="work" id="work">
<div class="head"><h1>Readings</h1><div class="count">{% if count > most %}more than {{ "{:,}".format(most) }}{% else %}{{ "{:,}".format(count) }}{% endif %}</div>
<div class="acts"><a class="btn plain" href="?panel=views">Views</a><a class="btn plain" href="?panel=out">Take out</a><a class="btn main" href="/t/reading/add">Add reading</a></div></div>
<div class="bar"><form role="search"><input type="search" name="q" value="{{ q }}" aria-label="Search" placeholder="Search"><button class="btn">Search</button></form>
{% if mark %}<span class="mark">Light <b>{{ mark }}</b><a href="?" aria-label="Without Light {{ mark }}">×</a></span>{% endif %}<a class="btn plain" href="?panel=filter">Filter</a></div>
<div class="sheet scroll" tabindex="0" role="region" aria-label="Readings"><table class="rows"><thead><tr><th scope="col"><a href="?sort=code">Reading</a></th>
{% for label in labels %}<th scope="col"><a href="?sort={{ loop.index }}">{{ label }}</a></th>{% endfor %}</tr></thead><tbody>
{% for row in rows %}<tr><td><input type="checkbox" form="several" name="row" value="{{ row.id }}" aria-label="{{ row.code }}"><a class="title" href="/t/reading/r/{{ row.id }}">{{ row.code }}</a></td>
<td>{% if row.light %}<a href="/t/light/r/{{ row.light_id }}">{{ row.light }}</a>{% else %}<span class="none">–</span>{% endif %}</td><td>{% if row.keeper %}<a href="/t/keeper/r/{{ row.keeper_id }}">{{ row.keeper }}</a>{% else %}<span class="none">–</span>{% endif %}</td>
<td>{{ moment(row.taken_at) }}</td>{% for value in (row.lamp_current_a, row.battery_v, row.temperature_c) %}<td class="num">{% if value is none %}<span class="none">–</span>{% else %}{{ number(value) }}{% endif %}</td>{% endfor %}
{% set label, tone = results[row.result] %}<td><span class="state {{ tone }}">{{ label }}</span></td>
<td class="row-acts"><a href="/t/reading/r/{{ row.id }}/edit">Edit</a> <a href="/t/reading/add?like={{ row.id }}">Copy</a> <a href="/t/reading/r/{{ row.id }}/delete">Delete</a></td></tr>
{% endfor %}</tbody></table></div>
<div class="pager"><nav class="acts" aria-label="Pages">
{% for label, address in links %}{% if address %}<a class="btn" href="{{ address }}">{{ label }}</a>{% else %}<span class="btn" aria-disabled="true">{{ label }}</span>{% endif %}{% endfor %}</nav></div>
</main></div><script src="/static/pages.js" defer></script></body></html>"""


def moment(value: datetime) -> str:
    """Write a moment."""
    return value.strftime("%d %b %Y, %H:%M")


def number(value: Any) -> str:
    """Write a number."""
    return f"{value:,}"


def _filters(shape: tuple[str, ...]) -> list[Any]:
    found = []
    if "light" in shape:
        found.append(reading.c.light_id == bindparam("light"))
    if "q" in shape:
        found.append(reading.c.code.like(bindparam("q")))
    return found


def _statement(shape: tuple[str, ...]) -> Select[Any]:
    joined = reading.outerjoin(light, light.c.id == reading.c.light_id)
    joined = joined.outerjoin(keeper, keeper.c.id == reading.c.keeper_id)
    names = light.c.name.label("light"), keeper.c.name.label("keeper")
    base = (
        select(reading, *names)
        .select_from(joined)
        .where(*_filters(shape))
        .limit(SIZE + 1)
    )
    at, key = reading.c.taken_at, reading.c.id
    if "last" in shape:
        return base.order_by(at.asc(), key.asc())
    if "same" in shape:
        base = base.where(at == bindparam("at"), key < bindparam("key"))
    elif "behind" in shape:
        base = base.where(at < bindparam("at"))
    return base.order_by(at.desc(), key.desc())


def create_app() -> Flask:
    """Make the application over the database and the accounts that the environment names."""
    app = Flask(__name__)
    app.secret_key = "only for measuring"
    engine = create_engine(os.environ["FLOOR_DATABASE"])
    users = create_engine(os.environ["FLOOR_ACCOUNTS"])
    page = app.jinja_env.from_string(PAGE)
    kept: dict[tuple[str, ...], Any] = {}

    def statement(*shape: str) -> Any:
        if shape not in kept:
            kept[shape] = _statement(shape)
        return kept[shape]

    def counting(*shape: str) -> Any:
        key = ("count", *shape)
        if key not in kept:
            inner = select(literal(1)).select_from(reading).where(*_filters(shape))
            kept[key] = select(func.count()).select_from(
                inner.limit(MAX_COUNT + 1).subquery()
            )
        return kept[key]

    @app.get("/sign-in/<token>")
    def sign_in(token: str) -> str:
        session["token"] = token
        return ""

    @app.get("/t/reading")
    def show() -> Any:
        with users.connect() as connection:
            user = connection.execute(USER, {"token": session.get("token")}).first()
        if user is None:
            return redirect("/sign-in")
        if user.role != "administrator":
            abort(403)
        shape, bound = [], {}
        for name, pattern in (("light", "{}"), ("q", "{}%")):
            if given := request.args.get(name):
                shape.append(name)
                bound[name] = int(given) if name == "light" else pattern.format(given)
        with engine.connect() as connection:
            if after := request.args.get("after"):
                at, key = json.loads(after)
                place = {"at": datetime.fromisoformat(at), "key": key, **bound}
                rows = connection.execute(statement(*shape, "same"), place).all()
                if len(rows) <= SIZE:
                    rows += connection.execute(statement(*shape, "behind"), place).all()
            elif "last" in request.args:
                rows = connection.execute(statement(*shape, "last"), bound).all()[
                    SIZE::-1
                ]
            else:
                rows = connection.execute(statement(*shape), bound).all()
            count = connection.execute(counting(*shape), bound).scalar_one()
            mark = connection.execute(MARK, bound).scalar() if "light" in bound else ""
        rows = rows[:SIZE]
        later = json.dumps([rows[-1].taken_at.isoformat(), rows[-1].id]) if rows else ""
        links = zip(LINKS, ("?", "", f"?after={later}", "?last=1"), strict=True)
        return page.render(
            rows=rows, count=count, most=MAX_COUNT, menu=MENU, user=user, labels=LABELS,
            results=RESULTS, links=links, moment=moment, number=number,
            q=request.args.get("q", ""), token=session["token"], mark=mark,
        )  # fmt: skip

    @app.get("/bare")
    def bare() -> str:
        with engine.connect() as connection:
            rows = connection.execute(statement()).all()[:SIZE]
        return "".join(f"<p>{row.code} {row.light} {row.keeper}" for row in rows)

    return app
