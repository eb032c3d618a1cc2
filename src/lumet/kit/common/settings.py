"""Settings from the environment and, where that is silent, from the file `.env`.

The file `.env`, the store of users and the uploads lie in the state folder: the current
folder, or the one that STATE_FOLDER in the environment names.

| name | meaning | default |
|---|---|---|
| DATABASE_URL | the business database | none: needed |
| SECRET_KEY | signs sessions; keep it secret | none: needed |
| ACCOUNTS_URL | the store of users | sqlite:///accounts.db |
| LANGUAGE | how dates and numbers are written | as generated |
| UPLOADS | the folder of what people upload | uploads |
| UPLOAD_MB | the largest file, in millions of bytes | 10 |
| TIME_ZONE | that of users who have chosen none | UTC |
| MAP_TILES | where maps have their pictures from, such as https://tiles.example/{z}/{x}/{y}.png | none: a grid |
| MAP_ATTRIBUTION | whose pictures those are, shown on the map | none |
| PROXY | the proxies in front, whose X-Forwarded-For and -Proto count: addresses or networks with commas between, or their number | none |
| URL_PREFIX | the path below which a proxy has the application, such as /lights | none |
| EXPORT_MB | the largest export, in millions of bytes | 2000 |
| HTTPS | 1 where the application is reached by https | 0 |
| TRUSTED_HOSTS | the names it is reached by, with commas between | this machine's own |
| SESSION_IDLE_HOURS | a session that rests so long ends | 10 |
| SESSION_DAYS | every session ends after so long | 7 |
| PASSWORD_LENGTH | the fewest characters of a password | 12 |
| READ_ONLY | 1: nothing can be written, which every page says | 0 |
| REHEARSAL | 1: changes of the business database are rolled back, and nothing is sent | 0 |
| LOG_DAYS | entries of the activity log are kept so long; 0: for ever | 730 |
| OUTBOX_DAYS | what was sent stays in the outbox so long; 0: for ever | 90 |
| SMTP_HOST | the server that sends e-mails | none |
| SMTP_SECURITY | starttls, tls or none | starttls |
| SMTP_PORT | its port | 587; 465 for tls, 25 for none |
| SMTP_USER, SMTP_PASSWORD | how it knows the application | none |
| MAIL_FROM | the address that e-mails come from | none |
| WEBHOOK_NAME_URL | the address of the webhook NAME | none |
| WEBHOOK_NAME_SECRET | what signs its requests, such as whsec_…; several with blanks between | none |
| WEBHOOKS_TO_PRIVATE_ADDRESSES | 1 where webhooks may lead into the own network | 0 |
"""

import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from urllib.parse import unquote
from zoneinfo import available_timezones

from dotenv import dotenv_values

from .exceptions import CannotStart
from .proxies import Proxies, read_prefix, read_proxies

SQLITE = "sqlite:///"
LOCAL_HOSTS = ("localhost", "127.0.0.1", "[::1]")
STATE = "STATE_FOLDER"
INSTALLED = ("site-packages", "dist-packages")  # folders that packages are put into
MIN_SECRET_LENGTH = 32  # characters; 192 bits as urlsafe text


@dataclass(frozen=True, slots=True)
class Settings:
    """All settings. Relative SQLite paths start at `folder`."""

    folder: Path
    database_url: str
    secret_key: str = field(repr=False)
    former_keys: tuple[str, ...] = field(default=(), repr=False)
    accounts_url: str = SQLITE + "accounts.db"
    language: str = ""
    time_zone: str = "UTC"
    uploads: Path = Path("uploads")
    upload_mb: int = 10
    export_mb: int = 2000
    proxy: Proxies = field(default_factory=Proxies)
    prefix: str = ""
    https: bool = False
    trusted_hosts: tuple[str, ...] = ()
    session_idle_hours: int = 10
    session_days: int = 7
    password_length: int = 12
    log_days: int = 730
    outbox_days: int = 90
    map_tiles: str = ""
    map_attribution: str = ""
    is_read_only: bool = False
    is_rehearsal: bool = False
    given: Mapping[str, str] = field(default_factory=dict, repr=False)  # as it is

    def own(self, declared: Sequence["OwnSetting"]) -> dict[str, str]:
        """Return the values of settings of your own code. Raises CannotStart, naming
        every one that is missing."""
        found = {
            each.name: self.given.get(each.name) or each.default for each in declared
        }
        missing = [e.name for e in declared if e.is_required and not found[e.name]]
        if missing:
            raise CannotStart(
                f"{' and '.join(missing)}: not set.\n"
                f"  Set it in the environment or in {self.folder / '.env'}."
            )
        return found


@dataclass(frozen=True, slots=True, kw_only=True)
class OwnSetting:
    """A setting of your own code, from the environment or `.env`."""

    name: str
    default: str = ""
    is_required: bool = False


