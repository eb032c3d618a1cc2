"""Settings from the environment and, where that is silent, from the file `.env`.

| name | meaning | default |
|---|---|---|
| DATABASE_URL | the business database | none: needed |
| SECRET_KEY | signs sessions; keep it secret | none: needed |
| ACCOUNTS_URL | the store of users | sqlite:///accounts.db |
| LANGUAGE | how dates and numbers are written | as generated |
| HTTPS | 1 where the application is reached by https | 0 |
"""

import os
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from urllib.parse import unquote

from dotenv import dotenv_values

from .errors import CannotStart

SQLITE = "sqlite:///"
SHORTEST_SECRET = 32  # characters; 192 bits as urlsafe text


@dataclass(frozen=True, slots=True)
class Settings:
    """All settings. Relative SQLite paths start at `folder`."""

    folder: Path
    database_url: str
    secret_key: str = field(repr=False)
    accounts_url: str = SQLITE + "accounts.db"
    language: str = ""
    https: bool = False


def read_settings(
    folder: Path, environment: Mapping[str, str] | None = None
) -> Settings:
    """Read the settings of the application in `folder`.

    Raises CannotStart, naming every setting that is missing.
    """
    kept = dotenv_values(folder / ".env", interpolate=False)
    given = {name: value for name, value in kept.items() if value is not None}
    given.update(os.environ if environment is None else environment)
    missing = [name for name in ("DATABASE_URL", "SECRET_KEY") if not given.get(name)]
    if missing:
        raise CannotStart(
            f"{' and '.join(missing)}: not set.\n"
            f"  Set it in the environment or in {folder / '.env'}."
        )
    if len(given["SECRET_KEY"]) < SHORTEST_SECRET:
        raise CannotStart(
            f"SECRET_KEY is shorter than {SHORTEST_SECRET} characters.\n"
            '  Make one: python -c "import secrets; print(secrets.token_urlsafe(48))"'
        )
    return Settings(
        folder=folder,
        database_url=given["DATABASE_URL"],
        secret_key=given["SECRET_KEY"],
        accounts_url=given.get("ACCOUNTS_URL") or SQLITE + "accounts.db",
        language=given.get("LANGUAGE") or "",
        https=given.get("HTTPS", "0") not in ("", "0", "no", "false"),
    )


def sqlite_path(url: str, folder: Path) -> Path:
    """Return the file that a `sqlite:///` address names; one that exists as it is
    written wins over the same with its escapes resolved."""
    plain = url.removeprefix(SQLITE)
    literal = folder / plain
    return literal if literal.exists() else folder / unquote(plain)
