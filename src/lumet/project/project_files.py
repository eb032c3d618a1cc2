"""The project folder: its files, its settings, its lock."""

import hashlib
import keyword
import re
import sys
from collections.abc import Collection, Iterable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from importlib.util import find_spec
from pathlib import Path
from typing import Any

from dotenv import dotenv_values
from filelock import FileLock, Timeout

from lumet.design.decision_file import Checker, DecisionFile
from lumet.design.decision_schema import Entry
from lumet.errors import CannotRun, LumetError, Mistake
from lumet.facts.model import Table
from lumet.generation.merge_writer import MANIFEST, STATE

SURVEY = "survey.json"
SETTINGS = "lumet.toml"
ACCESS = "access.toml"
PATTERNS = "design/patterns.toml"
TABLES = "design/tables"
FRONT = "design/front.toml"
CARD_PAGES = "design/pages"
ENV = ".env"
IGNORE = ".gitignore"
ATTRIBUTES = ".gitattributes"
IGNORED = (".env", "accounts.db*", "uploads/", "rehearsal.html", "populated.db", "__pycache__/",
           f"{STATE}/lock", f"{STATE}/staging/")  # fmt: skip
_BASES = f"{STATE}/** -diff linguist-generated\n"  # what merging compares with
_SETTINGS_KEYS = (
    "name",
    "package",
    "language",
    "schemas",
    "tables",
    "skip",
    "private",
    "include",
    "menu",
)
IDENTITY = ("name", "package")  # decided by the first survey
_LIST_KEYS = ("schemas", "tables", "skip", "private", "include", "menu")
MAX_FILE_LENGTH = 120  # bytes of a file's name, without its extensions
_UNSAFE = re.compile(r"""[\x00-\x1f\x7f"%*/:<>?\\|.\ud800-\udfff]|^ | $""")
_DEVICES = frozenset({"CON", "PRN", "AUX", "NUL", "COM1", "LPT1"})
_OWN_FOLDERS = frozenset({"design", "tests", "uploads", "docs", "lumet", "custom"})


@dataclass(frozen=True, slots=True)
class ProjectSettings:
    """The settings in `lumet.toml`."""

    name: str
    package: str
    language: str
    schemas: tuple[str, ...] = ()
    tables: tuple[str, ...] = ()
    skip: tuple[str, ...] = ()
    private: tuple[str, ...] = ()
    include: tuple[str, ...] = ()  # files of patterns that projects share
    menu: tuple[str, ...] = ()  # groups and tables that come first, in their order


@contextmanager
def locked(folder: Path) -> Iterator[None]:
    """Let one command at a time work on the project in `folder`.

    Raises CannotRun when another one does, or when the folder cannot be written.
    """
    state = folder / STATE
    state = state.absolute()
    made = [each for each in (*reversed(state.parents), state) if not each.exists()]
    try:
        state.mkdir(parents=True, exist_ok=True)
        lock = FileLock(state / "lock", timeout=0)
        lock.acquire()
    except Timeout as error:
        raise CannotRun(
            f"Another lumet command is running in {folder}.",
            "Wait until it has finished, then try again.",
        ) from error
    except OSError as error:
        raise CannotRun(
            f"{folder.absolute()} cannot be written: {error.strerror}.",
            "Choose another folder with --project, or check its rights.",
        ) from error
    try:
        yield
    except LumetError:
        _undo(made, state)
        raise
    finally:
        lock.release()


def _undo(made: list[Path], state: Path) -> None:
    """Remove the folders that this run created, as far as they are empty."""
    (state / "lock").unlink(missing_ok=True)
    for folder in reversed(made):
        if folder.is_dir() and not any(folder.iterdir()):
            folder.rmdir()


def _escaped(part: str) -> str:
    return _UNSAFE.sub(lambda odd: f"%{ord(odd[0]):02X}", part)


def safe_name(table: str) -> str:
    """Return the name of a table's decision file, as most are called: without its
    ending."""
    return ".".join(map(_escaped, table.split(".", 1)))


def table_file(table: Table, taken: Collection[str]) -> str:
    """Return the path of the decision file of a table; what some file system does not
    take is escaped, and a name that differs from one of `taken` (in lower case) only by
    case is numbered."""
    parts = [table.schema, table.own_name] if table.schema else [table.name]
    safe = ".".join(map(_escaped, parts))
    if safe.upper() in _DEVICES:
        safe += "%20"
    if len(safe.encode()) > MAX_FILE_LENGTH:
        digest = hashlib.sha256(safe.encode()).hexdigest()[:12]
        safe = (
            safe.encode()[: MAX_FILE_LENGTH - 13].decode(errors="ignore") + f"~{digest}"
        )
    wanted = safe
    number = 2
    while f"{wanted}.toml".lower() in taken:
        wanted = f"{safe}~{number}"
        number += 1
    return f"{TABLES}/{wanted}.toml"


def table_files(tables: Iterable[Table]) -> dict[str, str]:
    """Return the decision file of every table that has a column, by table."""
    taken: set[str] = set()
    found: dict[str, str] = {}
    for table in tables:
        if table.columns:
            found[table.name] = table_file(table, taken)
            taken.add(Path(found[table.name]).name.lower())
    return found


def read_text(folder: Path, path: str) -> str | None:
    """Return the text of a file in the project, None when it is not there.

    Raises LumetError for one that is not UTF-8.
    """
    try:
        return (folder / path).read_bytes().decode("utf-8")
    except FileNotFoundError:
        return None
    except UnicodeDecodeError as error:
        raise LumetError(
            f"{path}: byte {error.start + 1} is not UTF-8.", "Save the file as UTF-8."
        ) from error
    except OSError as error:
        raise CannotRun(f"{path} cannot be read: {error.strerror}.") from error