def state_folder(environment: Mapping[str, str] | None = None) -> Path:
    """Return the folder of `.env`, the store of users and the uploads: the one that
    STATE_FOLDER names, else the current one.

    Raises CannotStart for one that is not there, and for one of an installed package,
    which the next installation would remove.
    """
    given = os.environ if environment is None else environment
    folder = Path(given.get(STATE) or ".").absolute()
    if not folder.is_dir():
        raise CannotStart(f"{STATE}: there is no folder {folder}.")
    if set(INSTALLED) & set(folder.resolve().parts):
        raise CannotStart(
            f"{folder} belongs to an installation; nothing is kept there.\n"
            f"  Start in another folder, or name one in {STATE}."
        )
    return folder


def read_settings(
    folder: Path | None = None, environment: Mapping[str, str] | None = None
) -> Settings:
    """Read the settings of the application whose state is in `folder`, by default in
    `state_folder`.

    Raises CannotStart, naming every setting that is missing.
    """
    folder = state_folder(environment) if folder is None else folder
    kept = dotenv_values(folder / ".env", interpolate=False)
    given = {name: value for name, value in kept.items() if value is not None}
    given.update(os.environ if environment is None else environment)
    missing = [name for name in ("DATABASE_URL", "SECRET_KEY") if not given.get(name)]
    if missing:
        raise CannotStart(
            f"{' and '.join(missing)}: not set.\n"
            f"  Set it in the environment or in {folder / '.env'}, or start where"
            f" .env is, or name its folder in {STATE}."
        )
    if len(given["SECRET_KEY"]) < MIN_SECRET_LENGTH:
        raise CannotStart(
            f"SECRET_KEY is shorter than {MIN_SECRET_LENGTH} characters.\n"
            '  Make one: python -c "import secrets; print(secrets.token_urlsafe(48))"'
        )
    return Settings(
        folder=folder,
        given=given,
        database_url=given["DATABASE_URL"],
        secret_key=given["SECRET_KEY"],
        # sessions that were signed by a key before go on until they end
        former_keys=_words(given.get("FORMER_SECRET_KEYS")),
        accounts_url=given.get("ACCOUNTS_URL") or SQLITE + "accounts.db",
        language=given.get("LANGUAGE") or "",
        time_zone=_zone(given.get("TIME_ZONE") or "UTC"),
        uploads=folder / (given.get("UPLOADS") or "uploads"),
        upload_mb=_number(given, "UPLOAD_MB", 10, 1),
        export_mb=_number(given, "EXPORT_MB", 2000, 1),
        proxy=read_proxies(given.get("PROXY") or ""),
        prefix=read_prefix(given.get("URL_PREFIX") or ""),
        https=is_on(given, "HTTPS"),
        map_tiles=_tiles(given.get("MAP_TILES") or ""),
        map_attribution=given.get("MAP_ATTRIBUTION") or "",
        is_read_only=is_on(given, "READ_ONLY"),
        is_rehearsal=is_on(given, "REHEARSAL"),
        trusted_hosts=_words(given.get("TRUSTED_HOSTS")),
        session_idle_hours=_number(given, "SESSION_IDLE_HOURS", 10, 1),
        session_days=_number(given, "SESSION_DAYS", 7, 1),
        password_length=_number(given, "PASSWORD_LENGTH", 12, 8),
        log_days=_number(given, "LOG_DAYS", 730, 0),
        outbox_days=_number(given, "OUTBOX_DAYS", 90, 0),
    )


def is_on(given: Mapping[str, str], name: str) -> bool:
    """Tell whether a setting is on."""
    return given.get(name, "0") not in ("", "0", "no", "false")


def _words(text: str | None) -> tuple[str, ...]:
    """Return the words of a setting that lists some, with commas between them."""
    return tuple(each.strip() for each in (text or "").split(",") if each.strip())


def _zone(name: str) -> str:
    """Return the name of a time zone. Raises CannotStart for another word."""
    if name not in available_timezones():
        raise CannotStart(
            f"TIME_ZONE: there is no time zone {name!r}.\n"
            "  Name one of the tz database, such as Europe/Lisbon."
        )
    return name


def _tiles(address: str) -> str:
    """Return the address of the tiles of maps. Raises CannotStart for what is none."""
    is_whole = all(part in address for part in ("{z}", "{x}", "{y}"))
    if address and not (address.startswith(("https://", "http://")) and is_whole):
        raise CannotStart(
            f"MAP_TILES: {address!r} is no address of tiles.\n"
            "  Write it as https://tiles.example/{z}/{x}/{y}.png."
        )
    return address


def tiles_origin(address: str) -> str:
    """Return the origin of the tiles of maps, as a content policy names it; "" for
    none."""
    scheme, _sep, rest = address.partition("://")
    return f"{scheme}://{rest.partition('/')[0].replace('{s}', '*')}" if rest else ""


def _number(given: Mapping[str, str], name: str, default: int, least: int) -> int:
    """Return a whole number among the settings. Raises CannotStart for another
    value."""
    word = given.get(name) or str(default)
    if not word.isdecimal() or int(word) < least:
        raise CannotStart(f"{name}: {word!r} is no whole number of at least {least}.")
    return int(word)


def sqlite_path(url: str, folder: Path) -> Path:
    """Return the file that a `sqlite:///` address names; one that exists as it is
    written wins over the same with its escapes resolved."""
    plain = url.removeprefix(SQLITE)
    literal = folder / plain
    return literal if literal.exists() else folder / unquote(plain)
