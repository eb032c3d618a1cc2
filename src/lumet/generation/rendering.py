"""From the model to the text of every file, checked before any is written."""

import hashlib
import subprocess
import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from importlib.resources import files
from importlib.resources.abc import Traversable
from pathlib import Path
from typing import Any

from jinja2 import Environment, PackageLoader, StrictUndefined
from ruff import find_ruff_bin

from lumet.design.icons import icons_as_svg
from lumet.design.toml_statements import format_value
from lumet.errors import LumetError
from lumet.expressions.conditions import NAME
from lumet.facts.dialects import server_of
from lumet.generation.cards import card_pages_code
from lumet.generation.empty_copy import sqlite_schema
from lumet.generation.model import Application
from lumet.generation.roles import ALL, build_roles
from lumet.generation.tables import build_tables, module_names

DEPENDENCIES = (
    "argon2-cffi>=23.1,<26",
    "babel>=2.15,<3",
    "cachetools>=5.5,<9",
    "flask>=3.1,<4",
    "flask-babel>=4.0,<5",
    "flask-login>=0.6.3,<0.8",
    "flask-wtf>=1.2,<2",
    "filetype>=1.2,<2",
    "pillow>=11,<14",
    "python-dotenv>=1.0,<2",
    "sqlalchemy>=2.1,<2.2",
    "tzdata>=2024.1",
    "urllib3>=2.2,<3",
    "waitress>=3.0,<4",
    "wtforms>=3.2,<4",
    "xlsxwriter>=3.2,<4",
    "zxcvbn>=4.5,<5",
)


class RenderedWrong(LumetError):
    """A file that was rendered is not what it should be: a fault of Lumet's."""


@dataclass(frozen=True, slots=True)
class Rendered:
    """The content of every file by its path in the project: those that are `wanted`,
    which follow the decisions, and those that are written `once` and then yours.
    `drafts` are digests of the modules before they were formatted."""

    wanted: dict[str, bytes]
    once: dict[str, bytes]
    drafts: dict[str, str]


Known = Callable[[str, str], bytes | None]


def render(
    application: Application, known: Known = lambda path, draft: None
) -> Rendered:
    """Render every file. `known` returns the formatted text of a module where that of
    the same draft is at hand."""
    package = application.package
    tables = build_tables(application)
    roles = build_roles(application, tables)
    common = {
        "package": package,
        "name": repr(application.name),
        "name_text": _plain(application.name),
        "dialect": application.dialect,
        "dialect_code": repr(application.dialect),
        "language": repr(application.language),
        "menu": _menu(application),
        "renames": "".join(f"{pair!r}, " for pair in application.renames),
        "tables": tables,
        "roles": roles,
        "attributes": [
            (repr(name), repr(kind))
            for name, kind in application.access.attributes.items()
            if name != NAME
        ],
    }
    card_pages = card_pages_code(application, module_names(application))
    uses_all = any(ALL in (r.rights, *dict(r.tables).values()) for r in roles)
    python = {
        f"{package}/__init__.py": fill("init.py", **common),
        f"{package}/__main__.py": fill("main.py", **common),
        f"{package}/access.py": fill("access.py", **common, uses_all=uses_all),
        f"{package}/cards.py": fill(
            "cards.py",
            card_pages=card_pages,
            labelled=any(
                "_(" in text for page, cards in card_pages for text in (page, *cards)
            ),
        ),
        f"{package}/tables/__init__.py": fill("tables_init.py", **common),
        "tests/__init__.py": '"""The application\'s own tests: python -m unittest."""\n',
        "tests/test_application.py": fill("test_application.py", **common),
        "tests/test_records.py": fill("test_records.py", **common),
        "tests/support/__init__.py": '"""What the tests share."""\n',
        "tests/support/application.py": fill("tests_application.py", **common),
        **{
            f"tests/support/{name}": _browsing(name)
            for name in ("pages.py", "entries.py")
        },
    }
    for table in tables:
        texts = {"name_text": _plain(table.name), "plural_text": _plain(table.plural)}
        path = f"{package}/tables/{table.module}.py"
        python[path] = fill("table.py", t=_View(table, texts))
    description = format_value(application.name)
    requirement = server_of(application.dialect).requirement
    other = {
        "pyproject.toml": fill(
            "pyproject.toml",
            **common,
            dependencies=sorted(
                [*DEPENDENCIES, *([requirement] if requirement else [])]
            ),
            description=description,
        ),
        "README.md": fill(
            "README.md", **common, first_role=application.access.roles[0].name
        ),
    }
    drafts = {
        path: hashlib.sha256(text.encode()).hexdigest()[:16]
        for path, text in python.items()
    }
    found = {path: known(path, draft) for path, draft in drafts.items()}
    wanted = {path: text for path, text in found.items() if text is not None}
    new = {path: text for path, text in python.items() if path not in wanted}
    wanted |= {path: text.encode() for path, text in formatted(new).items()}
    wanted |= {path: text.encode() for path, text in other.items()}
    wanted |= {f"{package}/kit/{path}": content for path, content in _kit().items()}
    if icons := _icons(application):
        wanted[f"{package}/kit/static/icons.svg"] = icons_as_svg(icons).encode()
    if schema := sqlite_schema(application.database):
        wanted["tests/support/schema.sql"] = schema.encode()
    once = {
        f"{package}/custom/__init__.py": fill("custom_init.py").encode(),
        "tests/examples.py": fill("tests_examples.py").encode(),
    }
    return Rendered(wanted, once, drafts)


