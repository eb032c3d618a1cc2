"""Files that people upload: checked by what is in them, kept under names that nobody
guesses, and deleted only where this application stored them.

A file is stored as soon as it arrives, and waits; saving the record keeps it. One that
no record refers to is removed after a day.
"""

import re
import secrets
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import IO, Any

import filetype  # type: ignore[import-untyped]
from flask_babel import gettext as _
from sqlalchemy import delete, func, insert, select, update

from ..accounts.store import upload
from ..accounts.throttle import now
from ..db.engine import Database

WAITING, KEPT = "waiting", "kept"
WAITS = timedelta(days=1)
WAITING_SHARE = 20  # of the largest file: the room for files of one user that wait
MAX_PIXELS = 20_000_000  # of a picture: drawn, it takes four bytes each
HEAD = 8192  # bytes that tell what a file is
DOCUMENTS = {  # media types, with the ending of their files
    "application/pdf": "pdf",
    "application/vnd.openxmlformats-officedocument.wordprocessingml.document": "docx",
    "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet": "xlsx",
    "application/vnd.openxmlformats-officedocument.presentationml.presentation": "pptx",
    "application/vnd.oasis.opendocument.text": "odt",
    "application/vnd.oasis.opendocument.spreadsheet": "ods",
    "application/zip": "zip",
}
PICTURES = {"PNG": "png", "JPEG": "jpg", "GIF": "gif", "WEBP": "webp"}
SHOWN = {"png": "image/png", "jpg": "image/jpeg", "jpeg": "image/jpeg",
         "gif": "image/gif", "webp": "image/webp"}  # fmt: skip
TEXTS = ("txt", "csv", "md", "log")
_TOKEN_BYTES = 16
_MAX_STEM_LENGTH = 40  # characters of the name that a file came with


class UploadRejected(ValueError):
    """A file is not taken; the message is for people."""


@dataclass(frozen=True, slots=True)
class Place:
    """Where a field keeps its files: the folder, below that of all uploads; what it
    takes: pictures alone or documents too, names and contents up to so long."""

    folder: str
    images: bool
    longest_name: int = 200
    most_bytes: int = 0  # 0: as many as the settings allow
    table: str = ""
    column: str = ""


@dataclass(frozen=True, slots=True)
class Upload:
    """One file that was uploaded, and which record has it."""

    id: int
    token: str
    folder: str
    name: str
    original: str
    size: int
    at: datetime
    user: str
    state: str
    table: str
    column: str
    key: str


class Uploads:
    """The files in `folder`, with what is known of them in the accounts store."""

    def __init__(self, folder: Path, store: Database, most_bytes: int) -> None:
        self.folder = folder
        self.store = store
        self.most_bytes = most_bytes

    def take(
        self, place: Place, original: str, stream: IO[bytes], user: tuple[int, str]
    ) -> str:
        """Store a file that arrives; return the token by which the form names it.

        Raises UploadRejected for one that is too large, or not of a kind that is taken.
        """
        self._sweep()
        most = min(place.most_bytes or self.most_bytes, self.most_bytes)
        if self._waiting_bytes(user[0]) > WAITING_SHARE * self.most_bytes:
            raise UploadRejected(
                _(
                    "Too many of your files are waiting to be saved. Save their "
                    "forms, or try again tomorrow."
                )
            )
        content = stream.read(most + 1)
        if len(content) > most:
            raise UploadRejected(
                _(
                    "This file is larger than %(size)s. Choose a smaller one.",
                    size=size_text(most),
                )
            )
        ending = ending_of(content, original, place.images)
        token = secrets.token_urlsafe(_TOKEN_BYTES)
        name = _name(original, token, ending, place.longest_name)
        target = self.folder / place.folder / name
        try:
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_bytes(content)
            target.chmod(0o600)
        except OSError as error:
            raise UploadRejected(
                _("The file could not be stored. Ask an administrator.")
            ) from error
        values = {
            "token": token,
            "folder": place.folder,
            "name": name,
            "original": original[-200:],
            "size": len(content),
            "at": now(),
            "user_id": user[0],
            "user_name": user[1][:80],
            "state": WAITING,
            "record_table": place.table,
            "record_column": place.column,
            "record_key": "",
        }
        with self.store.writing() as connection:
            connection.execute(insert(upload).values(values))
        return token

    def _waiting_bytes(self, user_id: int) -> int:
        """Return the size of all files of a user that no record has yet."""
        mine = (upload.c.user_id == user_id) & (upload.c.state == WAITING)
        with self.store.reading() as connection:
            found = connection.scalar(select(func.sum(upload.c.size)).where(mine))
        return int(found or 0)

    def waiting(self, token: str, folder: str, user_id: int) -> Upload | None:
        """Return a file of this user's that waits to be kept in `folder`."""
        mine = (upload.c.token == token) & (upload.c.user_id == user_id)
        mine &= (upload.c.folder == folder) & (upload.c.state == WAITING)
        with self.store.reading() as connection:
            row = connection.execute(select(upload).where(mine)).first()
        return _upload(row) if row else None

    def keep(self, token: str, key: str) -> None:
        """Note that a record has a file for good."""
        values = {"state": KEPT, "record_key": key}
        mine = upload.c.token == token
        with self.store.writing() as connection:
            connection.execute(update(upload).where(mine).values(values))

    def drop(self, token: str) -> None:
        """Take a file away that this application stored."""
        mine = upload.c.token == token
        with self.store.writing() as connection:
            row = connection.execute(select(upload).where(mine)).first()
            if row is None:
                return
            connection.execute(delete(upload).where(mine))
        (self.folder / row.folder / row.name).unlink(missing_ok=True)

    def let_go(self, place: Place, name: str, is_used: Callable[[], bool]) -> None:
        """Remove the file that a record no longer has: only one that this application
        stored there, and that no other record has."""
        same = (upload.c.folder == place.folder) & (upload.c.name == name)
        same &= upload.c.state == KEPT
        with self.store.reading() as connection:
            token = connection.scalar(select(upload.c.token).where(same))
        if token is not None and not is_used():
            self.drop(token)

    def find(self, folder: str, name: str) -> Path | None:
        """Return the file that a column names, None where there is none in its
        folder."""
        root = (self.folder / folder).resolve()
        try:
            target = (root / name).resolve()
            inside = target.is_relative_to(root) and target.is_file()
        except (OSError, ValueError):
            return None
        return target if inside else None

    def listed(self, size: int, before: int = 0) -> list[Upload]:
        """Return uploads, the latest first, those older than the one called
        `before`."""
        wanted = select(upload).order_by(upload.c.id.desc()).limit(size)
        if before:
            wanted = wanted.where(upload.c.id < before)
        with self.store.reading() as connection:
            return [_upload(row) for row in connection.execute(wanted)]

    def _sweep(self) -> None:
        old = (upload.c.state == WAITING) & (upload.c.at < now() - WAITS)
        with self.store.reading() as connection:
            tokens = connection.scalars(select(upload.c.token).where(old)).all()
        for token in tokens:
            self.drop(token)