def inferred_settings(stem: str) -> tuple[Entry, ...]:
    """Return the settings for a database whose file is called `stem`."""
    words = [word for word in re.split(r"[\W_]+", stem) if word]
    name = " ".join(word[:1].upper() + word[1:] for word in words) or "Application"
    return (
        Entry(("name",), name, "the application's name, from the database's"),
        Entry(("package",), package_name("_".join(words)), "its Python package"),
        Entry(("language",), "en_GB", "how dates and numbers are written"),
    )


def package_name(wanted: str) -> str:
    """Return a package name near `wanted` that hides no other module."""
    name = re.sub(r"\W+", "_", wanted).strip("_").lower()
    if not name.isidentifier() or not name.isascii():
        name = (
            f"app_{name}" if f"app_{name}".isidentifier() and name.isascii() else "app"
        )
    return f"{name}_app" if why_not_package(name) else name


def why_not_package(name: str) -> str:
    """Say why a package cannot be called `name`, "" when it can."""
    if not name.isidentifier() or not name.isascii() or keyword.iskeyword(name):
        return "is not a Python name"
    if name in _OWN_FOLDERS:
        return "is a folder of the project"
    if name in sys.stdlib_module_names or _is_installed(name):
        return "would hide an installed module of this name"
    return ""


def _is_installed(name: str) -> bool:
    try:
        found = find_spec(name)
    except (ImportError, ValueError):
        return False
    # a project's own package, seen from its folder, is not an installed one
    origin = found.origin if found else None
    return found is not None and bool(origin) and "site-packages" in str(origin)


def read_settings(
    folder: Path, inferred: tuple[Entry, ...], mistakes: list[Mistake]
) -> ProjectSettings:
    """Return the project's settings: yours in lumet.toml over the inferred ones."""
    return parse_settings(read_text(folder, SETTINGS) or "", inferred, mistakes)


def parse_settings(
    text: str, inferred: tuple[Entry, ...], mistakes: list[Mistake]
) -> ProjectSettings:
    """Return the settings that the text of a lumet.toml decides."""
    values: dict[str, Any] = {entry.path[0]: entry.value for entry in inferred}
    checker = Checker(DecisionFile(SETTINGS, text), mistakes)
    for key, value in checker.values.items():
        if not checker.known((key,), key, _SETTINGS_KEYS, "There is no setting"):
            continue
        if key in _LIST_KEYS:
            values[key] = checker.texts((key,), value) or ()
        elif checker.text((key,), value):
            values[key] = value
    why = why_not_package(values["package"])
    if why:
        checker.wrong(("package",), f'"{values["package"]}" {why}. Choose another.')
    language = values["language"]
    if not re.fullmatch(r"[a-z]{2,3}(_[A-Za-z]{2,4})*", language):
        checker.wrong(("language",), f'"{language}" is not a language, such as en_GB.')
    return ProjectSettings(**values)


def included_files(folder: Path) -> tuple[str, ...]:
    """Return the files of patterns that lumet.toml includes, as it names them."""
    mistakes: list[Mistake] = []
    text = read_text(folder, SETTINGS) or ""
    found = Checker(DecisionFile(SETTINGS, text), mistakes).values.get("include", [])
    names = found if isinstance(found, list) else []
    return tuple(each for each in names if isinstance(each, str))


def read_environment(folder: Path) -> dict[str, str]:
    """Return the variables of `.env`."""
    found = dotenv_values(folder / ENV, interpolate=False)
    return {name: value for name, value in found.items() if value is not None}


def with_environment(text: str, values: Mapping[str, str]) -> str:
    """Return the text of `.env` with `values` set, all else as it was."""
    for name, value in values.items():
        line = f"{name}='{value.replace(chr(39), '%27')}'"
        pattern = re.compile(rf"^(?:export\s+)?{name}\s*=.*$", re.MULTILINE)
        if pattern.search(text):
            text = pattern.sub(lambda _, line=line: line, text, count=1)  # type: ignore[misc]
        else:
            text += ("" if not text or text.endswith("\n") else "\n") + line + "\n"
    return text


def with_ignored(text: str) -> str:
    """Return the text of `.gitignore` with what must not be committed added."""
    return _with_lines(text, [f"{pattern}\n" for pattern in IGNORED])


def with_attributes(text: str) -> str:
    """Return the text of `.gitattributes` with Lumet's own files kept out of diffs."""
    return _with_lines(text, [_BASES])


def _with_lines(text: str, lines: Iterable[str]) -> str:
    present = {line.strip() for line in text.splitlines()}
    missing = [line for line in lines if line.strip() not in present]
    if not missing:
        return text
    start = text if not text or text.endswith("\n") else text + "\n"
    return start + "".join(missing)


def require_files(folder: Path) -> None:
    """Raise LumetError when a project that was surveyed has lost its settings or its
    access rules, which must not be made up anew."""
    if not any((folder / path).exists() for path in (SURVEY, MANIFEST)):
        return
    for path, rest in (
        (SETTINGS, 'or write the package in it: package = "…"'),
        (ACCESS, "or create an empty one: the ready roles then hold"),
    ):
        if not (folder / path).exists():
            raise LumetError(
                f"{path} is missing in {folder}.",
                f"Restore it from version control, {rest}.",
            )