def _menu(application: Application) -> str:
    """Return the order of the menu as code: groups by their names, tables by those of
    their modules; "" for none."""
    modules = module_names(application)
    names = (modules.get(each, each) for each in application.menu)
    return "".join(f"{name!r}, " for name in names)


def _icons(application: Application) -> set[str]:
    """Return the names of the icons that the application shows."""
    found = {each.icon for each in application.decisions.values() if each.include}
    found |= {page.decided.icon for page in application.card_pages}
    return found - {""}


class _View:
    """A table's model with texts that are safe inside a docstring."""

    def __init__(self, model: Any, texts: dict[str, str]) -> None:
        self._model = model
        self._texts = texts

    def __getattr__(self, name: str) -> Any:
        return self._texts[name] if name in self._texts else getattr(self._model, name)


def _plain(text: str) -> str:
    """Return a name as a docstring can hold it."""
    if text[:1] in "'\"" and text[-1:] == text[:1] and len(text) > 1:
        text = text[1:-1]  # a repr
    printable = "".join(c if c.isprintable() else " " for c in text)
    return printable.replace("\\", "/").replace('"""', "'''").replace('"', "'")


@cache
def _environment() -> Environment:
    return Environment(
        loader=PackageLoader("lumet.generation"),
        trim_blocks=True,
        lstrip_blocks=True,
        keep_trailing_newline=True,
        undefined=StrictUndefined,
        autoescape=False,  # the templates make Python and Markdown, not pages
    )


def fill(template: str, **values: Any) -> str:
    return _environment().get_template(f"{template}.jinja").render(**values)


def formatted(files_: dict[str, str]) -> dict[str, str]:
    """Return the Python files formatted, all in one run of the formatter."""
    if not files_:
        return {}
    with tempfile.TemporaryDirectory(prefix="lumet-") as folder:
        for path, text in files_.items():
            target = Path(folder, path)
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_text(text, encoding="utf-8", newline="\n")
        ran = subprocess.run(
            [find_ruff_bin(), "format", "--isolated", "--no-cache", "--quiet", folder],
            capture_output=True,
            text=True,
            check=False,
        )
        if ran.returncode:
            said = ran.stderr.replace(folder, "").strip()
            raise RenderedWrong(
                f"A generated file is not valid Python: {said}",
                "This is a bug in Lumet; please report it with the definition of the table.",
            )
        return {path: Path(folder, path).read_text(encoding="utf-8") for path in files_}


def _browsing(name: str) -> str:
    """Return a module of page objects for the application's tests."""
    return (files("lumet") / "browsing" / name).read_text("utf-8")


def _kit() -> dict[str, bytes]:
    """Return the shared code, templates and static files by their path in the
    package."""
    found: dict[str, bytes] = {}

    def gather(folder: Traversable, prefix: str) -> None:
        for entry in sorted(folder.iterdir(), key=lambda each: each.name):
            if entry.name == "__pycache__":
                continue
            if entry.is_dir():
                gather(entry, f"{prefix}{entry.name}/")
            elif not entry.name.endswith(".pyc"):
                found[prefix + entry.name] = entry.read_bytes()

    gather(files("lumet") / "kit", "")
    return found