def _upload(row: Any) -> Upload:
    return Upload(
        id=row.id,
        token=row.token,
        folder=row.folder,
        name=row.name,
        original=row.original,
        size=row.size,
        at=row.at,
        user=row.user_name,
        state=row.state,
        table=row.record_table,
        column=row.record_column,
        key=row.record_key,
    )


def ending_of(content: bytes, original: str, images: bool) -> str:
    """Return the ending that the name of a file is to have, by what is in it.

    Raises UploadRejected for what is not taken.
    """
    if not content:
        raise UploadRejected(_("This file is empty."))
    if picture := _picture_ending(content):
        return picture
    if images:
        raise UploadRejected(
            _("This is not an image. Choose a PNG, JPEG, GIF or WebP file.")
        )
    guessed = filetype.guess(content[:HEAD])
    if guessed is not None and guessed.mime in DOCUMENTS:
        return DOCUMENTS[guessed.mime]
    ending = original.rpartition(".")[2].lower()
    if guessed is None and ending in TEXTS and _is_text(content):
        return ending
    raise UploadRejected(
        _(
            "Files of this type are not accepted. Choose an image, a PDF, an "
            "office file or a text."
        )
    )


def _picture_ending(content: bytes) -> str:
    import io

    from PIL import Image, UnidentifiedImageError  # slow to import

    try:
        with Image.open(io.BytesIO(content), formats=tuple(PICTURES)) as found:
            if found.width * found.height > MAX_PIXELS:
                millions = MAX_PIXELS // 1_000_000
                raise UploadRejected(
                    _("This image has more than %(n)s million pixels. Choose a smaller "
                      "one.",
                      n=millions)
                )  # fmt: skip
            found.verify()
            return PICTURES[str(found.format)]
    except UploadRejected:
        raise
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError):
        return ""
    except Image.DecompressionBombError:
        return ""


def _is_text(content: bytes) -> bool:
    try:
        text = content.decode("utf-8-sig")
    except UnicodeDecodeError:
        return False
    return not re.search(
        r"[\x00-\x08\x0e-\x1f]|<\s*(script|html|svg|!doctype)", text, re.IGNORECASE
    )


def _name(original: str, token: str, ending: str, longest: int) -> str:
    """Return the name to store a file under: what it came with, as far as that is plain
    and there is room, and what nobody guesses."""
    room = longest - len(token) - len(ending) - 2
    if room < -1:
        raise UploadRejected(_("The column is too short for a file name."))
    stem = re.split(r"[/\\]", original)[-1].rpartition(".")[0]
    plain = re.sub(r"[^a-z0-9]+", "-", stem.lower()).strip("-")[
        : min(room, _MAX_STEM_LENGTH)
    ]
    return f"{plain}-{token}.{ending}" if plain and room > 0 else f"{token}.{ending}"


def shown_name(name: str) -> str:
    """Return the name of a file without what nobody guesses."""
    last = name.rpartition("/")[2]
    return re.sub(r"^(.+)-[\w-]{22}(\.\w+)$", r"\1\2", last)


def size_text(size: int) -> str:
    """Write a number of bytes: 12 KB, 3.4 MB."""
    if size < 1000:
        return f"{size} B"
    return f"{size / 1000:.0f} KB" if size < 1_000_000 else f"{size / 1_000_000:.1f} MB"
